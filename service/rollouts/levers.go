package rollouts

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// LeverIn says why a lever is pulled.
type LeverIn struct {
	RolloutPath
	Body api.LeverOrder
}

// lever changes where a rollout stands by what an operator asks for.
func (s *Rollouts) lever(
	ctx context.Context,
	in *LeverIn,
	command string,
	to func(*store.Rollout, []rollout.Tally) (rollout.Course, error),
) (
	*api.Rollout, error,
) {
	if err := s.pull(ctx, in, command, to); err != nil {
		return nil, err
	}
	return s.steered(ctx, in.ID)
}

func (s *Rollouts) pull(
	ctx context.Context,
	in *LeverIn,
	command string,
	to func(*store.Rollout, []rollout.Tally) (rollout.Course, error),
) error {
	s.steer.Lock()
	defer s.steer.Unlock()
	ro, err := s.findRollout(ctx, in.ID)
	if err != nil {
		return err
	}
	if read := in.Body.Since; read != nil && read.UnixMilli() != ro.Course.Since.UnixMilli() {
		return refusal.Conflict(fmt.Sprintf("rollout %d has gone on since that was read: %s. Look at it, and say so again", ro.ID, says(&ro)))
	}
	tallies, err := s.tallies(ctx, &ro, true)
	if err != nil {
		return err
	}
	next, err := to(&ro, tallies)
	if err != nil {
		return refusal.Conflict(fmt.Sprintf("rollout %d: %s", ro.ID, err))
	}
	err = s.stand(ctx, journal.By(ctx), command, &ro, next, strings.TrimSpace(in.Body.Because))
	if errors.Is(err, store.ErrMoved) {
		return refusal.Conflict(err.Error())
	}
	return err
}

// HoldRollout keeps hosts from beginning that have not begun. Those at work go on.
func (s *Rollouts) HoldRollout(ctx context.Context, in *LeverIn) (*api.Rollout, error) {
	return s.lever(ctx, in, "hold-rollout", func(ro *store.Rollout, _ []rollout.Tally) (rollout.Course, error) {
		return rollout.HoldNow(ro.Course, identity.Operator(ctx).Name, strings.TrimSpace(in.Body.Because), s.Now())
	})
}

// ProceedRollout lets a rollout that is held go on.
func (s *Rollouts) ProceedRollout(ctx context.Context, in *LeverIn) (*api.Rollout, error) {
	return s.lever(ctx, in, "proceed-rollout", func(ro *store.Rollout, t []rollout.Tally) (rollout.Course, error) {
		s.ahead.again(ro.ID)
		return rollout.Proceed(ro.Course, ro.Parts, t, s.Now())
	})
}

// ConsentRollout agrees to the next wave.
func (s *Rollouts) ConsentRollout(ctx context.Context, in *LeverIn) (*api.Rollout, error) {
	return s.lever(ctx, in, "consent-rollout", func(ro *store.Rollout, _ []rollout.Tally) (rollout.Course, error) {
		return rollout.Agree(ro.Course, ro.Parts, ro.Author, identity.Operator(ctx).Name)
	})
}

// SkipHost takes a host out of a rollout before it has begun, or that is left behind.
func (s *Rollouts) SkipHost(ctx context.Context, in *LeverIn) (*api.Rollout, error) {
	why := strings.TrimSpace(in.Body.Because)
	if len(why) < 3 {
		return nil, refusal.Wrong("because: say in a few words why the host is left out")
	}
	ro, err := s.findRollout(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if !ro.Ended.IsZero() {
		return nil, refusal.Conflict(fmt.Sprintf("rollout %d has ended already", ro.ID))
	}
	h, err := s.FindHost(in.Body.Host)
	if err != nil {
		return nil, err
	}
	if err := s.takeOut(ctx, &ro, h, why); err != nil {
		return nil, err
	}
	return s.steered(ctx, in.ID)
}

func (s *Rollouts) takeOut(ctx context.Context, ro *store.Rollout, h *fleet.Host, why string) error {
	h.Lock()
	defer h.Unlock()
	v := h.Row()
	by := journal.By(ctx)
	err := s.Store.TakeOut(ctx, ro.ID, v.Name, s.Now(), rollout.Skips, func(ended bool) store.Change {
		return store.Change{
			Note: func() []store.Entry {
				list := append(s.HostEntries(by, "skip-host", []string{v.Name}), s.RolloutEntry(by, "skip-host", ro.ID, ended))
				for i := range list {
					list[i].Why = why
				}
				return list
			},
			Then: func() { s.Fleet.Untask([]string{v.Name}, ro.ID) },
		}
	})
	var place *rollout.PlaceError
	switch {
	case errors.As(err, &place):
		return refusal.Conflict(fmt.Sprintf("%s cannot be left out of rollout %d any more: it is %s", v.Name, ro.ID, place.From))
	case errors.Is(err, store.ErrNotFound):
		return refusal.NotFound(fmt.Sprintf("%s takes no part in rollout %d", v.Name, ro.ID))
	}
	return err
}
