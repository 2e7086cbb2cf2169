package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

func progress(rh store.RolloutHost) api.HostProgress {
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
	p.Report = &rep
	return p
}

type rolloutIn struct {
	Body api.RolloutOrder
}

// beginRollout carries a revision to all hosts of a family that can be changed. Vendors'
// desks are asked before anything is held that others wait for.
func (s *Service) beginRollout(ctx context.Context, in *rolloutIn) (*body[api.Rollout], error) {
	if !s.beginning.TryLock() {
		return nil, huma.Error409Conflict("somebody begins a rollout at this moment; look at it, and try again: lantern rollout list")
	}
	defer s.beginning.Unlock()
	r, err := s.pick(ctx, in.Body.Revision)
	if err != nil {
		return nil, err
	}
	targets, err := s.targets(ctx, r)
	if err != nil {
		return nil, err
	}
	taken, err := s.seatsFor(ctx, r.Number, targets)
	if err != nil {
		return nil, err
	}
	ro, err := s.beginOn(ctx, r, targets)
	if err != nil {
		s.giveBack(ctx, taken)
		return nil, err
	}
	return s.rolloutPage(ctx, ro, RolloutHosts{Paging: firstPage})
}

// beginOn begins a rollout to hosts, unless something has changed while desks were asked.
func (s *Service) beginOn(ctx context.Context, r store.Revision, targets []*host) (store.Rollout, error) {
	ro := store.Rollout{Kind: store.KindRollout, Revision: r.Number}
	locked := lockAll(targets)
	defer locked.unlock()
	if err := free(targets, r); err != nil {
		return ro, err
	}
	still := slices.DeleteFunc(slices.Clone(targets), func(h *host) bool { return h.retired.Load() })
	return s.begin(ctx, "begin-rollout", ro, still)
}

// targets are the hosts that a revision can be carried to now.
func (s *Service) targets(ctx context.Context, r store.Revision) ([]*host, error) {
	open, err := s.store.OpenRollout(ctx, store.KindRollout)
	if err == nil {
		return nil, huma.Error409Conflict(
			fmt.Sprintf("rollout %d is still under way; wait for it, or stop it: lantern rollout stop %d", open.ID, open.ID),
		)
	}
	if !errors.Is(err, store.ErrNotFound) {
		return nil, s.refuse(err)
	}
	all := s.fleet.all()
	if err := free(all, r); err != nil {
		return nil, err
	}
	var targets []*host
	for _, h := range all {
		if v := h.row(); v.Traits != "" && managed(v.family) {
			targets = append(targets, h)
		}
	}
	if len(targets) == 0 {
		return nil, huma.Error409Conflict("no host has sent a survey yet, so there is none to carry it to")
	}
	return targets, nil
}

// free refuses where a host has a task already, or a newer revision.
func free(hosts []*host, r store.Revision) error {
	for _, h := range hosts {
		v := h.row()
		if v.Task != 0 && !v.behind() {
			return huma.Error409Conflict(
				fmt.Sprintf(
					"%s is being changed by rollout %d; try again when it is done, or stop it: lantern rollout stop %d",
					v.Name,
					v.Task,
					v.Task,
				),
			)
		}
		if r.Number < v.Revision {
			return huma.Error409Conflict(
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

// begin stores a rollout and gives its hosts, which the caller has locked, the task.
func (s *Service) begin(ctx context.Context, command string, ro store.Rollout, targets []*host) (store.Rollout, error) {
	ro.Author, ro.Begun = operatorFrom(ctx).Name, s.now()
	names := make([]string, len(targets))
	for i, h := range targets {
		names[i] = h.row().Name
	}
	by := actorFrom(ctx)
	err := s.store.BeginRollout(ctx, &ro, names, store.Change{
		Note: func() []store.Entry {
			e := detailed(
				s.rolloutEntry(by, command, ro.ID, false),
				map[string]int64{"hosts": int64(len(targets)), "revision": ro.Revision},
			)
			return append(s.hostEntries(by, command, names), e)
		},
		Then: func() {
			for _, h := range targets {
				v := *h.row()
				v.Task, v.Stage = ro.ID, rollout.Waiting
				h.sign.Store(nil)
				h.put(&v)
			}
		},
	})
	if err != nil {
		return ro, s.refuse(err)
	}
	s.log.Info("rollout begun", "rollout", ro.ID, "kind", ro.Kind, "revision", ro.Revision, "hosts", len(targets), "author", ro.Author)
	return ro, nil
}

type healIn struct {
	HostPath
	Body *api.HealOrder `required:"false"`
}

func (s *Service) heal(ctx context.Context, in *healIn) (*body[api.Rollout], error) {
	h, err := s.findHost(in.Name)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	v := h.row()
	switch {
	case h.retired.Load(): // at this moment
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no host %q any more", v.Name))
	case v.Revision == 0:
		return nil, huma.Error409Conflict(
			fmt.Sprintf("no revision was carried to %s yet, so there is nothing to heal it to; begin a rollout", v.Name),
		)
	case v.Task != 0 && !v.behind():
		return nil, huma.Error409Conflict(fmt.Sprintf("%s is being changed by rollout %d", v.Name, v.Task))
	}
	ro := store.Rollout{Kind: store.KindHeal, Revision: v.Revision, SetAside: in.Body != nil && in.Body.SetAside}
	if ro, err = s.begin(ctx, "heal-host", ro, []*host{h}); err != nil {
		return nil, err
	}
	return s.rolloutPage(ctx, ro, RolloutHosts{Paging: firstPage})
}

// firstPage is shown where nobody asked for another.
var firstPage = Paging{Page: 1, PerPage: 50}

// RolloutHosts says which hosts of a rollout are wanted.
type RolloutHosts struct {
	Paging
	State []string `query:"state" doc:"Only hosts in these states"`
	Q     string   `query:"q" doc:"Part of the host's name"`
}

// rolloutOf describes a rollout without its hosts.
func rolloutOf(ro store.Rollout) api.Rollout {
	out := api.Rollout{ID: ro.ID, Kind: ro.Kind, Revision: ro.Revision, Author: ro.Author, Begun: ro.Begun, Counts: map[rollout.State]int{}}
	if !ro.Ended.IsZero() {
		out.Ended = &ro.Ended
	}
	if !ro.Stopped.IsZero() {
		out.Stopped = &ro.Stopped
	}
	for _, st := range rollout.States {
		out.Counts[st] = ro.Counts[st]
	}
	return out
}

// rolloutPage describes a rollout with a page of its hosts, those first which failed.
func (s *Service) rolloutPage(ctx context.Context, ro store.Rollout, in RolloutHosts) (*body[api.Rollout], error) {
	q := store.RolloutHostsQuery{Part: strings.ToLower(in.Q), Limit: in.PerPage, Offset: (in.Page - 1) * in.PerPage}
	for _, name := range in.State {
		if !slices.Contains(rollout.States, rollout.State(name)) {
			return nil, huma.Error422UnprocessableEntity(
				fmt.Sprintf("there is no state %.40q of a host in a rollout; states are %s", name, strings.Join(stateNames(), ", ")),
			)
		}
		q.States = append(q.States, rollout.State(name))
	}
	out := rolloutOf(ro)
	hosts, total, err := s.store.RolloutHosts(ctx, ro.ID, q)
	if err != nil {
		return nil, s.refuse(err)
	}
	out.Total = total
	for _, h := range hosts {
		out.Hosts = append(out.Hosts, s.alive(ro.ID, progress(h)))
	}
	return &body[api.Rollout]{out}, nil
}

func stateNames() (out []string) {
	for _, st := range rollout.States {
		out = append(out, string(st))
	}
	return out
}

// alive shows of a host at work how far it is now.
func (s *Service) alive(id int64, p api.HostProgress) api.HostProgress {
	if p.State != rollout.Working {
		return p
	}
	h, err := s.fleet.find(p.Host)
	if err != nil {
		return p
	}
	if sign := h.sign.Load(); sign != nil && sign.rollout == id && p.Report != nil {
		p.Report.Step, p.Updated = sign.step, sign.at
	}
	return p
}

// RolloutPath names a rollout in a path.
type RolloutPath struct {
	ID int64 `path:"id"`
}

type rolloutQuery struct {
	RolloutPath
	RolloutHosts
}

// findRollout answers a number that is none.
func (s *Service) findRollout(ctx context.Context, id int64) (store.Rollout, error) {
	ro, err := s.store.Rollout(ctx, id)
	if err != nil {
		return ro, s.refuse(fmt.Errorf("there is no rollout %d: %w", id, err))
	}
	return ro, nil
}

func (s *Service) showRollout(ctx context.Context, in *rolloutQuery) (*body[api.Rollout], error) {
	ro, err := s.findRollout(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return s.rolloutPage(ctx, ro, in.RolloutHosts)
}

func (s *Service) listRollouts(ctx context.Context, in *Paging) (*body[api.RolloutPage], error) {
	list, total, err := s.store.Rollouts(ctx, in.PerPage, (in.Page-1)*in.PerPage)
	if err != nil {
		return nil, s.refuse(err)
	}
	page := api.RolloutPage{Rollouts: []api.Rollout{}, Total: total}
	for _, ro := range list {
		page.Rollouts = append(page.Rollouts, rolloutOf(ro))
	}
	return &body[api.RolloutPage]{page}, nil
}

func (s *Service) stopRollout(ctx context.Context, in *RolloutPath) (*body[api.Rollout], error) {
	ro, err := s.findRollout(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if !ro.Ended.IsZero() {
		return nil, huma.Error409Conflict(fmt.Sprintf("rollout %d has ended already, at %s", ro.ID, ro.Ended.Format(time.RFC3339)))
	}
	left, err := s.stopHosts(ctx, ro.ID)
	if err != nil {
		return nil, s.refuse(err)
	}
	if ro, err = s.findRollout(ctx, in.ID); err != nil {
		return nil, err
	}
	out, err := s.rolloutPage(ctx, ro, RolloutHosts{Paging: firstPage})
	if err == nil {
		out.Body.Left = left
	}
	return out, err
}

// stopHosts takes a task off its hosts but for those that are at work, whose names it
// returns.
func (s *Service) stopHosts(ctx context.Context, id int64) (left []string, err error) {
	var concerned []*host
	for _, h := range s.fleet.all() {
		if h.row().Task == id {
			concerned = append(concerned, h)
		}
	}
	locked := lockAll(concerned)
	defer locked.unlock()
	now := s.now()
	var gone []string
	for _, h := range concerned {
		v := h.row()
		switch {
		case v.Task != id || !v.working():
		case h.atWork(now):
			left = append(left, v.Name)
		default:
			gone = append(gone, v.Name)
		}
	}
	by := actorFrom(ctx)
	stopped, err := s.store.StopRollout(ctx, id, gone, now, func(x store.Stopped) store.Change {
		return store.Change{
			Note: func() []store.Entry {
				return append(s.hostEntries(by, "stop-rollout", x.Hosts), s.rolloutEntry(by, "stop-rollout", id, x.Ended))
			},
			Then: func() { s.fleet.untask(x.Hosts, id) },
		}
	})
	if err != nil {
		return nil, err
	}
	s.log.Info("rollout stopped", "rollout", id, "taken back", len(stopped.Hosts), "still at work", len(left), "author", by.name)
	return source.Strings(left), nil
}

// untask takes a task off hosts.
func (f *fleet) untask(names []string, id int64) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, n := range names {
		h := f.byName[n]
		if h == nil || h.row().Task != id {
			continue
		}
		v := *h.row()
		v.Task, v.Stage = 0, ""
		h.put(&v)
	}
}
