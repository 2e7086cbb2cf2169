package service

import (
	"context"
	"sync"
	"time"

	"patientlantern.example/lantern/service/refusal"
)

// pulseTime is how often a look at the health writes: asking more often tells no more.
const pulseTime = 2 * time.Second

// pulse knows whether the database takes writes.
type pulse struct {
	mu  sync.Mutex
	at  time.Time
	err error
}

// beat writes, unless that was done a moment ago. A write that does not end in time is as
// bad as one that fails.
func (s *Service) beat(ctx context.Context) error {
	s.pulse.mu.Lock()
	defer s.pulse.mu.Unlock()
	if time.Since(s.pulse.at) < pulseTime {
		return s.pulse.err
	}
	done := make(chan error, 1)
	go func() { done <- s.Store.Pulse(context.WithoutCancel(ctx), s.Now()) }()
	select {
	case s.pulse.err = <-done:
	case <-ctx.Done():
		s.pulse.err = ctx.Err()
	}
	s.pulse.at = time.Now()
	return s.pulse.err
}

// Health reports whether the database can be read and written, and how many hosts there are.
func (s *Service) Health(ctx context.Context) (hosts int, err error) {
	if err := s.Store.Ping(ctx); err != nil {
		return 0, refusal.Of(refusal.Unavailable, "the database does not answer")
	}
	if err := s.beat(ctx); err != nil {
		s.Log.Error("the database takes no writes", "error", err)
		return 0, refusal.Of(refusal.Unavailable, "the database takes no writes; the log of the service says why")
	}
	return len(s.Fleet.All()), nil
}
