package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/core/version"
)

// What a change would swap is worked out for hosts together that weigh what is offered alike
// and get the same sheet. Hosts are asked only for packages that the places which come and go
// offer.

// mostSwapped bounds the names of packages that hosts are asked for because of one change.
const mostSwapped = 300

// planned are places that no host uses yet, and that a policy which was looked at would bring.
type planned struct {
	sync.Mutex
	of map[string]*plannedPlace
}

type plannedPlace struct {
	place *place
	until time.Time
}

// add plans a place, and reports whether it was not planned before.
func (p *planned) add(x *place, until time.Time) bool {
	p.Lock()
	defer p.Unlock()
	if p.of == nil {
		p.of = map[string]*plannedPlace{}
	}
	_, had := p.of[x.key]
	p.of[x.key] = &plannedPlace{x, until}
	return !had
}

// list are those that are planned still and that no host uses.
func (p *planned) list(now time.Time, used map[string]*place) (out []*place) {
	p.Lock()
	defer p.Unlock()
	maps.DeleteFunc(p.of, func(_ string, x *plannedPlace) bool { return now.After(x.until) })
	for key, x := range p.of {
		if used[key] == nil {
			out = append(out, x.place)
		}
	}
	return out
}

// turn is what hosts have in common for which a change means the same.
type turn struct {
	before         *choice.Host
	sheet, carried string
}

// foreseen is what a change comes to for them.
type foreseen struct {
	after *choice.Host
	names []string // packages that may be swapped
	why   string   // why nothing can be told; empty where it can
}

// swaps tells which installed packages a change would swap.
func (s *Service) swaps(ctx context.Context, p *policy.Policy, all []*shown, out *api.Preview) error {
	var found preview.Swaps
	known := map[turn]*foreseen{}
	o := &offers{map[string][]index.Package{}, map[string]string{}, map[string]*upstream.ReleaseFile{}}
	lists := map[string]*index.List{}
	var ask []string
	for _, x := range all {
		if x.group == nil {
			continue
		}
		before, err := s.compute.deciding(ctx, x.pair.survey)
		if err != nil {
			return err
		}
		k := turn{before: before, sheet: x.pair.sheet, carried: x.pair.before}
		f := known[k]
		if f == nil {
			if f, err = s.foreseeTurn(ctx, x, before, p, lists, o); err != nil {
				return err
			}
			known[k] = f
			ask = append(ask, f.names...)
		}
		if f.why != "" {
			found.Unknown(f.why, len(x.hosts))
		}
		if f.after == nil || len(f.names) == 0 {
			continue
		}
		was := x.res.Sheet
		if x.pair.before != "" {
			if was, err = s.compute.sheetOf(ctx, x.pair.before); err != nil {
				return err
			}
		}
		swapped(&found, x, was, before, f, lists, o)
	}
	slices.Sort(ask)
	if ask = slices.Compact(ask); len(ask) > 0 {
		s.asked.add([]source.SheetNeed{{Packages: ask[:min(len(ask), mostSwapped)]}}, s.now().Add(askTime))
	}
	out.Swaps, out.Unforeseen = found.List()
	return nil
}

// foreseeTurn works out what would decide on hosts after a change, and which packages that may
// concern.
func (s *Service) foreseeTurn(
	ctx context.Context,
	x *shown,
	before *choice.Host,
	p *policy.Policy,
	lists map[string]*index.List,
	o *offers,
) (*foreseen, error) {
	survey, err := s.compute.surveyOf(ctx, x.pair.survey)
	if err != nil {
		return nil, err
	}
	texts, err := s.compute.textsOf(ctx, survey.Files)
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
	switch {
	case !ok:
		return &foreseen{why: "their files alone do not tell what their package manager makes of them"}, nil
	case after.Weighs() == before.Weighs():
		return &foreseen{}, nil
	}
	f := &foreseen{after: after}
	s.planPlaces(after, before, x, p)
	known := s.load(ctx, after, lists, o)
	if !s.load(ctx, before, lists, o) || !known {
		f.why = "what some of their places offer was not seen (lantern repository list --state unknown,trouble)"
	}
	var every int
	if f.names, every = concerned(before, after, lists); every > len(f.names) {
		f.why = fmt.Sprintf("%d packages are concerned, and hosts are asked for %d of them", every, len(f.names))
	}
	return f, nil
}

// planPlaces looks at the places that a change would bring, and that no host uses yet.
func (s *Service) planPlaces(after, before *choice.Host, x *shown, p *policy.Policy) {
	used := map[string]bool{}
	for i := range before.Uses {
		used[before.Uses[i].Key] = true
	}
	var fresh []*place
	for i := range after.Uses {
		u := &after.Uses[i]
		if used[u.Key] {
			continue
		}
		q := &place{Place: u.Place, key: u.Key, names: map[string]bool{}, contracts: map[string]bool{}, keys: map[string]bool{}}
		q.strict = u.Checks == source.CheckRequired
		for _, f := range u.Keys {
			q.keys[f] = true
		}
		if name, contract := u.Of(x.res.Sheet); name != "" {
			q.take(x.res.Sheet, name, contract)
			hosts := make([]string, 0, len(x.hosts))
			for _, v := range x.hosts[:min(len(x.hosts), mostNames)] {
				hosts = append(hosts, v.Name)
			}
			q.opened(s, x.res.Sheet, name, hosts)
		}
		if s.upstreams.planned.add(q, s.now().Add(askTime)) && s.upstreams.look(q).Checked == nil {
			fresh = append(fresh, q)
		}
	}
	if len(fresh) > 0 {
		s.background(func(ctx context.Context) { s.probe(ctx, fresh, p) })
	}
}

// load reads what the places of a host offer, and reports whether that is known of all.
func (s *Service) load(ctx context.Context, h *choice.Host, lists map[string]*index.List, o *offers) (known bool) {
	known = true
	for i := range h.Uses {
		u := &h.Uses[i]
		if lists[u.Key] != nil {
			continue
		}
		look := s.upstreams.look(&place{Place: u.Place, key: u.Key})
		l, err := s.listOf(ctx, u.Key, look)
		if err != nil {
			known = false
			continue
		}
		lists[u.Key], o.releases[u.Key] = l, look.Found.Release
	}
	return known
}

// concerned are the packages of places that come or go, and where only weights change those that
// several places offer. Of more than hosts are asked for, those that something else offers as
// well; all counts them all.
func concerned(before, after *choice.Host, lists map[string]*index.List) (out []string, all int) {
	keys := func(h *choice.Host) map[string]bool {
		m := map[string]bool{}
		for i := range h.Uses {
			m[h.Uses[i].Key] = true
		}
		return m
	}
	was, is := keys(before), keys(after)
	same := maps.Equal(was, is)
	names := map[string]bool{} // package → something else offers it as well
	for key := range lists {
		if !was[key] && !is[key] || was[key] == is[key] && !same {
			continue
		}
		for i := range lists[key].Len() {
			n := lists[key].At(i).Name
			if also := elsewhere(n, key, was, lists); also || !same {
				names[n] = names[n] || also
			}
		}
	}
	out = slices.Sorted(maps.Keys(names))
	if all = len(out); all > mostSwapped {
		out = slices.DeleteFunc(out, func(n string) bool { return !names[n] })
		out = out[:min(len(out), mostSwapped)]
	}
	return out, all
}

// elsewhere reports whether another place offers a package.
func elsewhere(name, but string, places map[string]bool, lists map[string]*index.List) bool {
	for key := range places {
		if l := lists[key]; key != but && l != nil {
			for range l.Named(name) {
				return true
			}
		}
	}
	return false
}

// swapped adds what a change would swap on hosts; was is the sheet that they have.
func swapped(
	found *preview.Swaps, x *shown, was *source.Sheet, before *choice.Host, f *foreseen, lists map[string]*index.List, o *offers,
) {
	name := func(h *choice.Host, sheets ...*source.Sheet) func(*choice.Offered) string {
		return func(at *choice.Offered) string {
			for _, sheet := range sheets {
				if of, _ := h.Uses[at.Use].Of(sheet); of != "" {
					return of
				}
			}
			return strings.TrimSpace(at.From + " " + at.Suite)
		}
	}
	type asked struct{ pkg, installed string }
	before2, after2 := map[asked]choice.Choice{}, map[asked]choice.Choice{}
	waiting := 0
	for _, v := range x.hosts {
		have := packagesOf(v)
		answered := true
		for _, n := range f.names {
			if !slices.Contains(have.Names, n) {
				answered = false
				continue
			}
			installed := have.Installed[n]
			if installed == "" {
				continue
			}
			k := asked{n, installed}
			if _, done := after2[k]; !done {
				before2[k], after2[k] = o.one(before, n, installed, lists), o.one(f.after, n, installed, lists)
			}
			had, gets := before2[k], after2[k]
			lower := gets.Taken != nil && version.Compare(gets.Family, gets.Taken.Version, installed) < 0
			found.Add(n, v.Name, &had, &gets, lower, name(before, was, x.res.Sheet), name(f.after, x.res.Sheet))
		}
		if !answered {
			waiting++
		}
	}
	if waiting > 0 {
		found.Unknown("what is installed is being asked of them", waiting)
	}
}

// one is what a host takes of its own package manager.
func (o *offers) one(h *choice.Host, name, installed string, lists map[string]*index.List) choice.Choice {
	with := *h
	with.Releases = o.releases
	var all []choice.Offered
	for i := range h.Uses {
		if l := lists[h.Uses[i].Key]; l != nil {
			for p := range l.Named(name) {
				all = append(all, choice.Offered{Package: p, Use: i})
			}
		}
	}
	return with.Choose(h.Survey.Traits.Family, name, all, installed)
}
