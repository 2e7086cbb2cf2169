package register

import (
	"context"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
)

// Tally counts of how many hosts it is known how they stand, and of how many not.
type Tally struct {
	api.Standing
	newest int64
	held   map[int64]int // revision → hosts that have it
}

// Add counts a host whose state is known.
func (t *Tally) Add(v *fleet.View, state string) {
	t.Hosts++
	switch {
	case state == api.StateFailed:
		t.Failed++
	case v.Survey == "":
		t.NoSurvey++
	case state == api.StateSilent:
		t.Silent++
	case state == api.StateChanging:
		t.Changing++
	case v.Revision == 0:
		t.NoRevision++
	case state == api.StateDrifted:
		t.Drifted++
	default:
		t.Steady++
	}
	if v.Unfetched > 0 {
		t.Unfetched++
	}
	if v.Aside != nil {
		t.Waived++
	}
	if v.Judged.Unread {
		t.Unread++
	}
	if v.Revision != 0 {
		if t.held == nil {
			t.held = map[int64]int{}
		}
		t.held[v.Revision]++
		t.newest = max(t.newest, v.Revision)
	}
}

// join adds what was counted elsewhere.
func (t *Tally) join(o *Tally) {
	t.Hosts += o.Hosts
	t.Failed += o.Failed
	t.NoSurvey += o.NoSurvey
	t.Silent += o.Silent
	t.Changing += o.Changing
	t.NoRevision += o.NoRevision
	t.Drifted += o.Drifted
	t.Steady += o.Steady
	t.Unfetched += o.Unfetched
	t.Waived += o.Waived
	t.Unread += o.Unread
	for revision, n := range o.held {
		if t.held == nil {
			t.held = map[int64]int{}
		}
		t.held[revision] += n
	}
	t.newest = max(t.newest, o.newest)
}

// Sums is what was counted.
func (t *Tally) Sums() api.Standing {
	out := t.Standing
	for revision, n := range t.held {
		if revision < t.newest {
			out.Older += n
		}
	}
	return out
}

// invited adds those that were invited and have not joined.
func (s *Register) invited(ctx context.Context, st api.Standing, now time.Time) (api.Standing, error) {
	var err error
	st.Invited, err = s.Store.OpenInvites(ctx, now)
	return st, err
}
