// Package rollouts carries revisions to hosts: what is begun, how it goes on, what holds it, and the way
// back. Healing is a rollout too.
package rollouts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/contracts"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/upstreams"
	"patientlantern.example/lantern/store"
)

// Rollouts carries revisions to hosts: what is begun, how it goes on, what holds it, and the way back.
type Rollouts struct {
	*ground.Ground
	contracts *contracts.Contracts
	upstreams *upstreams.Upstreams

	steer     *steering
	ahead     ahead
	freezes   freezes
	beginning sync.Mutex // one rollout is begun at a time
}

// New loads which rollouts are held, and which freezes there are.
func New(ctx context.Context, g *ground.Ground, c *contracts.Contracts, u *upstreams.Upstreams) (*Rollouts, error) {
	r := &Rollouts{Ground: g, contracts: c, upstreams: u, steer: newSteering()}
	if err := r.loadRollouts(ctx); err != nil {
		return nil, fmt.Errorf("loading rollouts and freezes: %w", err)
	}
	return r, nil
}

// Progress describes a host of a rollout.
func Progress(rh store.RolloutHost) api.HostProgress {
	p := api.HostProgress{Host: rh.Host, State: rh.State, Updated: rh.Updated}
	if len(rh.Report) == 0 {
		return p
	}
	var rep api.Report
	if json.Unmarshal(rh.Report, &rep) != nil {
		return p
	}
	if len(rh.Took) > 0 {
		_ = json.Unmarshal(rh.Took, &rep.Took) // how long it took is not worth an error
	}
	rep.Cause = causeOf(rep.Message)
	for i := range rep.Sources {
		if o := &rep.Sources[i]; !o.OK {
			o.Cause = causeOf(o.Message)
		}
	}
	p.Report = &rep
	return p
}

// causeOf is what a message of a package manager means; nil where its words are not known.
func causeOf(message string) *cause.Meaning {
	if c, known := cause.Of(message); known {
		return &c
	}
	return nil
}

// RolloutIn says what is to be carried where.
type RolloutIn struct {
	Body api.RolloutOrder
}

// BeginRollout begins to carry a revision to hosts: those of its first wave have the task
// when it returns. Vendors' desks are asked before anything is held that others wait for.
func (s *Rollouts) BeginRollout(ctx context.Context, in *RolloutIn) (*api.Rollout, error) {
	if err := s.alone(); err != nil {
		return nil, err
	}
	defer s.beginning.Unlock()
	defer s.Opts.Spend()()
	p, err := s.startable(ctx, &in.Body)
	if err != nil {
		return nil, err
	}
	if in.Body.Try {
		if err := s.lookAhead(ctx, p); err != nil {
			return nil, err
		}
		s.planAhead(ctx, p)
		return new(s.Tried(p)), nil
	}
	taken, err := s.contracts.SeatsFor(ctx, p.revision.Number, p.Takers)
	if err != nil {
		return nil, err
	}
	ro, err := s.beginOn(ctx, p)
	if err != nil {
		s.contracts.GiveBack(ctx, taken)
		return nil, err
	}
	s.followAgain(ctx, p)
	out, err := s.steered(ctx, ro.ID)
	if err == nil {
		out.Others, out.Unsure, out.TookOver = p.others, p.unsure, p.over
	}
	return out, err
}

// alone lets one rollout begin at a time; the caller unlocks beginning.
func (s *Rollouts) alone() error {
	if !s.beginning.TryLock() {
		return refusal.Conflict("somebody begins a rollout at this moment; look at it, and try again: lantern rollout list")
	}
	return nil
}

// steered takes a rollout on after a command, and describes it.
func (s *Rollouts) steered(ctx context.Context, id int64) (*api.Rollout, error) {
	more, err := s.steerOne(ctx, id)
	if err != nil {
		return nil, err
	}
	if more { // nobody is kept waiting for a wave of many hosts
		s.steer.nudge()
	}
	return s.freshPage(ctx, id)
}

// freshPage describes a rollout after a command, with its first hosts.
func (s *Rollouts) freshPage(ctx context.Context, id int64) (*api.Rollout, error) {
	ro, err := s.findRollout(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.rolloutPage(ctx, ro, RolloutHosts{Paging: firstPage})
}

// beginOn begins a rollout, unless something has changed while desks were asked.
func (s *Rollouts) beginOn(ctx context.Context, p *Startable) (store.Rollout, error) {
	if p.over != 0 {
		if err := s.outOfTheWay(ctx, p.over, rollout.Held); err != nil {
			return p.Rollout, err
		}
	}
	if err := s.lookAhead(ctx, p); err != nil { // with the seats that hosts have now
		return p.Rollout, err
	}
	locked := fleet.Lock(slices.Concat(p.Takers, p.already, p.unseen))
	defer locked.Unlock()
	if err := forward(locked, p.revision); err != nil {
		return p.Rollout, err
	}
	gone := map[string]bool{}
	for _, h := range locked {
		if h.IsRetired() {
			gone[h.Row().Name] = true
		}
	}
	p.placed = slices.DeleteFunc(p.placed, func(x store.Placed) bool { return gone[x.Host] })
	return s.begin(ctx, "begin-rollout", p.Rollout, p.placed, func(id int64) {
		s.ahead.put(id, p.brings)
		for _, h := range p.already {
			v := *h.Row()
			v.Revision, v.Failure = p.revision.Number, ""
			h.Put(&v)
		}
	})
}

// outOfTheWay stops a rollout that is to make way, in the phase in which it does.
func (s *Rollouts) outOfTheWay(ctx context.Context, id int64, phase rollout.Phase) error {
	_, err := s.stopHosts(ctx, id, phase)
	switch {
	case errors.Is(err, store.ErrEnded): // somebody else has stopped it meanwhile
		return nil
	case errors.Is(err, store.ErrMoved):
		return s.underWay(id)
	}
	return err
}

// underWay refuses what has to wait until a rollout has ended, and says what that one waits for.
func (s *Rollouts) underWay(id int64) error {
	why := ""
	if waits := s.waitsFor(id); len(waits) > 0 {
		why = " (" + strings.Join(waits, "; ") + ")"
	}
	return refusal.Conflict(fmt.Sprintf("rollout %d is still under way%s; wait for it, or stop it: lantern rollout stop %[1]d", id, why))
}

// forward refuses where a host has a newer revision. One that is being healed does not hold
// others up: it begins when it is done.
func forward(hosts []*fleet.Host, r store.Revision) error {
	for _, h := range hosts {
		v := h.Row()
		if r.Number < v.Revision {
			return refusal.Conflict(
				fmt.Sprintf(
					"%s has revision %d already, and a host does not go back to revision %d as it is: publish it again (lantern policy restore "+
						"%d), then begin",
					v.Name,
					v.Revision,
					r.Number,
					r.Number,
				),
			)
		}
	}
	return nil
}

// begin stores a rollout, whose hosts the caller has locked. then is told its number when
// it stands.
func (s *Rollouts) begin(
	ctx context.Context,
	command string,
	ro store.Rollout,
	placed []store.Placed,
	then func(id int64),
) (store.Rollout, error) {
	ro.Author, ro.Begun = identity.Operator(ctx).Name, s.Now()
	if ro.Author == "" {
		ro.Author = "the service"
	}
	names := make([]string, 0, len(placed))
	for _, x := range placed {
		if x.State != rollout.Unchanged && x.State != rollout.Skipped {
			names = append(names, x.Host)
		}
	}
	by := journal.By(ctx)
	err := s.Store.BeginRollout(ctx, &ro, placed, store.Change{
		Note: func() []store.Entry {
			e := journal.Detailed(
				s.RolloutEntry(by, command, ro.ID, !ro.Ended.IsZero()),
				map[string]int64{"hosts": int64(len(names)), "revision": ro.Revision},
			)
			e.Why = ro.Because
			return append(s.HostEntries(by, command, names), e)
		},
		Then: func() {
			s.steer.place(ro.ID, placed)
			then(ro.ID)
		},
	})
	if err != nil {
		return ro, err
	}
	s.Log.Info("rollout begun", "rollout", ro.ID, "kind", ro.Kind, "revision", ro.Revision, "hosts", len(names), "author", ro.Author)
	return ro, nil
}

// HealIn says what is healed on a host.
type HealIn struct {
	ground.HostPath
	Body *api.HealOrder `required:"false"`
}

// Heal puts right what has drifted on a host.
func (s *Rollouts) Heal(ctx context.Context, in *HealIn) (*api.Rollout, error) {
	h, err := s.FindHost(in.Name)
	if err != nil {
		return nil, err
	}
	ro, err := s.beginHeal(ctx, h, in.Body != nil && in.Body.SetAside)
	if err != nil {
		return nil, err
	}
	return s.freshPage(ctx, ro.ID)
}

func (s *Rollouts) beginHeal(ctx context.Context, h *fleet.Host, setAside bool) (ro store.Rollout, err error) {
	h.Lock()
	defer h.Unlock()
	v := h.Row()
	busy := s.Fleet.Busy(v)
	switch {
	case h.IsRetired(): // at this moment
		return ro, refusal.NotFound(fmt.Sprintf("there is no host %q any more", v.Name))
	case v.Revision == 0:
		return ro, refusal.Conflict(
			fmt.Sprintf("no revision was carried to %s yet, so there is nothing to heal it to; begin a rollout", v.Name),
		)
	case busy != "":
		return ro, refusal.Conflict(busy)
	}
	if f := s.frozen(ctx, v, s.Standing()); f != nil {
		return ro, refusal.Conflict(fmt.Sprintf("%s is frozen until %s (%s: %s); end that first: lantern freeze end %d",
			v.Name, f.Until.UTC().Format(time.RFC3339), f.Author, f.Because, f.ID))
	}
	ro = store.Rollout{Kind: store.KindHeal, Revision: v.Revision, SetAside: setAside}
	ro.Parts = []rollout.Part{{Plan: rollout.AtOnce().Name, What: v.Name, Hosts: 1}}
	ro.Course = rollout.Course{Opened: 1, Phase: rollout.Changing, Since: s.Now()}
	placed := []store.Placed{{Host: v.Name, State: rollout.Waiting}}
	return s.begin(ctx, "heal-host", ro, placed, func(id int64) {
		v := *h.Row()
		v.Task, v.Stage = id, rollout.Waiting
		h.ForgetSign()
		h.Put(&v)
	})
}

// firstPage is shown where nobody asked for another.
var firstPage = ground.Paging{Page: 1, PerPage: 50}

// RolloutHosts says which hosts of a rollout are wanted.
type RolloutHosts struct {
	ground.Paging
	State []string `query:"state" doc:"Only hosts in these states"`
	Q     string   `query:"q" doc:"Part of the host's name"`
}

// rolloutPage describes a rollout with a page of its hosts, those first which failed.
func (s *Rollouts) rolloutPage(ctx context.Context, ro store.Rollout, in RolloutHosts) (*api.Rollout, error) {
	q := store.RolloutHostsQuery{Part: strings.ToLower(in.Q), Limit: in.PerPage, Offset: in.Before()}
	for _, name := range in.State {
		if !slices.Contains(rollout.States, rollout.State(name)) {
			return nil, refusal.Wrong(
				fmt.Sprintf("there is no state %.40q of a host in a rollout; states are %s", name, strings.Join(stateNames(), ", ")),
			)
		}
		q.States = append(q.States, rollout.State(name))
	}
	out, err := s.courseOf(ctx, ro)
	if err != nil {
		return nil, err
	}
	hosts, total, err := s.Store.RolloutHosts(ctx, ro.ID, q)
	if err != nil {
		return nil, err
	}
	out.Total = total
	for _, h := range hosts {
		p := s.alive(ro.ID, Progress(h))
		if h.Part >= 0 && h.Part < len(ro.Parts) {
			p.Wave = ro.Parts[h.Part].Stage + 1
		}
		out.Hosts = append(out.Hosts, p)
	}
	return &out, nil
}

func stateNames() (out []string) {
	for _, st := range rollout.States {
		out = append(out, string(st))
	}
	return out
}

// alive shows of a host at work how far it is now.
func (s *Rollouts) alive(id int64, p api.HostProgress) api.HostProgress {
	if p.State != rollout.Working {
		return p
	}
	h, err := s.Fleet.Find(p.Host)
	if err != nil {
		return p
	}
	if step, at, ok := h.SignOf(id); ok && p.Report != nil {
		p.Report.Step, p.Updated = step, at
	}
	return p
}

// RolloutPath names a rollout in a path.
type RolloutPath struct {
	ID int64 `path:"id"`
}

// RolloutQuery says which rollouts are asked for.
type RolloutQuery struct {
	RolloutPath
	RolloutHosts
}

// findRollout answers a number that is none.
func (s *Rollouts) findRollout(ctx context.Context, id int64) (store.Rollout, error) {
	ro, err := s.Store.Rollout(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return ro, refusal.NotFound(fmt.Sprintf("there is no rollout %d; `lantern rollout list` lists them", id))
	}
	return ro, err
}

// ShowRollout says how far a rollout is.
func (s *Rollouts) ShowRollout(ctx context.Context, in *RolloutQuery) (*api.Rollout, error) {
	ro, err := s.findRollout(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return s.rolloutPage(ctx, ro, in.RolloutHosts)
}

// ListRollouts lists rollouts, page by page.
func (s *Rollouts) ListRollouts(ctx context.Context, in *ground.Paging) (*api.RolloutPage, error) {
	list, total, err := s.Store.Rollouts(ctx, in.PerPage, in.Before())
	if err != nil {
		return nil, err
	}
	page := api.RolloutPage{Rollouts: []api.Rollout{}, Total: total, Next: in.Next(total)}
	for _, ro := range list {
		page.Rollouts = append(page.Rollouts, rolloutOf(ro))
	}
	return &page, nil
}

// StopRollout stops a rollout where it has not begun.
func (s *Rollouts) StopRollout(ctx context.Context, in *RolloutPath) (*api.Rollout, error) {
	ro, err := s.findRollout(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	left, err := s.stopHosts(ctx, ro.ID, "")
	if errors.Is(err, store.ErrEnded) {
		if ro, err = s.findRollout(ctx, in.ID); err == nil {
			err = refusal.Conflict(fmt.Sprintf("rollout %d has ended already, at %s", ro.ID, ro.Ended.Format(time.RFC3339)))
		}
	}
	if err != nil {
		return nil, err
	}
	out, err := s.freshPage(ctx, in.ID)
	if err == nil {
		out.Left = left
	}
	return out, err
}

// stopHosts takes a task off its hosts but for those that are at work, whose names it
// returns.
func (s *Rollouts) stopHosts(ctx context.Context, id int64, phase rollout.Phase) (left []string, err error) {
	var concerned []*fleet.Host
	for _, h := range s.Fleet.All() {
		if h.Row().Task == id {
			concerned = append(concerned, h)
		}
	}
	locked := fleet.Lock(concerned)
	defer locked.Unlock()
	now := s.Now()
	var gone []string
	for _, h := range concerned {
		v := h.Row()
		switch {
		case v.Task != id || !v.Working():
		case h.AtWork(now):
			left = append(left, v.Name)
		default:
			gone = append(gone, v.Name)
		}
	}
	by := journal.By(ctx)
	stopped, err := s.Store.StopRollout(ctx, id, phase, gone, now, func(x store.Stopped) store.Change {
		return store.Change{
			Note: func() []store.Entry {
				return append(s.HostEntries(by, "stop-rollout", x.Hosts), s.RolloutEntry(by, "stop-rollout", id, x.Ended))
			},
			Then: func() { s.Fleet.Untask(x.Hosts, id) },
		}
	})
	if err != nil {
		return nil, err
	}
	s.ahead.forget(id)
	s.Log.Info("rollout stopped", "rollout", id, "taken back", len(stopped.Hosts), "still at work", len(left), "author", by.Name)
	return source.Strings(left), nil
}
