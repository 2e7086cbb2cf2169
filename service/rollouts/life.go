package rollouts

import (
	"context"
	"slices"
	"time"

	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// LeaveBehind has rollouts go on without hosts that give no sign of life.
func (s *Rollouts) LeaveBehind(ctx context.Context) {
	open, err := s.Store.LiveRollouts(ctx)
	if err != nil {
		if ctx.Err() == nil {
			s.Log.Error("looking for rollouts that are under way", "error", err)
		}
		return
	}
	now := s.Now()
	for _, ro := range open {
		left := 0
		var gone []*fleet.Host
		for _, h := range s.Fleet.All() {
			v := h.Row()
			switch {
			case v.Task != ro.ID || v.Behind():
			case h.Lost(v, since(&ro), now):
				gone = append(gone, h)
			default:
				left++
			}
		}
		if len(gone) == 0 && left > 0 {
			continue
		}
		if err := s.leave(ctx, ro, gone, left == 0); err != nil && ctx.Err() == nil {
			s.Log.Error("leaving hosts behind", "rollout", ro.ID, "error", err)
		}
	}
}

// since is from when on a rollout waits for its hosts.
func since(ro *store.Rollout) time.Time {
	if ro.Course.Phase == rollout.Changing && ro.Course.Since.After(ro.Begun) {
		return ro.Course.Since
	}
	return ro.Begun
}

// leave leaves hosts of a rollout behind. last says that nobody else is waited for: then
// hosts that this service does not know any more keep the rollout open no longer.
func (s *Rollouts) leave(ctx context.Context, ro store.Rollout, gone []*fleet.Host, last bool) error {
	by := journal.Actor{Kind: journal.ActorService}
	var names []string
	var rows []*fleet.View
	locked := fleet.Lock(gone)
	defer locked.Unlock()
	for _, h := range gone {
		v := *h.Row()
		if v.Task != ro.ID || v.Behind() {
			continue
		}
		v.Stage = rollout.Behind
		if !ro.Stopped.IsZero() { // who comes back does not catch up with what was stopped
			v.Task, v.Stage = 0, ""
		}
		rows, names = append(rows, &v), append(names, v.Name)
	}
	known := names
	if last {
		strangers, err := s.strangers(ctx, ro)
		if err != nil {
			return err
		}
		names = append(slices.Clip(names), strangers...)
	}
	if len(names) == 0 && (!last || ro.Counts.Left() > 0) {
		return nil
	}
	over := false
	err := s.Store.LeaveBehind(ctx, ro, names, s.Now(), func(ended bool) store.Change {
		over = ended
		return store.Change{
			Note: func() []store.Entry {
				return append(s.HostEntries(by, journal.CommandLeave, known), s.RolloutEntry(by, journal.CommandLeave, ro.ID, ended))
			},
			Then: func() { s.Fleet.Replace(rows) },
		}
	})
	if err != nil {
		return err
	}
	for _, n := range names {
		s.Log.Warn("a host gives no sign of life and is left behind", "host", n, "rollout", ro.ID)
	}
	if over {
		s.Log.Info("rollout ended", "rollout", ro.ID)
	}
	return nil
}

// strangers are the hosts that a rollout waits for and that have no such task: this service
// does not know them any more. What stands in the store may not stand in the fleet for a
// moment, so those that it knows are given their time.
func (s *Rollouts) strangers(ctx context.Context, ro store.Rollout) (out []string, err error) {
	names, err := s.Store.RolloutNames(ctx, ro.ID, rollout.Waiting, rollout.Working)
	if err != nil {
		return nil, err
	}
	late := s.Now().Sub(ro.Begun) > s.Opts.Patience
	for _, n := range names {
		if h := s.Fleet.Named(n); h == nil || late && h.Row().Task != ro.ID {
			out = append(out, n)
		}
	}
	return out, nil
}

// Hear takes a sign of life of a host at work. It reports false where an operator has
// stopped the change and nothing was touched yet.
func (s *Rollouts) Hear(h *fleet.Host, ro store.Rollout, step string) bool {
	return h.Hear(ro.ID, step, s.Now()) || ro.Stopped.IsZero()
}
