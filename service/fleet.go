package service

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/standing"
	"patientlantern.example/lantern/store"
)

// fleet holds every host in memory. A row is never changed: it is replaced after
// the store has taken the new one.
type fleet struct {
	mu       sync.RWMutex
	byName   map[string]*host
	sorted   []*host
	interval time.Duration
	patience time.Duration
}

type host struct {
	mu       sync.Mutex // held while the row is being replaced
	current  atomic.Pointer[hostView]
	lastSeen atomic.Int64 // milliseconds
	dirty    atomic.Bool
	sign     atomic.Pointer[sign]
	runs     instances
	astray   astray
	retired  atomic.Bool
	interval time.Duration
	patience time.Duration
}

// hostView is a row with what follows from it.
type hostView struct {
	store.Host
	class    string // traits and labels
	os       string
	lowerOS  string
	family   string
	arch     string
	findings []drift.Finding         // what the sheet and the survey tell, then what the time and seats do
	keys     []string                // of the findings
	aside    *setAside               // findings that somebody waived; nil where there are none
	judged   int                     // how many of the findings the sheet and the survey tell
	needs    []resolve.Needs         // of its sheet
	rules    map[string]resolve.Rule // what the policy says of findings, by class
	follows  []resolve.Follow        // channels under its revision
	worst    string
	broken   string      // why its state cannot be worked out; "" where it can
	answered string      // stamp of the packages that it was asked for last
	textOnly []string    // files of the policy that mean the same and read differently
	unread   bool        // something on it could not be read
	traced   *api.Traced // what it says of the files of its findings; nil where it has said nothing
	logins   bool        // the policy lets its agent read who used sudo
	keyEnds  time.Time   // when the next of the sources loses its last key
}

// setAside is what waivers make of the findings of a host.
type setAside struct {
	all    []drift.Finding // with those that are waived
	open   []int32         // which of all are not
	waived []int32         // which are
	ends   time.Time       // when the first of the waivers ends
}

// everything are the findings of a host, waived or not.
func (v *hostView) everything() []drift.Finding {
	if v.aside != nil {
		return v.aside.all
	}
	return v.findings
}

// working reports whether the host has said that it carries its task out.
func (v *hostView) working() bool { return v.Stage == rollout.Working }

// behind reports whether its task goes on without it until it comes back.
func (v *hostView) behind() bool { return v.Stage == rollout.Behind }

func (h *host) row() *hostView { return h.current.Load() }

// loadFleet reads the hosts. What hosts have in common is worked out once, and by all
// processors.
func loadFleet(ctx context.Context, s *Service) (*fleet, error) {
	var rows []*store.Host
	var reading errgroup.Group
	reading.Go(func() (err error) {
		rows, err = s.store.Hosts(ctx)
		return err
	})
	reading.Go(func() error { return s.compute.recall(ctx) })
	reading.Go(func() error { // most hosts have it; one that cannot be read is told of for each
		_, _, _ = s.newest(ctx)
		return nil
	})
	if err := reading.Wait(); err != nil {
		return nil, err
	}
	f := &fleet{
		byName:   make(map[string]*host, len(rows)),
		interval: s.opts.Interval,
		patience: s.opts.Patience,
		sorted:   make([]*host, len(rows)),
	}
	now := s.now()
	order := bySurvey(rows)
	// Those that stand side by side in lists stand so in memory, some at a time: one that is
	// replaced later lets the others of its block go when they are replaced too.
	hosts, views := make([][]host, (len(rows)+block-1)/block), make([][]hostView, (len(rows)+block-1)/block)
	for i := range hosts {
		hosts[i], views[i] = make([]host, block), make([]hostView, block)
	}
	if err := byBlocks(order, func(i int) error {
		h, v := &hosts[i/block][i%block], &views[i/block][i%block]
		v.Host = *rows[i]
		if err := s.loadHost(ctx, h, v, now); err != nil {
			return err
		}
		rows[i] = nil
		f.sorted[i] = h // the store gives them by name
		return nil
	}); err != nil {
		return nil, err
	}
	for _, h := range f.sorted {
		f.byName[h.row().Name] = h
	}
	return f, nil
}

// byBlocks does something with each of a list, on every processor: those that stand side by side
// one after another, and nobody has more to do than others.
func byBlocks[T any](list []T, do func(T) error) error {
	var group errgroup.Group
	var taken atomic.Int64
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() error {
			for {
				from := int(taken.Add(block)) - block
				if from >= len(list) {
					return nil
				}
				for _, x := range list[from:min(from+block, len(list))] {
					if err := do(x); err != nil {
						return err
					}
				}
			}
		})
	}
	return group.Wait()
}

// bySurvey is an order of hosts in which those with equal surveys follow each other, so that
// a document is read once.
func bySurvey(rows []*store.Host) []int {
	places := make(map[string]int32, len(rows)/16)
	of := make([]int32, len(rows))
	var starts []int
	for i, h := range rows {
		at, ok := places[h.Survey]
		if !ok {
			at = int32(len(starts))
			places[h.Survey] = at
			starts = append(starts, 0)
		}
		of[i] = at
		starts[at]++
	}
	sum := 0
	for i, n := range starts {
		starts[i], sum = sum, sum+n
	}
	order := make([]int, len(rows))
	for i, at := range of {
		order[starts[at]] = i
		starts[at]++
	}
	return order
}

// block is how many hosts stand side by side in memory.
const block = 64

func (s *Service) loadHost(ctx context.Context, h *host, v *hostView, now time.Time) error {
	if err := s.compute.complete(ctx, v, now); err != nil {
		if ctx.Err() != nil {
			return err
		}
		// One host's trouble is not the others'.
		v.broken = "how it stands cannot be worked out: " + err.Error()
		s.log.Error("how a host stands cannot be worked out", "host", v.Name, "error", err)
	}
	s.ask(ctx, v)
	h.interval, h.patience = s.opts.Interval, s.opts.Patience
	h.put(v)
	return nil
}

// unfetchedOf counts the sources that could not be refreshed.
func unfetchedOf(rep *api.Report) (n int) {
	for _, o := range rep.Sources {
		if !o.OK {
			n++
		}
	}
	return n
}

// put replaces the row. Only the writer of the store does that, when the row stands; the
// key is given by joining alone.
func (h *host) put(v *hostView) {
	h.current.Store(v)
	if !v.LastSeen.IsZero() && v.LastSeen.UnixMilli() > h.lastSeen.Load() {
		h.lastSeen.Store(v.LastSeen.UnixMilli())
	}
}

// locks are the hosts that one command holds, by name, so that two commands cannot hold
// each other up.
type locks []*host

func lockAll(hosts []*host) locks {
	out := slices.Clone(hosts)
	slices.SortFunc(out, func(a, b *host) int { return strings.Compare(a.row().Name, b.row().Name) })
	for _, h := range out {
		h.mu.Lock()
	}
	return out
}

func (l locks) unlock() {
	for _, h := range l {
		h.mu.Unlock()
	}
}

// replace puts rows in place.
func (f *fleet) replace(rows []*hostView) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, v := range rows {
		if h := f.byName[v.Name]; h != nil {
			v.Key = h.row().Key
			h.put(v)
		}
	}
}

// enter takes a host in that has joined. One that was there already has another key now.
func (f *fleet) enter(row *store.Host) {
	f.mu.Lock()
	defer f.mu.Unlock()
	v := &hostView{Host: *row}
	h := f.byName[v.Name]
	if h != nil {
		again := *h.row()
		again.Key = row.Key
		v = &again
	} else {
		h = &host{interval: f.interval, patience: f.patience}
		i, _ := slices.BinarySearchFunc(f.sorted, v.Name, func(x *host, name string) int { return strings.Compare(x.row().Name, name) })
		f.byName[v.Name] = h
		f.sorted = slices.Insert(slices.Clip(f.sorted), i, h) // readers keep the old slice
	}
	h.put(v)
}

func (f *fleet) remove(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if h := f.byName[name]; h != nil {
		h.retired.Store(true)
	}
	delete(f.byName, name)
	f.sorted = slices.DeleteFunc(slices.Clone(f.sorted), func(h *host) bool { return h.row().Name == name })
}

// all returns the hosts by name. The slice must not be changed.
func (f *fleet) all() []*host {
	f.mu.RLock()
	defer f.mu.RUnlock()
	return f.sorted
}

var errAmbiguous = errors.New("the name fits several hosts")

// find returns the host of that full name, or the only one of that short name.
func (f *fleet) find(name string) (*host, error) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	if h, ok := f.byName[name]; ok {
		return h, nil
	}
	var found *host
	if name != "" && !strings.Contains(name, ".") {
		i, _ := slices.BinarySearchFunc(f.sorted, name+".", func(x *host, n string) int { return strings.Compare(x.row().Name, n) })
		for ; i < len(f.sorted) && strings.HasPrefix(f.sorted[i].row().Name, name+"."); i++ {
			if found != nil {
				return nil, fmt.Errorf("%q: %w: %s and %s; write it in full", name, errAmbiguous, found.row().Name, f.sorted[i].row().Name)
			}
			found = f.sorted[i]
		}
	}
	if found == nil {
		return nil, fmt.Errorf("there is no host %q: %w", name, store.ErrNotFound)
	}
	return found, nil
}

// names are the names by which hosts can be called.
func (f *fleet) names(short bool) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, h := range f.all() {
			n := h.row().Name
			if short {
				n, _, _ = strings.Cut(n, ".")
			}
			if !yield(n) {
				return
			}
		}
	}
}

// takeSeen returns the times that are not stored yet.
func (f *fleet) takeSeen() map[int64]time.Time {
	out := map[int64]time.Time{}
	for _, h := range f.all() {
		if h.dirty.Swap(false) {
			out[h.row().ID] = time.UnixMilli(h.lastSeen.Load())
		}
	}
	return out
}

func (h *host) seen(now time.Time) {
	h.lastSeen.Store(now.UnixMilli())
	h.dirty.Store(true)
}

func (h *host) seenAt() time.Time {
	if ms := h.lastSeen.Load(); ms != 0 {
		return time.UnixMilli(ms).UTC()
	}
	return time.Time{}
}

// silence is how long a host that checks in so often may give no sign of life.
func silence(interval time.Duration) time.Duration { return 3*interval + 2*time.Second }

// state says how a host stands. One that is at work is not silent, however long its
// package manager takes.
func (h *host) state(now time.Time) string {
	v := h.row()
	seen := h.seenAt()
	switch {
	case h.atWork(now):
		return api.StateChanging
	case !seen.IsZero() && now.Sub(seen) > silence(h.interval):
		return api.StateSilent
	case v.broken != "" || v.Trouble != "" || h.runs.twice(now):
		return api.StateFailed
	case v.Task != 0 && !v.behind():
		return api.StateChanging
	case v.Failure != "":
		return api.StateFailed
	case v.worst == drift.Danger || v.worst == drift.Fault:
		return api.StateDrifted
	case v.Revision == 0:
		return api.StateNew
	}
	return api.StateSteady
}

// summary describes a host for lists.
func (h *host) summary(now time.Time) api.Host {
	v := h.row()
	out := api.Host{
		Name: v.Name, State: h.state(now), OS: v.os, Family: v.family, Arch: v.arch, Revision: v.Revision,
		Findings: len(v.findings), Worst: v.worst, Labels: v.Labels,
	}
	if out.Labels == nil {
		out.Labels = map[string]string{}
	}
	out.OldAgent = v.Agent != "" && v.Form < source.NewestForm
	if t := h.seenAt(); !t.IsZero() {
		out.LastSeen = &t
	}
	switch out.State {
	case api.StateSilent:
		out.Detail = "no check-in since " + sinceWords(h.seenAt(), now)
		if says := h.astray.says(h.seenAt(), now); says != "" {
			out.Detail = says
		}
		if v.behind() {
			out.Detail += fmt.Sprintf("; left behind by rollout %d", v.Task)
		}
	case api.StateChanging:
		out.Detail = fmt.Sprintf("rollout %d", v.Task)
		if sign := h.sign.Load(); sign != nil && sign.rollout == v.Task && v.working() {
			out.Detail += ", step " + sign.step
		}
	case api.StateFailed:
		switch {
		case v.broken != "":
			out.Detail = v.broken
		case v.Trouble != "":
			out.Detail = v.Trouble
		case h.runs.twice(now):
			out.Detail = "two machines check in with this host's identity: one is a copy; let it begin anew (lantern-agent forget) and join " +
				"under a name of its own"
		default:
			out.Detail = v.Failure
		}
	case api.StateDrifted:
		first := slices.MinFunc(v.findings, func(a, b drift.Finding) int { return drift.Rank(a.Severity) - drift.Rank(b.Severity) })
		out.Detail = first.Message
		if first.File != "" {
			out.Detail = fmt.Sprintf("%s: %s", first.File[strings.LastIndexByte(first.File, '/')+1:], first.Message)
		}
	case api.StateNew:
		out.Detail = "no revision was carried to it yet"
		if v.Survey == "" {
			out.Detail = "waiting for its first survey"
			if says := h.astray.says(h.seenAt(), now); says != "" {
				out.Detail = says
			}
		}
	case api.StateSteady:
		out.Detail = "as the policy says"
		for _, f := range standing.OpenByDecision(v.follows, now) {
			out.Detail = fmt.Sprintf(
				"open by decision: %s follows %s until %s",
				f.Channel,
				f.Choice,
				f.Decision.Review.Format(time.DateOnly),
			)
		}
		if v.Unfetched > 0 {
			out.Detail = fmt.Sprintf("as the policy says; %d sources could not be refreshed at the last change", v.Unfetched)
		}
		if n := len(v.findings); n > 0 {
			out.Detail = fmt.Sprintf("%d to know: %s", n, v.findings[0].Message)
		}
	}
	return out
}
