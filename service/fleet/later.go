package fleet

import (
	"fmt"
	"time"
)

// later is a revision that a host says it has carried out, of which this service has no report.
type later struct {
	since    time.Time
	revision int64
}

// NoteCarried takes note of the revision that a host says it has carried out. known is that of its last report, or the newest
// there is where none has come: it may have carried an export out.
func (h *Host) NoteCarried(revision, known int64, now time.Time) {
	switch l := h.later.Load(); {
	case revision <= known:
		if l != nil {
			h.later.Store(nil)
		}
	case l == nil:
		h.later.Store(&later{now, revision})
	case l.revision != revision:
		h.later.Store(&later{l.since, revision})
	}
}

// CarriedLater is a revision that the host has carried out and of which this service has no report; 0: none. A report may
// be on its way.
func (h *Host) CarriedLater() int64 {
	if l := h.later.Load(); l != nil && l.revision > h.Row().Revision {
		return l.revision
	}
	return 0
}

// beyond reports whether a host has carried out a revision of which no report has come for longer than one takes.
func (h *Host) beyond(now time.Time) bool {
	l, v := h.later.Load(), h.Row()
	return l != nil && l.revision > v.Revision && v.Task == 0 && now.Sub(l.since) > Silence(h.limits.interval)
}

func (l *later) says(known int64) string {
	if l == nil {
		return "its report has just come"
	}
	last := "none"
	if known != 0 {
		last = fmt.Sprintf("revision %d", known)
	}
	return fmt.Sprintf("it has carried out revision %d, and the last that this service knows of it is %s: was the service's data put back "+
		"to an earlier time? Publish the policy anew, and begin a rollout", l.revision, last)
}

// mostAhead bounds how far numbers of revisions are taken from what hosts say: one that says what is not true moves them by no more.
const mostAhead = 1000

// NewestCarried is the highest revision that hosts say they have carried out and of which this service has no report, if it is
// above newest; else newest.
func (f *Fleet) NewestCarried(newest int64) int64 {
	out := newest
	for _, h := range f.All() {
		if n := h.CarriedLater(); n > out && n <= newest+mostAhead {
			out = n
		}
	}
	return out
}
