package rollouts

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/upstreams"
	"patientlantern.example/lantern/store"
)

// Startable is a rollout that could begin.
type Startable struct {
	revision store.Revision
	Rollout  store.Rollout
	Takers   []*fleet.Host // something is carried to them
	already  []*fleet.Host // have it
	unseen   []*fleet.Host // are meant, and have sent no survey, or tell nothing of themselves
	unsure   int           // hosts of which it is not known whether they are meant
	follows  map[*fleet.Host]*resolve.Result
	placed   []store.Placed
	resolver *resolve.Resolver
	results  map[*fleet.Host]*resolve.Result
	brings   *upstreams.BringsTo // hosts; nil: not worked out
	others   int                 // were not asked for
	over     int64
}

// startable works out who takes part in a rollout, and in which wave. It asks no desk.
func (s *Rollouts) startable(ctx context.Context, in *api.RolloutOrder) (*Startable, error) {
	why := strings.TrimSpace(in.Because)
	if in.AtOnce && len(why) < 3 {
		return nil, refusal.Wrong("because: say in a few words why no wave and no gate is wanted")
	}
	r, err := s.Pick(ctx, in.Revision)
	if err != nil {
		return nil, err
	}
	rs, err := s.Compute.Revision(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	p := &Startable{revision: r, resolver: rs, Rollout: store.Rollout{Kind: store.KindRollout, Revision: r.Number, Because: why}}
	if p.over, err = s.makesWay(ctx); err != nil {
		return nil, err
	}
	all := s.changeable()
	if len(all) == 0 {
		return nil, refusal.Conflict("no host has sent a survey yet, so there is none to carry it to")
	}
	targets, err := s.pickHosts(ctx, rs, all, ground.Selecting{To: in.To, Where: in.Where})
	if err != nil {
		return nil, err
	}
	p.others = len(all) - len(targets)
	if err := s.leaveUnseen(ctx, p, ground.Selecting{To: in.To, Where: in.Where}); err != nil {
		return nil, err
	}
	if err := forward(targets, r); err != nil {
		return nil, err
	}
	results := make(map[*fleet.Host]*resolve.Result, len(targets))
	p.follows = map[*fleet.Host]*resolve.Result{}
	for _, h := range targets {
		if results[h], err = s.Compute.Resolve(ctx, rs, h.Row()); err != nil {
			return nil, err
		}
	}
	compute.DigestSheets(maps.Values(results))
	for _, h := range targets {
		if res := results[h]; res.Untold() {
			p.unseen = append(p.unseen, h)
		} else if HasAlready(h.Row(), res) {
			p.already, p.follows[h] = append(p.already, h), res
		} else {
			p.Takers = append(p.Takers, h)
		}
	}
	if err := s.LayOut(ctx, p, rs, results, in.AtOnce); err != nil {
		return nil, err
	}
	p.results = results
	return p, nil
}

// leaveUnseen finds the hosts that are meant, and to which nothing can be carried yet.
func (s *Rollouts) leaveUnseen(ctx context.Context, p *Startable, in ground.Selecting) (err error) {
	for _, h := range s.Fleet.All() {
		if h.Row().Traits == "" {
			p.unseen = append(p.unseen, h)
		}
	}
	if in.Some() && len(p.unseen) > 0 {
		p.unseen, p.unsure, err = s.Picked(ctx, p.resolver, in, p.unseen)
	}
	return err
}

// HasAlready reports whether carrying a sheet to a host would change nothing, as far as is
// known of it.
func HasAlready(v *fleet.View, res *resolve.Result) bool {
	if v.Revision == 0 || len(res.Trouble) > 0 || v.Carried.Sheet == "" || v.Failure != "" || v.Task != 0 ||
		v.Carried.Sheet != res.Digest() {
		return false
	}
	for _, f := range v.Everything() {
		if f.Wrong() {
			return false
		}
	}
	return true
}

// makesWay tells which rollout is held, and so makes way for a newer one; 0 where there is
// none. One that is under way does not.
func (s *Rollouts) makesWay(ctx context.Context) (int64, error) {
	for _, kind := range []string{store.KindRollout, store.KindBackOut} {
		open, err := s.Store.OpenRollout(ctx, kind)
		switch {
		case errors.Is(err, store.ErrNotFound):
		case err != nil:
			return 0, err
		case kind == store.KindRollout && open.Course.Phase == rollout.Held && open.Counts[rollout.Working] == 0:
			return open.ID, nil
		default:
			return 0, s.underWay(open.ID)
		}
	}
	return 0, nil
}

// changeable are the hosts that sources can be carried to.
func (s *Rollouts) changeable() (out []*fleet.Host) {
	for _, h := range s.Fleet.All() {
		if v := h.Row(); v.Traits != "" && Managed(v.Family) {
			out = append(out, h)
		}
	}
	return out
}

// pickHosts picks of hosts those that are meant; all where nothing picks. One that is named and is
// none of them is refused; one that is only in a group is not asked.
func (s *Rollouts) pickHosts(ctx context.Context, rs *resolve.Resolver, all []*fleet.Host, in ground.Selecting) ([]*fleet.Host, error) {
	if !in.Some() {
		return all, nil
	}
	named, _, err := s.Called(rs, in.To)
	if err != nil {
		return nil, err
	}
	for _, h := range all {
		delete(named, h)
	}
	for h := range named {
		return nil, refusal.Conflict(
			fmt.Sprintf("nothing can be carried to %s: it has sent no survey, or has no package manager that is known", h.Row().Name),
		)
	}
	out, _, err := s.Picked(ctx, rs, in, all)
	if err != nil {
		return nil, err
	}
	if len(out) == 0 {
		return nil, refusal.Conflict("no host is meant by " + in.Words())
	}
	return out, nil
}

// LayOut puts the hosts into the waves of their plans.
func (s *Rollouts) LayOut(
	ctx context.Context, p *Startable, rs *resolve.Resolver, results map[*fleet.Host]*resolve.Result, atOnce bool,
) error {
	p.placed = make([]store.Placed, 0, len(p.Takers)+len(p.already)+len(p.unseen))
	byPlan := map[string][]*fleet.Host{}
	plans := map[string]rollout.Plan{}
	if atOnce {
		plan := rollout.AtOnce()
		plans[plan.Name], byPlan[plan.Name] = plan, p.Takers
	} else {
		for _, h := range p.Takers {
			res := results[h]
			name := res.PlanName()
			if _, known := plans[name]; !known {
				plans[name] = res.Plan()
			}
			byPlan[name] = append(byPlan[name], h)
		}
	}
	order := make([]string, 0, len(plans))
	for name := range plans {
		order = append(order, name)
	}
	slices.Sort(order)
	for _, name := range order {
		plan, hosts := plans[name], byPlan[name]
		members, err := s.members(ctx, rs, &plan, hosts)
		if err != nil {
			return err
		}
		parts, of := plan.Lay(members)
		first := len(p.Rollout.Parts)
		p.Rollout.Parts = append(p.Rollout.Parts, parts...)
		for i, h := range hosts {
			p.placed = append(p.placed, store.Placed{Host: h.Row().Name, Part: first + of[i], State: rollout.Queued})
		}
	}
	for _, h := range p.already {
		p.placed = append(p.placed, store.Placed{Host: h.Row().Name, Part: partNone, State: rollout.Unchanged})
	}
	for _, h := range p.unseen {
		why := "it has sent no survey"
		if res := results[h]; res != nil {
			why = res.Why()
		}
		x, err := passedOver(h.Row().Name, p.Rollout.Revision, "nothing was carried to it: "+why)
		if err != nil {
			return err
		}
		p.placed = append(p.placed, x)
	}
	return nil
}

// passedOver is the place of a host that a rollout does not come to, with the reason.
func passedOver(host string, revision int64, why string) (store.Placed, error) {
	rep, err := json.Marshal(api.Report{Revision: revision, State: "stopped", Message: why})
	return store.Placed{Host: host, Part: partNone, State: rollout.Skipped, Report: string(rep)}, err
}

// partNone is the part of hosts that nothing is carried to.
const partNone = -1

// members are hosts as a plan sees them.
func (s *Rollouts) members(ctx context.Context, rs *resolve.Resolver, plan *rollout.Plan, hosts []*fleet.Host) ([]rollout.Member, error) {
	now := s.Now()
	out := make([]rollout.Member, len(hosts))
	named := slices.ContainsFunc(plan.Waves, func(w rollout.Wave) bool { return len(w.To) > 0 })
	for i, h := range hosts {
		v := h.Row()
		m := rollout.Member{Name: v.Name, Alive: h.State(now) != api.StateSilent}
		if named || plan.Spread != "" {
			who, err := s.Compute.HostOf(ctx, v)
			if err != nil {
				return nil, err
			}
			m.Value = rs.Label(who, plan.Spread)
			for w := range plan.Waves {
				if slices.ContainsFunc(plan.Waves[w].To, func(g string) bool { return s.Compute.InGroup(rs, who, g) }) {
					m.Named = append(m.Named, w)
				}
			}
		}
		out[i] = m
	}
	return out, nil
}

// Tried tells what a rollout would be.
func (s *Rollouts) Tried(p *Startable) api.Rollout {
	p.Rollout.Counts = rollout.Counts{}
	tallies := make([]rollout.Tally, len(p.Rollout.Parts))
	some := make([][]string, len(p.Rollout.Parts))
	for i := range tallies {
		tallies[i].Counts = rollout.Counts{}
	}
	for _, x := range p.placed {
		p.Rollout.Counts[x.State]++
		if x.Part == partNone {
			continue
		}
		tallies[x.Part].Counts[x.State]++
		if len(some[x.Part]) < ground.MostNames {
			some[x.Part] = append(some[x.Part], x.Host)
		}
	}
	out := rolloutOf(p.Rollout)
	for i := range tallies {
		s.seen(&p.Rollout.Parts[i], &tallies[i])
	}
	out.Parts = s.partsOf(&p.Rollout, tallies, p.brings)
	for i := range out.Parts {
		slices.Sort(some[i])
		out.Parts[i].Names = some[i]
	}
	slices.SortStableFunc(out.Parts, func(a, b api.RolloutPart) int { return cmp.Compare(a.Wave, b.Wave) })
	out.Others, out.Unsure, out.TookOver = p.others, p.unsure, p.over
	out.Silent, out.Quiet = fleet.PastOf(p.Takers, s.Now(), ground.MostNames)
	out.Says = "nothing was begun"
	return out
}

// followAgain works out anew how hosts stand to which nothing is carried, and of which a
// revision says other things beside their sheets.
func (s *Rollouts) followAgain(ctx context.Context, p *Startable) {
	for h, res := range p.follows {
		if v := h.Row(); v.Given != res.Given() && !reflect.DeepEqual(v.Given, res.Given()) {
			if _, err := s.Again(ctx, h, "begin-rollout"); err != nil && ctx.Err() == nil {
				s.Log.Error("working out how a host stands", "host", v.Name, "error", err)
			}
		}
	}
}

// Managed reports whether this release can change hosts of a family.
func Managed(family string) bool {
	f, known := families.Of(family)
	return known && f.Owns()
}
