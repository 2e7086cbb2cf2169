// Package service is the long-running side: it keeps the fleet's state, and does what
// operators, agents and timers ask for. It knows no HTTP: that is the business of service/web.
package service

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/agents"
	"patientlantern.example/lantern/service/contracts"
	"patientlantern.example/lantern/service/crew"
	"patientlantern.example/lantern/service/events"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/policies"
	"patientlantern.example/lantern/service/register"
	"patientlantern.example/lantern/service/rollouts"
	"patientlantern.example/lantern/service/upstreams"
	"patientlantern.example/lantern/service/webhooks"
)

// Options are what a Service needs from outside.
type Options = ground.Options

// Service answers operators and agents. Make one with New. What people may do is identity's
// business, and whom webhooks tell is theirs.
type Service struct {
	*identity.People
	*webhooks.Teller

	*ground.Ground
	*upstreams.Upstreams
	*contracts.Contracts
	*rollouts.Rollouts
	*policies.Policies
	*register.Register
	*agents.Agents
	events  *events.Hub
	metrics *metrics
	pulse   pulse

	stop    context.CancelFunc
	stopped sync.WaitGroup
}

// New loads the fleet from the store and starts the background work.
func New(ctx context.Context, opts Options) (*Service, error) {
	heard := events.New()
	opts.Store.Tell(heard.Heard)
	g, err := ground.New(ctx, opts)
	if err != nil {
		return nil, err
	}
	s := &Service{
		Ground: g,
		events: heard,
	}
	if s.Upstreams, err = upstreams.New(ctx, g); err != nil {
		return nil, err
	}
	s.Contracts = contracts.New(g)
	if s.Rollouts, err = rollouts.New(ctx, g, s.Contracts, s.Upstreams); err != nil {
		return nil, err
	}
	s.Policies = policies.New(g, s.Contracts, s.Rollouts, s.Upstreams)
	s.Register = register.New(g, s.Contracts, s.Rollouts, s.Upstreams)
	s.metrics = newMetrics(s)
	s.Agents = agents.New(g, s.Rollouts, agents.Counters{
		CheckIn: s.metrics.checkIns.Inc, Changed: s.metrics.changed.Inc, Refused: s.Refused,
	})
	s.People = identity.New(identity.Options{
		Store: s.Store, Log: s.Log, Now: s.Now, Version: opts.Version, Refused: s.Refused, Left: s.events.End,
	})
	s.Teller = webhooks.New(s.Store, s.Opts.Vault, s.Log, s.Now, opts.Version)
	s.beginWork()
	return s, nil
}

// watchDesks looks at vendors' desks now and then.
func (s *Service) watchDesks(ctx context.Context) {
	s.Tend(ctx)
	ground.Every(ctx, s.Opts.Tend, func() { s.Tend(ctx) })
}

// Tend does what is due for seats, and counts once an hour how hosts stand.
func (s *Service) Tend(ctx context.Context) {
	s.TendSeats(ctx)
	s.CountHosts(ctx)
}

// beginWork starts the background work.
func (s *Service) beginWork() {
	bg, stop := context.WithCancel(context.Background())
	s.stop = stop
	workers := &crew.Crew{Log: s.Log, Crashed: s.metrics.crashed}
	s.Background = func(do func(context.Context)) {
		s.stopped.Go(func() { workers.Once(bg, crew.Worker{Name: "ahead", Do: do}) })
	}
	work := []crew.Worker{
		{Name: "flush", Do: s.flush}, {Name: "silence", Do: s.watchSilence}, {Name: "life", Do: s.watchLife},
		{Name: "rollouts", Do: s.SteerAll}, {Name: "healing", Do: s.WatchHealing},
		{Name: "documents", Do: s.WatchDocuments}, {Name: "damaged", Do: s.WatchDamaged}, {Name: "places", Do: s.WatchPlaces},
		{Name: "webhooks", Do: func(ctx context.Context) { ground.Every(ctx, webhooks.Pause, func() { s.Tell(ctx) }) }},
	}
	if s.Opts.Probe > 0 {
		work = append(work, crew.Worker{Name: "upstreams", Do: s.WatchUpstreams})
	}
	if s.Opts.Tend > 0 {
		work = append(work, crew.Worker{Name: "desks", Do: s.watchDesks})
	}
	for _, w := range work {
		s.metrics.crashed.WithLabelValues(w.Name) // counted from the start, at none
		s.stopped.Go(func() { workers.Supervise(bg, w) })
	}
}

// Registry returns the service's metrics.
func (s *Service) Registry() *prometheus.Registry { return s.metrics.registry }

// Close ends the background work and writes what is still in memory. The store
// stays open.
func (s *Service) Close(ctx context.Context) error {
	s.stop()
	s.events.Close()
	s.stopped.Wait()
	return errors.Join(s.Store.Seen(ctx, s.Fleet.TakeSeen()), s.Compute.Write(ctx))
}

// flush writes now and then when hosts were last seen: a check-in with nothing
// new costs no write of its own.
func (s *Service) flush(ctx context.Context) {
	ground.Every(ctx, 15*time.Second, func() {
		if err := s.Store.Seen(ctx, s.Fleet.TakeSeen()); err != nil && !errors.Is(err, context.Canceled) {
			s.Log.Error("noting when hosts were seen", "error", err)
		}
		if err := s.Compute.Write(ctx); err != nil && !errors.Is(err, context.Canceled) {
			s.Log.Error("storing how hosts stand", "error", err)
		}
	})
}

// watchSilence tells listeners when a host falls silent.
func (s *Service) watchSilence(ctx context.Context) {
	silent := map[string]bool{}
	ground.Every(ctx, min(s.Opts.Interval, 5*time.Second), func() {
		now := map[string]bool{}
		for _, h := range s.Fleet.All() {
			if h.State(s.Now()) == api.StateSilent {
				now[h.Row().Name] = true
			}
		}
		var fell []string
		for n := range now {
			if !silent[n] {
				s.Log.Warn("a host fell silent", "host", n)
				fell = append(fell, n)
			}
		}
		slices.Sort(fell)
		s.Note(ctx, s.HostEntries(journal.Actor{Kind: journal.ActorService}, journal.CommandFallSilent, fell)...)
		silent = now
	})
}

// watchLife ends what would wait for ever: hosts that have died at work, or that were
// switched off before they began, are left behind.
func (s *Service) watchLife(ctx context.Context) {
	ground.Every(ctx, max(min(s.Opts.Patience/10, 5*time.Second), 50*time.Millisecond), func() {
		s.LeaveBehind(ctx)
		s.LookAtKeys(ctx)
		s.LookAtWaivers(ctx)
		s.Asked.Expire(s.Now())
	})
}
