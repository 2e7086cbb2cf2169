package rollouts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// steering is what is known of the rollouts that are under way, beside what is stored.
type steering struct {
	sync.Mutex // held while one is taken a step on
	nudged     chan struct{}

	known   sync.Mutex                 // of those below, which who looks needs as well
	parts   map[int64]map[string]int32 // of live rollouts
	blocked map[int64]map[string]int   // why hosts may not begin though their wave has come, and how many
	ended   map[int64]time.Time        // when a host of each ended last, as far as this process has seen it
}

// forget forgets a rollout that has ended.
func (st *steering) forget(id int64) {
	st.known.Lock()
	defer st.known.Unlock()
	delete(st.parts, id)
	delete(st.blocked, id)
	delete(st.ended, id)
}

// endedOne notes that a host of a rollout has ended.
func (st *steering) endedOne(id int64, now time.Time) {
	st.known.Lock()
	defer st.known.Unlock()
	st.ended[id] = now
}

// lastEnded is when a host of a live rollout ended last: since this process looks at it, none has where none is noted.
func (st *steering) lastEnded(id int64, now time.Time) time.Time {
	st.known.Lock()
	defer st.known.Unlock()
	if _, known := st.ended[id]; !known {
		st.ended[id] = now
	}
	return st.ended[id]
}

// place notes in which part of a rollout that begins each host stands.
func (st *steering) place(id int64, placed []store.Placed) {
	m := make(map[string]int32, len(placed))
	for _, x := range placed {
		m[x.Host] = int32(x.Part)
	}
	st.known.Lock()
	defer st.known.Unlock()
	st.parts[id] = m
}

// block notes why hosts of a rollout may not begin.
func (st *steering) block(id int64, why map[string]int) {
	st.known.Lock()
	defer st.known.Unlock()
	if delete(st.blocked, id); len(why) > 0 {
		st.blocked[id] = why
	}
}

func newSteering() *steering {
	return &steering{
		nudged: make(chan struct{}, 1),
		parts:  map[int64]map[string]int32{}, blocked: map[int64]map[string]int{}, ended: map[int64]time.Time{},
	}
}

// nudge has rollouts looked at soon.
func (st *steering) nudge() {
	select {
	case st.nudged <- struct{}{}:
	default:
	}
}

// loadRollouts reads which rollouts are held, and which freezes there are.
func (s *Rollouts) loadRollouts(ctx context.Context) error {
	live, err := s.Store.LiveRollouts(ctx)
	if err != nil {
		return err
	}
	for _, ro := range live {
		s.Fleet.SetHeld(ro.ID, ro.Course.Phase == rollout.Held)
	}
	list, err := s.Store.Freezes(ctx)
	s.freezes.list.Store(&list)
	return err
}

// Pauses between looks at rollouts.
const (
	steerPause  = time.Second            // when nothing happens
	steerGather = 100 * time.Millisecond // after something has, for more
	manyHosts   = 5000
)

// gatherTime is how long is waited for more, after something has happened: longer where it happens
// to many hosts.
func (s *Rollouts) gatherTime() time.Duration {
	if len(s.Fleet.All()) > manyHosts {
		return steerPause
	}
	return steerGather
}

// SteerAll takes rollouts on until the context ends.
func (s *Rollouts) SteerAll(ctx context.Context) {
	tick := time.NewTicker(min(steerPause, max(s.Opts.Patience/10, steerGather)))
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-s.steer.nudged:
			select {
			case <-ctx.Done():
				return
			case <-time.After(s.gatherTime()):
			}
		}
		live, err := s.Store.LiveRollouts(ctx)
		if err != nil && ctx.Err() == nil {
			s.Log.Error("looking for rollouts that are under way", "error", err)
		}
		for _, ro := range live {
			for more := true; more && ctx.Err() == nil; {
				if more, err = s.steerOne(ctx, ro.ID); err != nil && ctx.Err() == nil {
					s.Log.Error("taking a rollout on", "rollout", ro.ID, "error", err)
				}
			}
		}
	}
}

// steerOne takes a rollout as far on as it can go now. more says that hosts of its wave may
// still begin: between two such steps, who wants to hold it comes in.
func (s *Rollouts) steerOne(ctx context.Context, id int64) (more bool, err error) {
	s.steer.Lock()
	defer s.steer.Unlock()
	for {
		ro, err := s.Store.Rollout(ctx, id)
		if err != nil {
			return false, err
		}
		if !ro.Ended.IsZero() {
			s.steer.forget(id)
			s.ahead.forget(id)
			return false, nil
		}
		tallies, err := s.tallies(ctx, &ro, false)
		if err != nil {
			return false, err
		}
		next, actions := rollout.Step(ro.Parts, ro.Course, tallies, s.Now())
		if next.Phase != ro.Course.Phase || len(actions) > 0 {
			err := s.stand(ctx, journal.Actor{Kind: journal.ActorService}, stepCommand(actions, next), &ro, next, "")
			if errors.Is(err, store.ErrMoved) { // its last host reported meanwhile, or somebody stopped it: it is looked at again
				return true, nil
			}
			if err != nil {
				return false, err
			}
			if ended, err := s.Store.Rollout(ctx, id); err != nil || !ended.Ended.IsZero() {
				continue
			}
		}
		ro.Course = next
		moved, more, err := s.admit(ctx, &ro)
		if err != nil || more {
			return more && err == nil, err
		}
		if !moved && len(actions) == 0 {
			return false, nil
		}
	}
}

// stepCommand is what the journal calls a step.
func stepCommand(actions []rollout.Action, c rollout.Course) string {
	switch {
	case slices.Contains(actions, rollout.Open):
		return "open-wave"
	case slices.Contains(actions, rollout.Stop):
		return "gate-holds"
	case slices.Contains(actions, rollout.End):
		return "end-rollout"
	}
	return "wave-" + string(c.Phase)
}

// stand stores where a rollout stands from now on.
func (s *Rollouts) stand(ctx context.Context, by journal.Actor, command string, ro *store.Rollout, next rollout.Course, why string) error {
	detail := map[string]any{"phase": next.Phase, "wave": next.Opened}
	if next.Hold != nil && next.Hold.Gate != "" {
		detail["gate"] = next.Hold.Gate
	}
	stored, err := s.Store.Course(ctx, ro.ID, ro.Course, next, s.Now(), store.Change{
		Note: func() []store.Entry {
			e := journal.Detailed(s.RolloutEntry(by, command, ro.ID, false), detail)
			e.Why = why
			return []store.Entry{e}
		},
		Then: func() { s.Fleet.SetHeld(ro.ID, next.Phase == rollout.Held) },
	})
	if err == nil && !stored {
		err = store.ErrMoved
	}
	if err == nil {
		s.Log.Info("rollout", "rollout", ro.ID, "command", command, "phase", next.Phase, "wave", next.Opened, "by", by.String())
	}
	return err
}

// partOf tells in which part of a live rollout each host stands. The map is not changed.
func (s *Rollouts) partOf(ctx context.Context, id int64) (map[string]int32, error) {
	s.steer.known.Lock()
	defer s.steer.known.Unlock()
	if m, known := s.steer.parts[id]; known {
		return m, nil
	}
	m, err := s.Store.RolloutParts(ctx, id)
	if err == nil {
		s.steer.parts[id] = m
	}
	return m, err
}

// looksAtHosts reports whether a gate counts what only the hosts themselves tell.
func looksAtHosts(parts []rollout.Part) bool {
	return slices.ContainsFunc(parts, func(p rollout.Part) bool { return p.Limits.Unrefreshed.Set || p.Limits.Drifted.Set })
}

// tallies counts the hosts of a rollout: for its gates, or all that there is to show.
func (s *Rollouts) tallies(ctx context.Context, ro *store.Rollout, all bool) ([]rollout.Tally, error) {
	out, err := s.Store.Tallies(ctx, ro)
	if err == nil {
		err = s.nextBrings(ctx, ro, out)
	}
	if err != nil || !all && !looksAtHosts(ro.Parts) {
		return out, err
	}
	parts, err := s.partOf(ctx, ro.ID)
	if err != nil {
		return nil, err
	}
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if ro.Kind == store.KindRollout && v.Revision != ro.Revision || v.Carried.At.Before(ro.Begun) ||
			v.Unfetched == 0 && len(v.Findings) == 0 {
			continue
		}
		part, here := parts[v.Name]
		if !here || part < 0 || int(part) >= len(out) {
			continue
		}
		if v.Unfetched > 0 {
			out[part].Unrefreshed++
		}
		if driftedSince(v) {
			out[part].Drifted++
		}
	}
	return out, nil
}

// driftedSince reports whether a host has drifted after it was changed last.
func driftedSince(v *fleet.View) bool {
	for i := range v.Findings {
		if i >= len(v.Keys) {
			return false
		}
		if since, known := v.Since.Of(v.Keys[i]); known && since.After(v.Carried.At) && v.Findings[i].Severity != "note" {
			return true
		}
	}
	return false
}

// mostAdmitted is how many hosts are let begin in one transaction, so that reports and readers
// come in between.
const mostAdmitted = 5000

// admit lets the hosts begin whose wave has come, but for those that may not at this hour.
// It reports whether anything moved, and whether more may begin than did in one go. The caller
// holds steer.
func (s *Rollouts) admit(ctx context.Context, ro *store.Rollout) (moved, more bool, err error) {
	if ro.Course.Phase == rollout.Held {
		s.steer.block(ro.ID, nil)
		return false, false, nil
	}
	blocked := map[string]int{}
	var hosts []*fleet.Host
	freezes := s.Standing()
	var last *store.Queued
	for !more {
		page, err := s.Store.QueuedIn(ctx, ro, ro.Course.Opened, last, mostAdmitted+1)
		if err != nil {
			s.steer.block(ro.ID, nil)
			return false, false, err
		}
		for i := range page {
			q := &page[i]
			last = q
			if more = len(hosts) == mostAdmitted; more {
				blocked = nil // not all have been looked at
				break
			}
			h, why, gone, err := s.turnOf(ctx, ro, q, freezes)
			switch {
			case err != nil:
				return false, false, err
			case gone:
				if err := s.leaves(ctx, ro.ID, q.Host); err != nil {
					return false, false, err
				}
				moved = true
			case why != "":
				blocked[why]++
			default:
				hosts = append(hosts, h)
			}
		}
		if len(page) <= mostAdmitted {
			break
		}
	}
	s.steer.block(ro.ID, blocked)
	if len(hosts) == 0 {
		return moved, false, nil
	}
	return true, more, s.letBegin(ctx, ro, hosts)
}

// turnOf is mayBegin for one that waits for its turn.
func (s *Rollouts) turnOf(ctx context.Context, ro *store.Rollout, q *store.Queued, freezes []store.Freeze) (
	h *fleet.Host, why string, gone bool, err error,
) {
	if h, err = s.Fleet.Find(q.Host); err != nil {
		return nil, "", true, nil
	}
	why, gone, err = s.mayBegin(ctx, ro, h, &ro.Parts[q.Part], freezes)
	return h, why, gone, err
}

// mayBegin says why a host may not begin yet; gone: it has nothing to do here any more.
func (s *Rollouts) mayBegin(ctx context.Context, ro *store.Rollout, h *fleet.Host, part *rollout.Part, freezes []store.Freeze) (
	why string, gone bool, err error,
) {
	v := h.Row()
	if ro.Kind == store.KindBackOut {
		st, err := s.Store.PlaceOf(ctx, ro.Of, v.Name)
		switch {
		case err != nil:
			return "", false, err
		case st.Open():
			return fmt.Sprintf("still changed by rollout %d", ro.Of), false, nil
		case st != rollout.Done:
			return "", true, nil // it was put back, or nothing had been changed
		}
	}
	switch {
	case v.Task == 0 || v.Behind():
	case s.Fleet.HoldsBack(v):
		return fmt.Sprintf("waiting in rollout %d, which is held", v.Task), false, nil
	default:
		return fmt.Sprintf("changed by rollout %d", v.Task), false, nil
	}
	if f := s.frozen(ctx, v, freezes); f != nil {
		return "frozen until " + f.Until.UTC().Format("2006-01-02 15:04 MST"), false, nil
	}
	if part.Quiet.String() != "" && part.Quiet.Covers(s.Now().In(fleet.Zone(v.Zone))) {
		return "in quiet hours, " + part.Quiet.String(), false, nil
	}
	return "", false, nil
}

// letBegin gives hosts the task.
func (s *Rollouts) letBegin(ctx context.Context, ro *store.Rollout, hosts []*fleet.Host) error {
	locked := fleet.Lock(hosts)
	defer locked.Unlock()
	var names []string
	var mine []*fleet.Host
	for _, h := range hosts {
		if v := h.Row(); !h.IsRetired() && (v.Task == 0 || v.Behind()) {
			names, mine = append(names, v.Name), append(mine, h)
		}
	}
	by := journal.Actor{Kind: journal.ActorService}
	return s.Store.Admit(ctx, ro.ID, names, s.Now(), store.Change{
		Note: func() []store.Entry {
			list := s.HostEntries(by, "open-wave", names)
			for i := range list {
				list[i].Passing = true // the rollout's rows say it
			}
			return list
		},
		Then: func() {
			for _, h := range mine {
				v := *h.Row()
				v.Task, v.Stage = ro.ID, rollout.Waiting
				h.ForgetSign()
				h.Put(&v)
			}
		},
	})
}

// leaves takes a host that is not there any more out of a rollout.
func (s *Rollouts) leaves(ctx context.Context, id int64, name string) error {
	return s.Store.TakeOut(ctx, id, name, s.Now(), rollout.Leaves, func(ended bool) store.Change {
		return store.Noted(s.RolloutEntry(journal.Actor{Kind: journal.ActorService}, journal.CommandLeave, id, ended))
	})
}

// Ended notes that a host of a rollout has ended just now.
func (s *Rollouts) Ended(id int64) { s.steer.endedOne(id, s.Now()) }

// Nudge has rollouts looked at soon.
func (s *Rollouts) Nudge() { s.steer.nudge() }
