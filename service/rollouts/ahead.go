package rollouts

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/upstreams"
	"patientlantern.example/lantern/store"
)

// Before a wave begins, the service looks at the places that the change brings to its hosts. What
// is refused there would be refused on each of them.

const (
	freshLook = 5 * time.Minute  // a look is as good as new for so long
	lookTime  = 90 * time.Second // a wave waits for looks no longer
	planWait  = 3 * time.Second  // nor does who only asks what the waves would be
)

// ahead is what live rollouts bring to their hosts.
type ahead struct {
	sync.Mutex
	brings map[int64]*upstreams.BringsTo // by rollout
	asked  map[aheadStage]*aheadLook
}

type aheadStage struct {
	rollout int64
	stage   int
}

// aheadLook is a look at what a stage brings.
type aheadLook struct {
	begun time.Time
	done  bool
}

func (a *ahead) forget(id int64) {
	a.again(id)
	a.Lock()
	defer a.Unlock()
	delete(a.brings, id)
}

// begin notes that what a stage brings is looked at from now on, but for where it was lately, or is just now; done
// reports then whether that has ended, or takes too long.
func (a *ahead) begin(k aheadStage, now time.Time) (begun, done bool) {
	a.Lock()
	defer a.Unlock()
	if look := a.asked[k]; look != nil && now.Sub(look.begun) < freshLook {
		return false, look.done || now.Sub(look.begun) > lookTime
	}
	if a.asked == nil {
		a.asked = map[aheadStage]*aheadLook{}
	}
	a.asked[k] = &aheadLook{begun: now}
	return true, false
}

// end notes that what a stage brings has been looked at.
func (a *ahead) end(k aheadStage) {
	a.Lock()
	defer a.Unlock()
	if look := a.asked[k]; look != nil {
		look.done = true
	}
}

// again has what a rollout brings looked at anew.
func (a *ahead) again(id int64) {
	a.Lock()
	defer a.Unlock()
	maps.DeleteFunc(a.asked, func(k aheadStage, _ *aheadLook) bool { return k.rollout == id })
}

func (a *ahead) of(id int64) *upstreams.BringsTo {
	a.Lock()
	defer a.Unlock()
	return a.brings[id]
}

func (a *ahead) put(id int64, b *upstreams.BringsTo) {
	a.Lock()
	defer a.Unlock()
	if a.brings == nil {
		a.brings = map[int64]*upstreams.BringsTo{}
	}
	a.brings[id] = b
}

// lookAhead works out what a rollout that is to begin brings to its hosts.
func (s *Rollouts) lookAhead(ctx context.Context, p *Startable) error {
	by := s.upstreams.NewBrings(p.resolver.Policy()).By(p.Rollout.Parts)
	for _, x := range p.placed {
		if !by.Asks(x.Part) {
			continue
		}
		h, err := s.Fleet.Find(x.Host)
		if err != nil {
			continue // it has gone at this moment
		}
		if err := by.Add(ctx, x.Part, h.Row(), p.results[h]); err != nil {
			return err
		}
	}
	p.brings = by.All()
	into(p.brings, p.Rollout.Parts)
	return nil
}

// into fills in what comes to the hosts of each part.
func into(b *upstreams.BringsTo, parts []rollout.Part) {
	for i := range parts {
		if i < len(b.Parts) {
			parts[i].Brings = b.Parts[i]
		}
	}
}

// planAhead has the places looked at that a rollout would bring and that nobody has looked at, and waits for
// a moment.
func (s *Rollouts) planAhead(ctx context.Context, p *Startable) {
	var fresh []*upstreams.Place
	for _, x := range p.brings.Places {
		s.upstreams.PlanFor(x, s.Now().Add(ground.AskTime))
		if x.Untold(s.upstreams.LookAt(x.Digest, &x.Place)) { // one that is under way is waited for
			fresh = append(fresh, x)
		}
	}
	if len(fresh) == 0 || s.Opts.Probe <= 0 {
		return
	}
	done := make(chan struct{})
	s.Background(func(bg context.Context) {
		defer close(done)
		s.upstreams.Probe(bg, fresh, p.resolver.Policy())
	})
	select {
	case <-done:
	case <-ctx.Done():
	case <-time.After(planWait):
	}
}

// broughtBy is what a live rollout brings, which is filled in: worked out anew after a start, for those hosts whose
// turn has not come.
func (s *Rollouts) broughtBy(ctx context.Context, ro *store.Rollout) (*upstreams.BringsTo, error) {
	if ro.Kind != store.KindRollout || !ro.Ended.IsZero() ||
		!slices.ContainsFunc(ro.Parts, func(p rollout.Part) bool { return p.Limits.Refused.Set && p.Stage >= ro.Course.Opened }) {
		return &upstreams.BringsTo{}, nil
	}
	if known := s.ahead.of(ro.ID); known != nil {
		into(known, ro.Parts)
		return known, nil
	}
	rs, err := s.Compute.Revision(ctx, ro.Revision)
	if err != nil {
		return nil, err
	}
	of, err := s.partOf(ctx, ro.ID)
	if err != nil {
		return nil, err
	}
	by := s.upstreams.NewBrings(rs.Policy()).By(ro.Parts)
	for _, name := range slices.Sorted(maps.Keys(of)) {
		part := int(of[name])
		h, err := s.Fleet.Find(name)
		if err != nil || !by.Asks(part) || ro.Parts[part].Stage < ro.Course.Opened || h.Row().Traits == "" {
			continue
		}
		res, err := s.Compute.Resolve(ctx, rs, h.Row())
		if err != nil {
			return nil, err
		}
		if err := by.Add(ctx, part, h.Row(), res); err != nil {
			return nil, err
		}
	}
	all := by.All()
	s.ahead.put(ro.ID, all)
	into(all, ro.Parts)
	return all, nil
}

// nextBrings fills in what is known of the places that the next stage would bring, and has them looked
// at shortly before it begins.
func (s *Rollouts) nextBrings(ctx context.Context, ro *store.Rollout, tallies []rollout.Tally) error {
	brings, err := s.broughtBy(ctx, ro)
	if err != nil || len(brings.Places) == 0 {
		for i := range tallies {
			tallies[i].Looked = true
		}
		return err
	}
	for i := range ro.Parts {
		if p := &ro.Parts[i]; p.Stage >= ro.Course.Opened { // the hosts of those before tell themselves
			s.seen(p, &tallies[i])
		}
	}
	looked, err := s.lookedFor(ctx, ro, brings)
	if err != nil {
		return err
	}
	for i := range ro.Parts {
		tallies[i].Looked = looked
	}
	return nil
}

// nextPlaces are the keys of the places that the next stage brings; at first those of all, which are better known early.
func nextPlaces(ro *store.Rollout) map[string]bool {
	out := map[string]bool{}
	for i := range ro.Parts {
		p := &ro.Parts[i]
		if p.Stage != ro.Course.Opened && ro.Course.Opened != 0 {
			continue
		}
		for _, b := range p.Brings {
			for _, x := range b.Places {
				out[x.Place] = true
			}
		}
	}
	return out
}

// seen counts the hosts of a part that what it brings is refused to, and those of which that is not known.
func (s *Rollouts) seen(p *rollout.Part, t *rollout.Tally) {
	for _, b := range p.Brings {
		refused, unseen := false, false
		for _, x := range b.Places {
			switch why, known := s.upstreams.RefusedAt(x); {
			case why != nil:
				refused = true
			case !known:
				unseen = true
			}
		}
		switch {
		case refused:
			t.Refused += b.Hosts
		case unseen:
			t.Unseen += b.Hosts
		}
	}
}

// mayOpen reports whether nothing but what it brings keeps the next stage of a rollout from beginning.
func mayOpen(ro *store.Rollout, now time.Time) bool {
	switch ro.Course.Phase {
	case rollout.Soaking, "":
		return now.Sub(ro.Course.Since) >= rollout.Soak(ro.Parts, ro.Course.Opened-1)
	case rollout.Asking:
		c := &ro.Course
		return c.Opened < len(c.Consents) && c.Consents[c.Opened] != ""
	}
	return false
}

// lookedFor reports whether the places that the next stage brings were looked at lately, and begins to where
// they were not. Who looks at nothing by itself does not do so here.
func (s *Rollouts) lookedFor(ctx context.Context, ro *store.Rollout, brings *upstreams.BringsTo) (bool, error) {
	now := s.Now()
	if s.Opts.Probe <= 0 {
		return true, nil
	}
	if !mayOpen(ro, now) {
		return false, nil
	}
	k := aheadStage{ro.ID, ro.Course.Opened}
	begun, done := s.ahead.begin(k, now)
	if !begun {
		return done, nil
	}
	next := nextPlaces(ro)
	var due []*upstreams.Place
	for _, x := range brings.Places {
		if !next[x.Digest] {
			continue
		}
		s.upstreams.PlanFor(x, now.Add(ground.AskTime))
		if l := s.upstreams.LookAt(x.Digest, &x.Place); l.State != api.PlaceGood || now.Sub(*l.Checked) > freshLook {
			due = append(due, x)
		}
	}
	if len(due) == 0 {
		s.ahead.end(k)
		return true, nil
	}
	rs, err := s.Compute.Revision(ctx, ro.Revision)
	if err != nil {
		s.ahead.again(ro.ID)
		return false, err
	}
	s.Background(func(bg context.Context) {
		defer s.steer.nudge() // however it ends, the rollout does not wait for it
		defer s.ahead.end(k)
		s.upstreams.Probe(bg, due, rs.Policy())
	})
	return false, nil
}

// refuses lists the places that a part brings and that are refused.
func (s *Rollouts) refuses(p *rollout.Part, addresses map[string]string) []api.RefusedPlace {
	found := map[string]*api.RefusedPlace{}
	for _, b := range p.Brings {
		for _, x := range b.Places {
			why, _ := s.upstreams.RefusedAt(x)
			if why == nil {
				continue
			}
			if found[x.Place] == nil {
				why.Address = addresses[x.Place]
				found[x.Place] = why
			}
			found[x.Place].Hosts += b.Hosts
		}
	}
	return upstreams.RefusedInOrder(found)
}
