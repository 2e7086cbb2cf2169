package register

import (
	"context"
	"encoding/json"
	"slices"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// counted is how the fleet stood when it was counted, and what came and went since it was
// counted before.
type counted struct {
	Standing api.Standing `json:"standing"`
	Found    int          `json:"found,omitempty"`
	Closed   int          `json:"closed,omitempty"`
	Stood    []int64      `json:"stood,omitempty"` // seconds for which the closed ones had been known, sorted
	Until    int64        `json:"until"`           // the newest entry of the journal then
}

// mostStood bounds how many times one count keeps; more are thinned out evenly.
const mostStood = 100

// mostHeld bounds how many times are held between two counts.
const mostHeld = 100_000

// CountHosts notes each hour how the fleet stands.
func (s *Register) CountHosts(ctx context.Context) {
	if err := s.countHour(ctx); err != nil && ctx.Err() == nil {
		s.Log.Error("noting how the fleet stands", "error", err)
	}
}

func (s *Register) countHour(ctx context.Context) error {
	now := s.Now().UTC()
	if now.Sub(s.began) <= 3*s.Opts.Interval+2*time.Second { // hosts were not heard while it did not run
		return nil
	}
	last, err := s.Store.Journal(ctx, store.JournalQuery{Kind: journal.KindDay, Limit: 1})
	if err != nil || len(last) > 0 && !now.Truncate(time.Hour).After(last[0].At) {
		return err
	}
	c, err := s.countNow(ctx, now, last)
	if err != nil || c.Standing.Hosts == 0 && len(last) == 0 {
		return err
	}
	e := s.Entry(journal.Actor{Kind: journal.ActorService}, journal.CommandCount, journal.KindDay, now.Format(time.DateOnly))
	return s.Store.Note(ctx, journal.Detailed(e, c))
}

// countedUntil is the entry of the journal up to which it was counted, by the counts, the newest
// first; where there is none, the last entry of the day before.
func (s *Register) countedUntil(ctx context.Context, now time.Time, counts []store.Entry) (int64, error) {
	if len(counts) > 0 {
		var c counted
		err := json.Unmarshal(counts[0].Detail, &c)
		return c.Until, err
	}
	for before := int64(0); ; {
		entries, err := s.Store.Journal(ctx, store.JournalQuery{Kind: journal.KindHost, Before: before, Limit: countPage})
		if err != nil {
			return 0, err
		}
		for i := range entries {
			if entries[i].At.Before(now.Truncate(24 * time.Hour)) {
				return entries[i].Seq, nil
			}
			before = entries[i].Seq
		}
		if len(entries) < countPage {
			return 0, nil
		}
	}
}

// sinceCount is what came and went since the fleet was counted last: each entry of the journal
// is read once for it, however often somebody asks.
type sinceCount struct {
	mu    sync.Mutex
	after int64 // the newest entry when the fleet was counted last
	gone  counted
}

// countPage is how many entries of the journal are read at once.
const countPage = 2_000

// countNow counts how the fleet stands, and what came and went since the newest of the counts.
func (s *Register) countNow(ctx context.Context, now time.Time, counts []store.Entry) (counted, error) {
	all := count(s.Fleet.All(), now)
	standing, err := s.invited(ctx, all.Sums(), now)
	if err != nil {
		return counted{}, err
	}
	newest, err := s.Store.NewestEntry(ctx)
	if err != nil {
		return counted{}, err
	}
	after, err := s.countedUntil(ctx, now, counts)
	if err != nil {
		return counted{}, err
	}
	t := &s.sinceCount
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.after != after || t.gone.Until < after {
		t.after, t.gone = after, counted{Until: after}
	}
	for t.gone.Until < newest {
		entries, err := s.Store.Journal(
			ctx,
			store.JournalQuery{Kind: journal.KindHost, After: t.gone.Until, Before: newest + 1, Oldest: true, Limit: countPage},
		)
		if err != nil {
			return counted{}, err
		}
		for i := range entries {
			t.gone.add(&entries[i])
		}
		t.gone.Until = newest
		if len(entries) == countPage {
			t.gone.Until = entries[countPage-1].Seq
		}
	}
	c := t.gone
	c.Standing, c.Stood = standing, thinned(t.gone.Stood)
	return c, nil
}

// thinned are times in their order, the same share of them where there are many.
func thinned(stood []int64) []int64 {
	stood = slices.Sorted(slices.Values(stood))
	n := len(stood)
	if n <= mostStood {
		return stood
	}
	out := make([]int64, mostStood)
	for i := range out {
		out[i] = stood[i*n/mostStood]
	}
	return out
}

// add counts what came and went with an entry. What is waived or accepted is not closed.
func (c *counted) add(e *store.Entry) {
	var n ground.News
	if len(e.Detail) == 0 || json.Unmarshal(e.Detail, &n) != nil {
		return
	}
	c.Found += len(n.Came) + n.More
	if e.Command == journal.CommandCheckIn || e.Command == journal.CommandReport {
		c.Closed += n.Went
		if len(c.Stood) < mostHeld {
			c.Stood = append(c.Stood, n.Stood...)
		}
	}
}

// DayQuery says which days are asked for.
type DayQuery struct {
	ground.Paging
	Days int `query:"days" minimum:"1" maximum:"1100" default:"84" doc:"How many days back"`
}

// ListDays tells how the fleet stood day by day: a day on which nobody counted is named as one
// of which nothing is known.
func (s *Register) ListDays(ctx context.Context, in *DayQuery) (*api.DayPage, error) {
	now := s.Now().UTC()
	first := now.AddDate(0, 0, 1-in.Days).Format(time.DateOnly)
	entries, err := s.Store.Journal(ctx, store.JournalQuery{Kind: journal.KindDay, Limit: 25 * in.Days})
	if err != nil {
		return nil, err
	}
	live, err := s.countNow(ctx, now, entries)
	if err != nil {
		return nil, err
	}
	days := []api.Day{}
	d := newDay(now.Format(time.DateOnly))
	d.take(now, &live)
	for i := range entries {
		e := &entries[i]
		var c counted
		if e.Name < first {
			break
		}
		if err := json.Unmarshal(e.Detail, &c); err != nil {
			return nil, err
		}
		for d.day.Day > e.Name {
			days = append(days, d.done())
			d = newDay(dayBefore(d.day.Day))
		}
		d.take(e.At, &c)
	}
	page := api.DayPage{Days: []api.Day{}}
	days = append(days, d.done())
	page.Total = len(days)
	from, to := in.Cut(len(days))
	page.Next = in.Next(len(days))
	page.Days = append(page.Days, days[from:to]...)
	return &page, nil
}

func dayBefore(day string) string {
	t, err := time.Parse(time.DateOnly, day)
	if err != nil { // the service wrote it
		return ""
	}
	return t.AddDate(0, 0, -1).Format(time.DateOnly)
}

// dayCount gathers the counts of a day, the newest first.
type dayCount struct {
	day   api.Day
	stood []int64
}

func newDay(name string) dayCount { return dayCount{day: api.Day{Day: name}} }

func (d *dayCount) take(at time.Time, c *counted) {
	if d.day.Counted == nil {
		d.day.Counted, d.day.Standing = &at, &c.Standing
	}
	d.day.Arisen += c.Found
	d.day.Closed += c.Closed
	d.stood = append(d.stood, c.Stood...)
}

func (d *dayCount) done() api.Day {
	if len(d.stood) > 0 {
		slices.Sort(d.stood)
		d.day.Within = &d.stood[(len(d.stood)-1)/2]
	}
	return d.day
}
