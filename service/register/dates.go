package register

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/ground"
)

// DateQuery says which dates are asked for.
type DateQuery struct {
	ground.Paging
	Kind []string `query:"kind" enum:"contract,key,waiver,review,freeze,certificate" doc:"Only these kinds"`
}

// dates is what falls due from now on, the next first, on one page.
func (s *Register) dates(ctx context.Context) (out api.DatePage, err error) {
	now := s.Now()
	out.Dates = []api.Date{}
	add := func(due time.Time, kind, name, says, detail string) {
		if due.After(now) {
			out.Dates = append(out.Dates, api.Date{Due: due.UTC(), Kind: kind, Name: name, Says: says, Detail: detail})
		}
	}
	books := s.Keeper.Current()
	for i := range books.Contracts {
		c := &books.Contracts[i]
		add(c.End, api.DueContract, c.Number, fmt.Sprintf("The contract %s ends (%s)", c.Number, c.Title),
			seatsTaken(books.Used(c.Account, c.Number), c.Account))
	}
	p, revision, err := s.NewestPolicy(ctx)
	if err != nil {
		return out, err
	}
	out.Revision = revision
	if p != nil {
		for name, k := range p.Keys {
			if e := k.Describe.Expires; e != nil && p.WithdrawalOf(name) == nil {
				add(
					*e,
					api.DueKey,
					name,
					"The signing key "+name+" ends",
					"Repositories that are signed with it alone are refused from then on.",
				)
			}
		}
		for _, a := range p.Assignments {
			if d := a.Without; d != nil {
				var to []string
				for _, t := range a.To {
					to = append(to, t.Value)
				}
				group := strings.Join(to, ", ")
				add(
					d.Review,
					api.DueReview,
					group,
					"Review: "+group+" runs without a contract",
					fmt.Sprintf("%s (%s)", d.Because, d.Author),
				)
			}
		}
	}
	for _, w := range s.Compute.Waivers.All() {
		where := cmp.Or(w.Host, "every host")
		add(w.Ends, api.DueWaiver, strconv.FormatInt(w.ID, 10), "A waiver ends: "+w.Finding.Message,
			fmt.Sprintf("On %s; accepted by %s: %s", where, w.Author, w.Because))
	}
	for _, f := range s.rollouts.Standing() {
		what := "the fleet moves again"
		if f.Scope != "" {
			what = f.Scope + " moves again"
		}
		add(
			f.Until,
			api.DueFreeze,
			strconv.FormatInt(f.ID, 10),
			"A freeze ends: "+what,
			fmt.Sprintf("Frozen by %s: %s", f.Author, f.Because),
		)
	}
	if s.Opts.CertEnds != nil {
		add(s.Opts.CertEnds(), api.DueCertificate, "", "The certificate of this service ends",
			"No host and no browser takes it from then on: every host would be silent. It is read again where its file changes.")
	}
	slices.SortFunc(out.Dates, func(a, b api.Date) int {
		return cmp.Or(a.Due.Compare(b.Due), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
	out.Away = s.Keeper.Away()
	return out, nil
}

// ListDates lists what falls due: contracts, keys, waivers, reviews, freezes, the service's certificate.
func (s *Register) ListDates(ctx context.Context, in *DateQuery) (*api.DatePage, error) {
	page, err := s.dates(ctx)
	if err != nil {
		return nil, err
	}
	if len(in.Kind) > 0 {
		page.Dates = slices.DeleteFunc(page.Dates, func(d api.Date) bool { return !slices.Contains(in.Kind, d.Kind) })
	}
	page.Total = len(page.Dates)
	page.Next = in.Next(page.Total)
	from, to := in.Cut(page.Total)
	page.Dates = page.Dates[from:to]
	return &page, nil
}

// Calendar is what falls due as a calendar (iCalendar).
func (s *Register) Calendar(ctx context.Context) ([]byte, error) {
	page, err := s.dates(ctx)
	if err != nil {
		return nil, err
	}
	c := ics.NewCalendarFor("Patient Lantern")
	c.SetProductId("-//Patient Lantern//What falls due//EN")
	c.SetName("Patient Lantern: what falls due")
	if unknown := page.Unknown(); len(unknown) > 0 {
		c.SetXWRCalDesc(strings.Join(unknown, " "))
	}
	named := map[string]int{}
	for _, d := range page.Dates {
		// The same thing keeps its name, so that a calendar that is read again moves it.
		name := d.Kind + "-" + d.Name
		if named[name]++; named[name] > 1 {
			name = fmt.Sprint(name, "-", named[name])
		}
		e := c.AddEvent(name + "@patient-lantern")
		e.SetDtStampTime(s.Now())
		e.SetStartAt(d.Due)
		e.SetSummary(d.Says)
		e.SetDescription(d.Detail)
		e.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return []byte(c.Serialize(ics.WithNewLineWindows)), nil
}

func seatsTaken(n int, desk string) string {
	if n == 1 {
		return "1 seat of it is taken at the desk " + desk + "."
	}
	return fmt.Sprintf("%d seats of it are taken at the desk %s.", n, desk)
}
