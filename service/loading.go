package service

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/store"
)

// loadFleet reads the hosts. What hosts have in common is worked out once, and by all
// processors.
func loadFleet(ctx context.Context, s *Service) (*fleet.Fleet, error) {
	var rows []*store.Host
	var reading errgroup.Group
	reading.Go(func() (err error) {
		rows, err = s.store.Hosts(ctx)
		return err
	})
	reading.Go(func() error { return s.compute.Recall(ctx) })
	reading.Go(func() error { // most hosts have it; one that cannot be read is told of for each
		_, _, _ = s.newest(ctx)
		return nil
	})
	if err := reading.Wait(); err != nil {
		return nil, err
	}
	now := s.now()
	return fleet.New(rows, s.opts.Interval, s.opts.Patience, func(v *fleet.View) error { return s.fill(ctx, v, now) })
}

// fill fills in what follows from a host's row.
func (s *Service) fill(ctx context.Context, v *fleet.View, now time.Time) error {
	if err := s.compute.Complete(ctx, v, now); err != nil {
		if ctx.Err() != nil {
			return err
		}
		// One host's trouble is not the others'.
		v.Broken = "how it stands cannot be worked out: " + err.Error()
		s.log.Error("how a host stands cannot be worked out", "host", v.Name, "error", err)
	}
	s.ask(ctx, v)
	return nil
}
