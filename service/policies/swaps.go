package policies

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/core/version"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/memo"
	"patientlantern.example/lantern/service/upstreams"
	"patientlantern.example/lantern/store"
)

// What a change would swap is worked out for hosts together that weigh what is offered alike
// and get the same sheet. Hosts are asked only for packages that the places which come and go
// offer.

// mostSwapped bounds the names of packages that hosts are asked for because of one change.
const mostSwapped = 300

// turn is what hosts have in common for which a change means the same.
type turn struct{ survey, sheet, carried string }

// turned is what decides on them before and after a change; after is nil where nothing changes
// in that, or where it cannot be told.
type turned struct {
	before, after *choice.Host
	unclear       bool
}

// turns remembers what was worked out. Reading the files of hosts again takes milliseconds, and a
// large fleet has thousands of different ones: what is not worked out at once is worked out
// behind, until another change is looked at.
type turns struct {
	kept *memo.Cache[turn, *turned]
	mu   sync.Mutex
	stop context.CancelFunc // of what is worked out behind
}

// leave ends what is worked out behind, for the sake of what somebody waits for now. next
// ends what comes in its place; nil where nothing does yet.
func (t *turns) leave(next context.CancelFunc) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.stop != nil {
		t.stop()
	}
	t.stop = next
}

const (
	keptTurns    = 16_384
	turnsWhole   = 400 // so many are worked out at once
	turnsAtOnce  = 200 // of more than that
	notYetTurned = "it is still being worked out; look again"
)

// swaps tells which installed packages a change would swap.
func (s *Policies) swaps(ctx context.Context, p *policy.Policy, all []*shown, out *api.Preview) error {
	var found preview.Swaps
	changing := slices.DeleteFunc(slices.Clone(all), func(x *shown) bool { return x.group == nil })
	slices.SortStableFunc(changing, func(a, b *shown) int { return len(b.hosts) - len(a.hosts) })
	if err := s.turnAll(ctx, changing); err != nil {
		return err
	}
	w := newWeigher(s)
	var ask []string
	refused := map[string]*api.RefusedPlace{}
	for _, x := range changing {
		t, done := s.turns.kept.Look(x.turn())
		if done {
			s.refusedPlaces(t, len(x.hosts), refused)
		}
		switch {
		case !done:
			found.Unknown(notYetTurned, len(x.hosts))
			continue
		case t.unclear:
			found.Unknown("their files alone do not tell what their package manager makes of them", len(x.hosts))
			continue
		case t.after == nil:
			continue
		}
		f := w.known[[2]*choice.Host{t.before, t.after}]
		if f == nil {
			if out.Revision > 0 {
				s.planPlaces(t.after, t.before, x, p)
			}
			f = w.foresee(ctx, t)
			ask = append(ask, f.names...)
		}
		if f.why != "" {
			found.Unknown(f.why, len(x.hosts))
		}
		if len(f.names) == 0 {
			continue
		}
		was := x.res.Sheet
		if x.pair.Before != "" {
			var err error
			if was, err = s.Compute.SheetOf(ctx, x.pair.Before); store.Lost(err) {
				found.Unknown("what was carried to them is not known any more", len(x.hosts))
				continue
			} else if err != nil {
				return err
			}
		}
		w.swapped(&found, x, was, t, f)
	}
	slices.Sort(ask)
	if ask = slices.Compact(ask); len(ask) > 0 {
		s.Asked.Add([]source.SheetNeed{{Packages: ask[:min(len(ask), mostSwapped)]}}, s.Now().Add(ground.AskTime))
	}
	out.Swaps, out.Unforeseen = found.List()
	out.Refused = append(out.Refused, upstreams.RefusedInOrder(refused)...)
	return nil
}

// refusedPlaces adds the places that hosts would get packages from and that are refused.
func (s *Policies) refusedPlaces(t *turned, hosts int, to map[string]*api.RefusedPlace) {
	h := t.after
	if h == nil {
		h = t.before
	}
	if h == nil {
		return
	}
	seen := map[string]bool{}
	for i := range h.Uses {
		u := h.Uses[i]
		look := s.upstreams.LookAt(u.Key, &u.Place)
		if look.State != api.PlaceTrouble || seen[u.Key] {
			continue
		}
		seen[u.Key] = true
		if to[u.Key] == nil {
			to[u.Key] = &api.RefusedPlace{
				Key: u.Key, Address: strings.TrimSpace(u.Address() + " " + u.Suite), Says: look.Says, Remedy: look.Remedy, Checked: *look.Checked,
			}
		}
		to[u.Key].Hosts += hosts
	}
}

func (x *shown) turn() turn { return turnOf(x.pair) }

// turnOf names what would decide on hosts after a change.
func turnOf(p compute.Pair) turn { return turn{p.Survey, p.Sheet, p.Before} }

// turnAll works out what would decide on hosts, for most of them at once and for the others
// behind.
func (s *Policies) turnAll(ctx context.Context, list []*shown) error {
	rest := slices.DeleteFunc(slices.Clone(list), func(x *shown) bool { return s.turns.kept.Has(x.turn()) })
	now := rest
	if len(rest) > turnsWhole {
		now = rest[:turnsAtOnce]
	}
	rest = rest[len(now):]
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, x := range now {
		group.Go(func() error { return s.turnOne(ctx, x) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if len(rest) == 0 {
		return nil
	}
	behind, stop := context.WithCancel(context.Background())
	s.turns.leave(stop)
	s.Background(func(bg context.Context) {
		defer stop()
		patience := upstreams.MostPatience
		for _, x := range rest {
			s.GiveWay(bg, &patience)
			if bg.Err() != nil || behind.Err() != nil {
				return
			}
			if err := s.turnOne(bg, x); err != nil {
				s.Log.Error("working out what a change would swap", "error", err)
				return
			}
		}
	})
	return nil
}

// turnOne reads the files of hosts as a change would leave them.
func (s *Policies) turnOne(ctx context.Context, x *shown) error {
	_, err := s.turns.kept.Get(x.turn(), func() (*turned, error) {
		before, err := s.Compute.Deciding(ctx, x.pair.Survey)
		if err != nil {
			return nil, err
		}
		survey, err := s.Compute.SurveyOf(ctx, x.pair.Survey)
		if err != nil {
			return nil, err
		}
		texts, err := s.Compute.TextsOf(ctx, survey.Files)
		if err != nil {
			return nil, err
		}
		edited := map[string][]byte{}
		for _, e := range x.group.edits {
			edited[e.Path] = e.New
			if e.Action == change.Remove {
				edited[e.Path] = nil
			} else if e.New == nil {
				edited[e.Path] = []byte{}
			}
		}
		after, ok := choice.After(survey, texts, edited)
		if !ok {
			return &turned{unclear: true}, nil
		}
		t := &turned{before: before}
		if after.Weighs() != before.Weighs() {
			t.after = s.Compute.Pooled(after)
		}
		return t, nil
	})
	if store.Lost(err) { // is told as not known
		return nil
	}
	return err
}

// weigher holds what hosts take before a change against what they take after it.
type weigher struct {
	s      *Policies
	shared choice.Shared
	known  map[[2]*choice.Host]*foreseen
}

func newWeigher(s *Policies) *weigher {
	return &weigher{
		s: s, known: map[[2]*choice.Host]*foreseen{},
		shared: choice.Shared{Lists: map[string]*index.List{}, Releases: map[string]*upstream.ReleaseFile{}},
	}
}

// foreseen is what a change comes to for hosts.
type foreseen struct {
	names []string // packages that may be swapped
	why   string   // why not everything can be told; empty where it can
}

// foresee says which packages a change may swap.
func (w *weigher) foresee(ctx context.Context, t *turned) *foreseen {
	f := &foreseen{}
	w.known[[2]*choice.Host{t.before, t.after}] = f
	known := w.load(ctx, t.after)
	if !w.load(ctx, t.before) || !known {
		f.why = "what some of their places offer was not seen (lantern repository list --state unknown,trouble)"
	}
	var every int
	if f.names, every = w.shared.Concerned(t.before, t.after, mostSwapped); every > len(f.names) {
		f.why = fmt.Sprintf("%d packages are concerned, and hosts are asked for %d of them", every, len(f.names))
	}
	if f.why == "" && len(f.names) > 0 {
		f.why = t.after.Untold()
	}
	return f
}

// planPlaces looks at the places that a published change would bring, and that no host uses yet.
// A folder that is only looked at sends the service nowhere: whoever may look could have it ask
// any address, with the access of a host.
func (s *Policies) planPlaces(after, before *choice.Host, x *shown, p *policy.Policy) {
	used := map[string]bool{}
	for i := range before.Uses {
		used[before.Uses[i].Key] = true
	}
	hosts := make([]string, 0, ground.MostNames)
	for _, v := range x.hosts[:min(len(x.hosts), ground.MostNames)] {
		hosts = append(hosts, v.Name)
	}
	var fresh []*upstreams.Place
	for i := range after.Uses {
		u := after.Uses[i]
		if used[u.Key] {
			continue
		}
		q := upstreams.NewPlace(u)
		q.Asked(s.Keeper, u, x.res.Sheet, hosts)
		q.Vouched(p)
		if s.upstreams.PlanFor(q, s.Now().Add(ground.AskTime)) && q.Untold(s.upstreams.LookAt(q.Digest, &q.Place)) {
			fresh = append(fresh, q)
		}
	}
	if len(fresh) > 0 {
		s.Background(func(ctx context.Context) { s.upstreams.Probe(ctx, fresh, p) })
	}
}

// load reads what the places of a host offer, and reports whether that is known of all.
func (w *weigher) load(ctx context.Context, h *choice.Host) (known bool) {
	known = true
	for i := range h.Uses {
		u := h.Uses[i]
		if w.shared.Lists[u.Key] != nil {
			continue
		}
		look := w.s.upstreams.LookAt(u.Key, &u.Place)
		l, err := w.s.upstreams.ListOf(ctx, u.Key, look)
		if err != nil {
			known = false
			continue
		}
		w.shared.Lists[u.Key], w.shared.Releases[u.Key] = l, look.Found.Release
	}
	return known
}

// outcome is what a change comes to for one installed version of a package.
type outcome struct {
	had, gets preview.Side
	lower     bool
}

// swapped adds what a change would swap on hosts; was is the sheet that they have.
func (w *weigher) swapped(found *preview.Swaps, x *shown, was *source.Sheet, t *turned, f *foreseen) {
	wasFrom, isFrom := named(t.before, was, x.res.Sheet), named(t.after, x.res.Sheet)
	type installed struct{ pkg, version string }
	known := map[installed]*outcome{}
	alike := map[*fleet.Packages][]string{} // hosts by what they answered
	var order []*fleet.Packages
	for _, v := range x.hosts {
		have := fleet.PackagesOf(v)
		if alike[have] == nil {
			order = append(order, have)
		}
		alike[have] = append(alike[have], v.Name)
	}
	waiting := 0
	for _, have := range order {
		hosts, answered := alike[have], true
		for _, n := range f.names {
			if !have.Knows(n) {
				answered = false
				continue
			}
			k := installed{n, have.Installed[n]}
			if k.version == "" {
				continue
			}
			o := known[k]
			if o == nil {
				o = &outcome{had: w.side(t.before, n, k.version, wasFrom), gets: w.side(t.after, n, k.version, isFrom)}
				o.lower = o.gets.Taken != nil && version.Compare(o.gets.Family, o.gets.Taken.Version, k.version) < 0
				known[k] = o
			}
			found.Add(n, hosts, &o.had, &o.gets, o.lower)
		}
		if !answered {
			waiting += len(hosts)
		}
	}
	if waiting > 0 {
		found.Unknown("what is installed is being asked of them", waiting)
	}
}

// side is what a host chooses; name names its places.
func (w *weigher) side(h *choice.Host, pkg, installed string, name func(use int) string) preview.Side {
	c, places := w.shared.Choose(h, pkg, installed)
	return preview.Side{
		Choice: c,
		Stands: func(o *choice.Offered) string { return stands(h, places[o.Use]) },
		Name:   func(o *choice.Offered) string { return name(places[o.Use]) },
	}
}

// stands is where a place of a host is.
func stands(h *choice.Host, use int) string {
	return strings.TrimSpace(h.Uses[use].Address() + " " + h.Uses[use].Suite)
}

// named names the places of a host to people, each once looked up: by the repository of the first of the sheets that
// brings it, or by where it is.
func named(h *choice.Host, sheets ...*source.Sheet) func(use int) string {
	known := map[int]string{}
	return func(use int) string {
		name, said := known[use]
		if said {
			return name
		}
		name = stands(h, use)
		for _, sheet := range sheets {
			if of, _ := h.Uses[use].Of(sheet); of != "" {
				name = of
				break
			}
		}
		known[use] = name
		return name
	}
}
