package rollouts

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// backing is what taking a rollout back would be.
type backing struct {
	ro      store.Rollout
	of      store.Rollout
	placed  []store.Placed
	left    map[string][]string // hosts that stay as they are, by why
	dangers []string
	unseen  int                     // hosts of which it is not known what comes back
	seats   map[int64][]*fleet.Host // by the revision that they go back to
}

// BackOut gives hosts back what they had before a rollout, the newest wave first: each from
// the copies that it has kept itself.
func (s *Rollouts) BackOut(ctx context.Context, in *LeverIn) (*api.Rollout, error) {
	if err := s.alone(); err != nil {
		return nil, err
	}
	defer s.beginning.Unlock()
	b, err := s.prepareBack(ctx, in)
	if err != nil {
		return nil, err
	}
	if in.Body.Try {
		out := s.Tried(&Startable{Rollout: b.ro, placed: b.placed})
		out.Unknown, out.Dangers = b.unable(), b.dangers
		return &out, nil
	}
	ro, err := s.beginBack(ctx, b)
	if err != nil {
		return nil, err
	}
	out, err := s.steered(ctx, ro.ID)
	if err == nil {
		out.Unknown, out.Dangers = b.unable(), b.dangers
	}
	return out, err
}

// unable says which hosts cannot be taken back: each reason once, with some of them.
func (b *backing) unable() (out []string) {
	for _, why := range slices.Sorted(maps.Keys(b.left)) {
		hosts := b.left[why]
		names := strings.Join(hosts[:min(len(hosts), ground.MostNames)], ", ")
		if more := len(hosts) - ground.MostNames; more > 0 {
			names = fmt.Sprintf("%s (%s and %d more)", Plural(len(hosts)), names, more)
		}
		out = append(out, names+": "+why)
	}
	return out
}

// leave notes that a host stays as it is, and why. It stands in the rollout as well: who looks
// at that later sees what was not taken back.
func (b *backing) leave(host, why string) error {
	b.left[why] = append(b.left[why], host)
	x, err := passedOver(host, b.of.Revision, "not taken back: "+why)
	b.placed = append(b.placed, x)
	return err
}

// beginBack begins to take a rollout back. Vendors' desks are asked before anything is stopped,
// and what was taken is given back where it cannot begin.
func (s *Rollouts) beginBack(ctx context.Context, b *backing) (ro store.Rollout, err error) {
	var taken []subscription.Taking
	defer func() {
		if err != nil {
			s.contracts.GiveBack(ctx, taken)
		}
	}()
	for revision, hosts := range b.seats {
		more, err := s.contracts.SeatsFor(ctx, revision, hosts)
		if err != nil {
			return ro, err
		}
		taken = append(taken, more...)
	}
	if b.of.Ended.IsZero() {
		if err := s.outOfTheWay(ctx, b.of.ID, ""); err != nil {
			return ro, err
		}
	}
	return s.begin(ctx, "back-out-rollout", b.ro, b.placed, func(int64) {})
}

func (s *Rollouts) prepareBack(ctx context.Context, in *LeverIn) (*backing, error) {
	of, err := s.findRollout(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	for _, kind := range []string{store.KindRollout, store.KindBackOut} {
		if open, err := s.Store.OpenRollout(ctx, kind); err == nil && open.ID != of.ID {
			return nil, s.underWay(open.ID)
		}
	}
	b := &backing{of: of, left: map[string][]string{}, seats: map[int64][]*fleet.Host{}, ro: store.Rollout{
		Kind: store.KindBackOut, Revision: of.Revision, Of: of.ID, Because: strings.TrimSpace(in.Body.Because),
	}}
	changed, err := s.Store.Changed(ctx, of.ID)
	if err != nil {
		return nil, err
	}
	working, err := s.Store.RolloutParts(ctx, of.ID)
	if err != nil {
		return nil, err
	}
	by := map[int][]string{} // stage → hosts
	note := func(name string, part int) {
		stage := 0
		if part >= 0 && part < len(of.Parts) {
			stage = of.Parts[part].Stage
		}
		by[stage] = append(by[stage], name)
	}
	looked := map[[2]string]bool{}
	for _, c := range changed {
		h, err := s.Fleet.Find(c.Host)
		why := ""
		switch {
		case err != nil:
			why = "retired"
		case c.Since != 0:
			why = fmt.Sprintf("changed since by rollout %d; take that back first", c.Since)
		case !c.Known:
			why = "what stood there before was not noted"
		case c.Before.Carried.Sheet != "" && !s.Store.Known(c.Before.Carried.Sheet, store.KindSheet):
			why = "what stood there before is not kept any more"
		}
		if why != "" {
			if err := b.leave(c.Host, why); err != nil {
				return nil, err
			}
			continue
		}
		note(c.Host, c.Part)
		if r := c.Before.Revision; r != 0 {
			b.seats[r] = append(b.seats[r], h)
		}
		s.dangersBack(ctx, b, h.Row(), &c.Before, looked)
	}
	if err := s.leaveKept(ctx, b); err != nil {
		return nil, err
	}
	for _, h := range s.Fleet.All() { // they are changed in the moment in which this is asked for
		if v := h.Row(); v.Task == of.ID && v.Working() {
			note(v.Name, int(working[v.Name]))
		}
	}
	if len(by) == 0 {
		why := ""
		if len(b.left) > 0 {
			why = ": " + strings.Join(b.unable(), "; ")
		}
		return nil, refusal.Conflict(fmt.Sprintf("rollout %d has changed no host that could be taken back%s", of.ID, why))
	}
	if b.unseen > 0 {
		b.dangers = append(b.dangers, fmt.Sprintf("of %s it is not known what comes back", Plural(b.unseen)))
	}
	b.lay(by)
	return b, nil
}

// leaveKept names the hosts that failed and yet kept what the rollout brought: what it took away
// there was a danger.
func (s *Rollouts) leaveKept(ctx context.Context, b *backing) error {
	failed, _, err := s.Store.RolloutHosts(ctx, b.of.ID, store.RolloutHostsQuery{States: []rollout.State{rollout.Failed}})
	if err != nil {
		return err
	}
	for _, f := range failed {
		p := Progress(f)
		if p.Report == nil || len(p.Report.Kept) == 0 {
			continue
		}
		why := fmt.Sprintf("failed, and kept %s, since going back would bring a danger back", strings.Join(p.Report.Kept, ", "))
		if err := b.leave(f.Host, why); err != nil {
			return err
		}
	}
	return nil
}

// lay puts the hosts into waves: those that were changed last go first.
func (b *backing) lay(by map[int][]string) {
	var stages []int
	for st := range by {
		stages = append(stages, st)
	}
	slices.SortFunc(stages, func(x, y int) int { return y - x })
	for i, st := range stages {
		b.ro.Parts = append(b.ro.Parts, rollout.Part{
			Stage: i, Plan: "back-out", What: fmt.Sprintf("wave %d of rollout %d", st+1, b.of.ID), Hosts: len(by[st]),
		})
		for _, name := range by[st] {
			b.placed = append(b.placed, store.Placed{Host: name, Part: i, State: rollout.Queued})
		}
	}
}

// mostLooked bounds of how many distinct hosts it is worked out what would come back.
const mostLooked = 300

// dangersBack says what comes back that the policy had taken away.
func (s *Rollouts) dangersBack(ctx context.Context, b *backing, v *fleet.View, before *store.Before, looked map[[2]string]bool) {
	key := [2]string{v.Carried.Sheet, before.Survey}
	switch {
	case looked[key]:
		return
	case len(looked) >= mostLooked, before.Survey == "", v.Carried.Sheet == "", !s.Store.Known(before.Survey, store.KindSurvey):
		b.unseen++
		return
	}
	looked[key] = true
	found, err := s.Compute.Judge(ctx, compute.Question{Sheet: v.Carried.Sheet, Before: v.Carried.Sheet, Survey: before.Survey})
	if err != nil {
		b.dangers = append(b.dangers, v.Name+": what comes back is not known: "+refusal.Short(err.Error()))
		return
	}
	for _, f := range found.Findings {
		text := f.File + ": " + f.Message
		if f.Severity == drift.Danger && !slices.Contains(b.dangers, text) && len(b.dangers) < ground.MostNames {
			b.dangers = append(b.dangers, text)
		}
	}
	b.dangers = source.Strings(b.dangers)
}

// DeliverBack gives a host the signed word to take back what a rollout has changed.
func (s *Rollouts) DeliverBack(ctx context.Context, v *fleet.View, ro *store.Rollout) (string, error) {
	b, err := s.Store.BeforeOf(ctx, ro.Of, v.Name)
	if err != nil {
		return "", err
	}
	now := s.Now()
	return s.Key.Sign(
		api.Delivery{
			Host:     v.Name,
			Revision: b.Revision,
			Sheet:    b.Carried.Sheet,
			Rollout:  ro.ID,
			BackOut:  ro.Of,
			Issued:   now.UTC(),
			Expires:  now.Add(DeliveryLife).UTC(),
		},
	)
}

// DeliveryLife is how long a signed delivery is good.
const DeliveryLife = 10 * time.Minute
