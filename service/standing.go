package service

import (
	"context"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
)

// tally counts of how many hosts it is known how they stand, and of how many not.
type tally struct {
	api.Standing
	newest int64
	held   map[int64]int // revision → hosts that have it
}

// add counts a host whose state is known.
func (t *tally) add(v *fleet.View, state string) {
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
	if v.Unread {
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
func (t *tally) join(o *tally) {
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

// standing is what was counted.
func (t *tally) standing() api.Standing {
	out := t.Standing
	for revision, n := range t.held {
		if revision < t.newest {
			out.Older += n
		}
	}
	return out
}

// invited adds those that were invited and have not joined.
func (s *Service) invited(ctx context.Context, st api.Standing, now time.Time) (api.Standing, error) {
	var err error
	st.Invited, err = s.Store.OpenInvites(ctx, now)
	return st, err
}
