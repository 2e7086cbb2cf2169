package fleet

import (
	"time"

	"patientlantern.example/lantern/api"
)

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
func (h *Host) lastSign() time.Time {
	at := h.SeenAt()
	if s := h.sign.Load(); s != nil && s.at.After(at) {
		at = s.at
	}
	return at
}

// AtWork reports whether a host carries its task out, as far as can be known.
func (h *Host) AtWork(now time.Time) bool {
	v := h.Row()
	return v.Task != 0 && v.Working() && !v.Behind() && now.Sub(h.lastSign()) <= h.limit(true)
}

// limit is how long a host may give no sign of life. One at work gives them often.
func (h *Host) limit(working bool) time.Duration {
	if working {
		return max(h.limits.patience/3, min(leastPatience, h.limits.patience))
	}
	return h.limits.patience
}

// Lost reports whether a host with a task has given no sign of life for too long.
func (h *Host) Lost(v *View, begun, now time.Time) bool {
	last := h.lastSign()
	if last.Before(begun) {
		last = begun
	}
	return now.Sub(last) > h.limit(v.Working())
}

// beforeSwap are the steps at which nothing was touched yet.
var beforeSwap = map[string]bool{
	api.StepVerify:  true,
	api.StepSurvey:  true,
	api.StepPlan:    true,
	api.StepJournal: true,
	api.StepStage:   true,
	api.StepTry:     true,
}

// Hear takes a sign of life at a step of a rollout, and reports whether something of the host is touched
// by then.
func (h *Host) Hear(rollout int64, step string, now time.Time) (touched bool) {
	h.sign.Store(&sign{rollout, step, now})
	h.Seen(now)
	return !beforeSwap[step]
}

// SignOf is the newest sign of life at work on a rollout.
func (h *Host) SignOf(rollout int64) (step string, at time.Time, ok bool) {
	s := h.sign.Load()
	if s == nil || s.rollout != rollout {
		return "", time.Time{}, false
	}
	return s.step, s.at, true
}

// ForgetSign drops the newest sign of life: the host has something else to do.
func (h *Host) ForgetSign() { h.sign.Store(nil) }
