package rollouts

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// freezes are all that there are, the newest first. Only the writer of the store replaces
// the list.
type freezes struct {
	list atomic.Pointer[[]store.Freeze]
}

// Standing are the freezes that hold now.
func (s *Rollouts) Standing() (out []store.Freeze) {
	now := s.Now()
	for _, f := range *s.freezes.list.Load() {
		if f.Stands(now) {
			out = append(out, f)
		}
	}
	return out
}

// frozen finds the freeze that keeps a host from beginning; nil where there is none. A
// group is that of the newest revision; where nobody can tell whether a host is in it, it
// is held to be.
func (s *Rollouts) frozen(ctx context.Context, v *fleet.View, list []store.Freeze) *store.Freeze {
	for i := range list {
		f := &list[i]
		if f.Scope == "" || v.Name == f.Scope {
			return f
		}
		if expanded, err := names.Expand(f.Scope); err == nil && strings.ContainsAny(f.Scope, ".{}") {
			for _, n := range expanded {
				if h, err := s.Fleet.Find(n); err == nil && h.Row().Name == v.Name {
					return f
				}
			}
			continue
		}
		in, err := s.inNewest(ctx, v, f.Scope)
		if err != nil || in {
			return f
		}
	}
	return nil
}

// inNewest reports whether a host is in a group of the newest revision.
func (s *Rollouts) inNewest(ctx context.Context, v *fleet.View, group string) (bool, error) {
	r, err := s.Pick(ctx, 0)
	if err != nil {
		return false, err
	}
	rs, err := s.Compute.Revision(ctx, r.Number)
	if err != nil {
		return false, err
	}
	h, err := s.Compute.HostOf(ctx, v)
	if err != nil {
		return false, err
	}
	return s.Compute.InGroup(rs, h, group), nil
}

// MayWork reports whether a host is handed its task now.
func (s *Rollouts) MayWork(ctx context.Context, v *fleet.View) bool {
	return v.Task != 0 && !s.Fleet.HoldsBack(v) && (v.Working() || s.frozen(ctx, v, s.Standing()) == nil)
}

func freezeOf(f store.Freeze, now time.Time) api.Freeze {
	out := api.Freeze{ID: f.ID, Group: f.Scope, Author: f.Author, Because: f.Because, Begun: f.Begun, Until: f.Until, Stands: f.Stands(now)}
	if !f.Ended.IsZero() {
		out.Ended = &f.Ended
	}
	return out
}

// ListFreezes lists when nothing moves.
func (s *Rollouts) ListFreezes(context.Context, *struct{}) (*api.FreezeList, error) {
	out := api.FreezeList{Freezes: []api.Freeze{}}
	for _, f := range *s.freezes.list.Load() {
		out.Freezes = append(out.Freezes, freezeOf(f, s.Now()))
	}
	out.Total = len(out.Freezes)
	return &out, nil
}

// FreezeIn is a freeze as it is sent.
type FreezeIn struct {
	Body api.FreezeOrder
}

// longestFreeze bounds how long nothing moves without anybody saying so again.
const longestFreeze = 90 * 24 * time.Hour

// Freeze lets nothing move in the fleet, or in a group.
func (s *Rollouts) Freeze(ctx context.Context, in *FreezeIn) (*api.Freeze, error) {
	now := s.Now()
	f := store.Freeze{
		Scope: strings.TrimSpace(in.Body.Group), Author: identity.Operator(ctx).Name, Because: strings.TrimSpace(in.Body.Because),
		Begun: now.UTC(), Until: in.Body.Until.UTC(),
	}
	switch {
	case !f.Until.After(now):
		return nil, refusal.Wrong("until: that is past; give a time to come")
	case f.Until.Sub(now) > longestFreeze:
		return nil, refusal.Wrong("until: 90 days are the most; freeze again then, if it is still wanted")
	}
	if f.Scope != "" {
		if err := s.knownScope(ctx, f.Scope); err != nil {
			return nil, err
		}
	}
	if err := s.putFreeze(ctx, "freeze", &f); err != nil {
		return nil, err
	}
	return new(freezeOf(f, now)), nil
}

// knownScope refuses what is neither a host nor a group.
func (s *Rollouts) knownScope(ctx context.Context, scope string) error {
	if strings.ContainsAny(scope, ".{}") {
		if _, err := names.Expand(scope); err != nil {
			return refusal.Wrong("group: " + refusal.Short(err.Error()))
		}
		return nil
	}
	if _, err := s.Fleet.Find(scope); err == nil {
		return refusal.Wrong(fmt.Sprintf("group: write the name of the host in full, or name a group: %q", refusal.Short(scope)))
	}
	r, err := s.Pick(ctx, 0)
	if err != nil {
		return err
	}
	rs, err := s.Compute.Revision(ctx, r.Number)
	if err != nil {
		return err
	}
	if !rs.HasGroup(scope) {
		return refusal.Wrong(fmt.Sprintf("group: there is no group %q in revision %d", refusal.Short(scope), r.Number))
	}
	return nil
}

func (s *Rollouts) putFreeze(ctx context.Context, command string, f *store.Freeze) error {
	by := journal.By(ctx)
	err := s.Store.PutFreeze(ctx, f, store.Change{
		Note: func() []store.Entry {
			e := journal.Detailed(s.Entry(by, command, journal.KindFreeze, fmt.Sprint(f.ID)), map[string]any{"group": f.Scope, "until": f.Until})
			e.Why = f.Because
			return []store.Entry{e}
		},
		Then: func() {
			next := []store.Freeze{*f}
			for _, x := range *s.freezes.list.Load() {
				if x.ID != f.ID {
					next = append(next, x)
				}
			}
			s.freezes.list.Store(&next)
			s.steer.nudge()
		},
	})
	return err
}

// FreezePath names a freeze.
type FreezePath struct {
	ID int64 `path:"id"`
}

// Thaw ends a freeze.
func (s *Rollouts) Thaw(ctx context.Context, in *FreezePath) (*api.Freeze, error) {
	for _, f := range *s.freezes.list.Load() {
		switch {
		case f.ID != in.ID:
			continue
		case !f.Stands(s.Now()):
			return nil, refusal.Conflict(fmt.Sprintf("freeze %d does not hold any more", f.ID))
		}
		f.Ended = s.Now().UTC()
		if err := s.putFreeze(ctx, "thaw", &f); err != nil {
			return nil, err
		}
		return new(freezeOf(f, s.Now())), nil
	}
	return nil, refusal.NotFound(fmt.Sprintf("there is no freeze %d", in.ID))
}
