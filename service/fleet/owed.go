package fleet

import "time"

// owed is a survey that a host names and that has not come: what is known of the host is of before.
type owed struct {
	since time.Time
	why   string // as the agent has it; may be empty
}

// NoteOwed takes note that the survey which a host names is not known, and of what its agent says of that. Once it is known
// nothing is owed.
func (h *Host) NoteOwed(owes bool, why string, now time.Time) {
	switch o := h.owed.Load(); {
	case !owes:
		if o != nil {
			h.owed.Store(nil)
		}
	case o == nil:
		h.owed.Store(&owed{now, why})
	case o.why != why:
		h.owed.Store(&owed{o.since, why})
	}
}

// late reports whether a survey is owed for longer than it takes to send one, or was refused.
func (h *Host) late(now time.Time) bool {
	o := h.owed.Load()
	return o != nil && (o.why != "" || now.Sub(o.since) > Silence(h.limits.interval))
}

func (o *owed) says(now time.Time) string {
	if o == nil {
		return "its survey has just come"
	}
	out := "its files are others than those that it was judged by, and its survey of them has not come since " + sinceWords(o.since, now)
	if o.why != "" {
		out += ": " + o.why
	}
	return out
}
