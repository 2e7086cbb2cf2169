// Package service is the long-running side: it keeps the fleet's state, and does what
// operators, agents and timers ask for. It knows no HTTP: that is the business of service/web.
package service

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"golang.org/x/sync/singleflight"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/events"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/memo"
	"patientlantern.example/lantern/service/seats"
	"patientlantern.example/lantern/service/webhooks"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/vault"
)

// Options are what a Service needs from outside.
type Options struct {
	Store    *store.Store
	Key      ed25519.PrivateKey // signs deliveries
	Log      *slog.Logger
	Now      func() time.Time
	Interval time.Duration // between check-ins of a host
	Vault    *vault.Vault  // encrypts secrets at rest
	TLS      bool          // whoever serves this speaks TLS itself
	Tend     time.Duration // between looks at vendors' desks; 0 for none by itself
	Keep     time.Duration // how long it is kept what hosts had; 0 for the usual
	Watch    time.Duration // between looks of a host at whether its sources can be refreshed; 0: none
	Patience time.Duration // how long a host with a task may give no sign of life; 0 for the usual
	Probe    time.Duration // between looks at upstreams; 0: none by itself
	Shelves  string        // the folder below which all that stands that hosts are served
	Version  string
}

// defaultKeep is how long it is kept what hosts had.
const defaultKeep = 400 * 24 * time.Hour

// Service answers operators and agents. Make one with New. What people may do is identity's
// business, and whom webhooks tell is theirs.
type Service struct {
	*identity.People
	*webhooks.Teller

	opts    Options
	store   *store.Store
	log     *slog.Logger
	now     func() time.Time
	fleet   *fleet.Fleet
	compute *compute.Computer
	keeper  *seats.Keeper
	events  *events.Hub
	auth    *authenticator
	metrics *metrics
	key     *signer
	asked   *asked
	upload  *uploads
	naming  sync.RWMutex // held for writing while documents that nothing names are forgotten
	pulse   pulse

	steer    *steering
	ahead    ahead
	shelves  shelves
	freezes  freezes
	healed   compute.Healings
	previews singleflight.Group // by what is previewed

	upstreams  *upstreams
	turns      turns
	gathered   gathered
	opened     sync.Once                      // the console, for the first time
	inside     atomic.Int32                   // calls of people that are under way
	background func(do func(context.Context)) // does something that ends with the service

	beginning sync.Mutex // one rollout is begun at a time

	began time.Time

	sinceCount sinceCount

	stop    context.CancelFunc
	stopped sync.WaitGroup
}

// New loads the fleet from the store and starts the background work.
func New(ctx context.Context, opts Options) (*Service, error) {
	if opts.Now == nil {
		opts.Now = time.Now
	}
	if opts.Log == nil {
		opts.Log = slog.New(slog.DiscardHandler)
	}
	if opts.Interval <= 0 {
		opts.Interval = time.Minute
	}
	if opts.Patience <= 0 {
		opts.Patience = defaultPatience
	}
	if opts.Keep <= 0 {
		opts.Keep = defaultKeep
	}
	if opts.Vault == nil { // good for as long as this process
		v, err := vault.New()
		if err != nil {
			return nil, err
		}
		opts.Vault = v
	}
	key, err := newSigner(opts.Key)
	if err != nil {
		return nil, err
	}
	s := &Service{
		opts:   opts,
		store:  opts.Store,
		log:    opts.Log,
		now:    opts.Now,
		began:  opts.Now(),
		key:    key,
		events: events.New(),
		asked:  &asked{names: map[string]time.Time{}, sources: map[string]time.Time{}},
		upload: newUploads(),
		steer:  newSteering(),
	}
	s.turns.kept = memo.New[turn, *turned](keptTurns)
	s.compute = compute.New(opts.Store, thisBuild())
	if s.keeper, err = seats.New(ctx, opts.Store, opts.Vault, opts.Log, opts.Now); err != nil {
		return nil, fmt.Errorf("loading accounts and seats: %w", err)
	}
	s.compute.Keeper = s.keeper
	s.compute.Healed = &s.healed
	if err := s.loadHealings(ctx); err != nil {
		return nil, fmt.Errorf("loading what was healed: %w", err)
	}
	waived, err := opts.Store.Waivers(ctx)
	if err != nil {
		return nil, fmt.Errorf("loading waivers: %w", err)
	}
	s.compute.Waivers = compute.NewWaivers(waived)
	if err := s.loadRollouts(ctx); err != nil {
		return nil, fmt.Errorf("loading rollouts and freezes: %w", err)
	}
	opts.Store.Tell(s.events.Heard)
	if s.fleet, err = loadFleet(ctx, s); err != nil {
		return nil, fmt.Errorf("loading the fleet: %w", err)
	}
	if err := s.loadUpstreams(ctx); err != nil {
		return nil, fmt.Errorf("loading what was seen upstream: %w", err)
	}
	if err := s.loadShelves(ctx); err != nil {
		return nil, fmt.Errorf("loading the shelves: %w", err)
	}
	s.auth = newAuthenticator(s.fleet, opts.Now)
	s.metrics = newMetrics(s)
	s.People = identity.New(identity.Options{
		Store: opts.Store, Log: opts.Log, Now: opts.Now, Version: opts.Version, Refused: s.Refused, Left: s.events.End,
	})
	s.Teller = webhooks.New(opts.Store, opts.Vault, opts.Log, opts.Now, opts.Version)
	s.beginWork()
	return s, nil
}

// beginWork starts the background work.
func (s *Service) beginWork() {
	bg, stop := context.WithCancel(context.Background())
	s.stop = stop
	s.background = func(do func(context.Context)) { s.stopped.Go(func() { s.crashes(bg, worker{"ahead", do}) }) }
	workers := []worker{
		{"flush", s.flush}, {"silence", s.watchSilence}, {"life", s.watchLife}, {"rollouts", s.steerAll}, {"healing", s.watchHealing},
		{"webhooks", func(ctx context.Context) { every(ctx, webhooks.Pause, func() { s.Tell(ctx) }) }}, {"documents", s.watchDocuments},
	}
	if s.opts.Probe > 0 {
		workers = append(workers, worker{"upstreams", s.watchUpstreams})
	}
	if s.opts.Tend > 0 {
		workers = append(workers, worker{"desks", s.watchDesks})
	}
	for _, w := range workers {
		s.metrics.crashed.WithLabelValues(w.name) // counted from the start, at none
		s.stopped.Go(func() { s.supervise(bg, w) })
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
	return errors.Join(s.store.Seen(ctx, s.fleet.TakeSeen()), s.compute.Write(ctx))
}

// flush writes now and then when hosts were last seen: a check-in with nothing
// new costs no write of its own.
func (s *Service) flush(ctx context.Context) {
	every(ctx, 15*time.Second, func() {
		if err := s.store.Seen(ctx, s.fleet.TakeSeen()); err != nil && !errors.Is(err, context.Canceled) {
			s.log.Error("noting when hosts were seen", "error", err)
		}
		if err := s.compute.Write(ctx); err != nil && !errors.Is(err, context.Canceled) {
			s.log.Error("storing how hosts stand", "error", err)
		}
	})
}

// every does something now and then, until the context ends; the first time after one pause.
func every(ctx context.Context, pause time.Duration, do func()) {
	tick := time.NewTicker(pause)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			do()
		}
	}
}

// watchSilence tells listeners when a host falls silent.
func (s *Service) watchSilence(ctx context.Context) {
	silent := map[string]bool{}
	every(ctx, min(s.opts.Interval, 5*time.Second), func() {
		now := map[string]bool{}
		for _, h := range s.fleet.All() {
			if h.State(s.now()) == api.StateSilent {
				now[h.Row().Name] = true
			}
		}
		var fell []string
		for n := range now {
			if !silent[n] {
				s.log.Warn("a host fell silent", "host", n)
				fell = append(fell, n)
			}
		}
		slices.Sort(fell)
		s.note(ctx, s.hostEntries(journal.Actor{Kind: journal.ActorService}, journal.CommandFallSilent, fell)...)
		silent = now
	})
}
