package service

import (
	"context"
	"strconv"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
)

// defaultPatience is how long a host that has something to carry out may give no sign of
// life before the others go on without it.
const defaultPatience = 15 * time.Minute

// leastPatience is the least time between two signs of life that is borne of a host at
// work: agents give one about three times as often.
const leastPatience = time.Minute

// sign is the newest sign of life of a host that is at work.
type sign struct {
	rollout int64
	step    string
	at      time.Time
}

// lastSign is when a host was last heard of, in whatever way.
func (h *host) lastSign() time.Time {
	at := h.seenAt()
	if s := h.sign.Load(); s != nil && s.at.After(at) {
		at = s.at
	}
	return at
}

// atWork reports whether a host carries its task out, as far as can be known.
func (h *host) atWork(now time.Time) bool {
	v := h.row()
	return v.Task != 0 && v.working && !v.behind && now.Sub(h.lastSign()) <= h.limit(true)
}

// limit is how long a host may give no sign of life. One at work gives them often.
func (h *host) limit(working bool) time.Duration {
	if working {
		return max(h.patience/3, min(leastPatience, h.patience))
	}
	return h.patience
}

// lost reports whether a host with a task has given no sign of life for too long.
func (h *host) lost(v *hostView, begun, now time.Time) bool {
	last := h.lastSign()
	if last.Before(begun) {
		last = begun
	}
	return now.Sub(last) > h.limit(v.working)
}

// watchLife ends what would wait for ever: hosts that have died at work, or that were
// switched off before they began, are left behind.
func (s *Service) watchLife(ctx context.Context) {
	every(ctx, max(min(s.opts.Patience/10, 5*time.Second), 50*time.Millisecond), func() {
		s.leaveBehind(ctx)
		s.lookAtKeys(ctx)
		s.asked.expire(s.now())
	})
}

func (s *Service) leaveBehind(ctx context.Context) {
	open, err := s.store.OpenRollouts(ctx)
	if err != nil {
		if ctx.Err() == nil {
			s.log.Error("looking for rollouts that are open", "error", err)
		}
		return
	}
	now := s.now()
	for _, ro := range open {
		left := 0
		var gone []*host
		for _, h := range s.fleet.all() {
			v := h.row()
			switch {
			case v.Task != ro.ID || v.behind:
			case h.lost(v, ro.Begun, now):
				gone = append(gone, h)
			default:
				left++
			}
		}
		if len(gone) == 0 && left > 0 {
			continue
		}
		s.leave(ctx, ro, gone, left == 0)
	}
}

// leave leaves hosts of a rollout behind. last says that nobody else is waited for: then
// hosts that this service does not know any more keep the rollout open no longer.
func (s *Service) leave(ctx context.Context, ro store.Rollout, gone []*host, last bool) {
	var names []string
	for _, h := range gone {
		h.mu.Lock()
		v := *h.row()
		if v.Task != ro.ID || v.behind {
			h.mu.Unlock()
			continue
		}
		v.behind, v.working = true, false
		if !ro.Stopped.IsZero() { // who comes back does not catch up with what was stopped
			v.Task, v.behind = 0, false
		}
		h.put(&v)
		h.mu.Unlock()
		names = append(names, v.Name)
	}
	if last {
		rows, err := s.store.RolloutHosts(ctx, ro.ID)
		if err != nil {
			s.log.Error("looking who is left of a rollout", "rollout", ro.ID, "error", err)
			return
		}
		for _, r := range rows {
			if r.State == store.Waiting || r.State == store.Working {
				names = append(names, r.Host)
			}
		}
	}
	ended, err := s.store.LeaveBehind(ctx, ro.ID, names, s.now())
	if err != nil {
		s.log.Error("leaving hosts behind", "rollout", ro.ID, "error", err)
		return
	}
	for _, n := range names {
		s.log.Warn("a host gives no sign of life and is left behind", "host", n, "rollout", ro.ID)
		s.events.send(api.Event{Kind: "host", Name: n})
	}
	if ended {
		s.log.Info("rollout ended", "rollout", ro.ID)
	}
	s.events.send(api.Event{Kind: "rollout", Name: strconv.FormatInt(ro.ID, 10)})
}

// lookAtKeys works out anew how hosts stand whose keys have ended since.
func (s *Service) lookAtKeys(ctx context.Context) {
	now := s.now()
	for _, h := range s.fleet.all() {
		if v := h.row(); !v.keyEnds.IsZero() && !now.Before(v.keyEnds) {
			if _, err := s.change(ctx, h, func(*hostView) error { return nil }, nil); err != nil && ctx.Err() == nil {
				s.log.Error("working out how a host stands", "host", v.Name, "error", err)
			}
		}
	}
}

// beforeSwap are the steps at which nothing was touched yet.
var beforeSwap = map[string]bool{api.StepVerify: true, api.StepSurvey: true, api.StepPlan: true, api.StepJournal: true, api.StepStage: true, api.StepTry: true}

// hear takes a sign of life of a host at work. It reports false where an operator has
// stopped the change and nothing was touched yet.
func (s *Service) hear(h *host, ro store.Rollout, step string) bool {
	now := s.now()
	h.sign.Store(&sign{ro.ID, step, now})
	h.seen(now)
	return ro.Stopped.IsZero() || !beforeSwap[step]
}
