// Package ground is what every engine of the service stands on: the store, the fleet in memory, what is
// worked out of documents, the names by which hosts are called, and the door through which changes go.
package ground

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/seats"
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

	CertEnds func() time.Time // when the certificate for that does; zero where there is none, or none is known of
	Tend     time.Duration    // between looks at vendors' desks; 0 for none by itself
	Keep     time.Duration    // how long it is kept what hosts had; 0 for the usual
	Watch    time.Duration    // between looks of a host at whether its sources can be refreshed; 0: none
	Patience time.Duration    // how long a host with a task may give no sign of life; 0 for the usual
	Probe    time.Duration    // between looks at upstreams; 0: none by itself
	Shelves  string           // the folder below which all that stands that hosts are served
	Version  string

	// Expect makes room for reading so many hosts; nil: there is nothing to be had.
	Expect func(hosts int)
	// Spend lets the process take more memory until done is called, while much is worked out of which little stays; nil:
	// there is nothing to be had.
	Spend func() (done func())
}

// defaultKeep is how long it is kept what hosts had.
const defaultKeep = 400 * 24 * time.Hour

// Every does something now and then, until the context ends; the first time after one pause.
func Every(ctx context.Context, pause time.Duration, do func()) {
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

// defaultPatience is how long a host that has something to carry out may give no sign of
// life before the others go on without it.
const defaultPatience = 15 * time.Minute

// Ground is what every engine stands on: the store, the fleet in memory, what is worked out of
// documents, and the door through which changes go.
type Ground struct {
	Opts    Options
	Store   *store.Store
	Log     *slog.Logger
	Now     func() time.Time
	Fleet   *fleet.Fleet
	Compute *compute.Computer
	Keeper  *seats.Keeper
	Key     *Signer
	Asked   *Asked
	Healed  compute.Healings
	inside  atomic.Int32 // calls of people that are under way

	Background func(do func(context.Context)) // does something that ends with the service
}

// complete fills in what was not said.
func (o *Options) complete() (err error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Interval <= 0 {
		o.Interval = time.Minute
	}
	if o.Expect == nil {
		o.Expect = func(int) {}
	}
	if o.Spend == nil {
		o.Spend = func() func() { return func() {} }
	}
	if o.Patience <= 0 {
		o.Patience = defaultPatience
	}
	if o.Keep <= 0 {
		o.Keep = defaultKeep
	}
	if o.Vault == nil { // good for as long as this process
		o.Vault, err = vault.New()
	}
	return err
}

// New loads the fleet, and all that its standing follows from, from the store.
func New(ctx context.Context, opts Options) (*Ground, error) {
	if err := opts.complete(); err != nil {
		return nil, err
	}
	g := &Ground{
		Opts: opts, Store: opts.Store, Log: opts.Log, Now: opts.Now,
		Compute: compute.New(opts.Store, thisBuild()),
		Asked:   &Asked{names: map[string]time.Time{}, sources: map[string]time.Time{}},
	}
	var err error
	if g.Key, err = newSigner(opts.Key); err != nil {
		return nil, err
	}
	if g.Keeper, err = seats.New(ctx, opts.Store, opts.Vault, opts.Log, opts.Now); err != nil {
		return nil, fmt.Errorf("loading accounts and seats: %w", err)
	}
	g.Compute.Keeper, g.Compute.Healed = g.Keeper, &g.Healed
	if err := g.loadHealings(ctx); err != nil {
		return nil, fmt.Errorf("loading what was healed: %w", err)
	}
	waived, err := opts.Store.Waivers(ctx)
	if err != nil {
		return nil, fmt.Errorf("loading waivers: %w", err)
	}
	g.Compute.Waivers = compute.NewWaivers(waived)
	if g.Fleet, err = g.loadFleet(ctx); err != nil {
		return nil, fmt.Errorf("loading the fleet: %w", err)
	}
	return g, nil
}

// loadHealings reads what was healed by itself before.
func (g *Ground) loadHealings(ctx context.Context) error {
	list, err := g.Store.Journal(ctx, store.JournalQuery{Kind: journal.KindHost, Command: journal.CommandSelfHeal, Limit: 100_000})
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(list) {
		x := compute.Healed{At: e.At}
		if g.Now().Sub(e.At) < compute.HealMemory && json.Unmarshal(e.Detail, &x) == nil {
			g.Healed.Add(e.Name, x)
		}
	}
	return nil
}

// loadFleet reads the hosts. What hosts have in common is worked out once, and by all
// processors.
func (g *Ground) loadFleet(ctx context.Context) (*fleet.Fleet, error) {
	count, err := g.Store.CountHosts(ctx)
	if err != nil {
		return nil, err
	}
	g.Opts.Expect(count)
	var rows []*store.Host
	var reading errgroup.Group
	reading.Go(func() (err error) {
		rows, err = g.Store.Hosts(ctx)
		return err
	})
	reading.Go(func() error { return g.Compute.Recall(ctx) })
	reading.Go(func() error { // most hosts have it; one that cannot be read is told of for each
		_, _, _ = g.Newest(ctx)
		return nil
	})
	if err := reading.Wait(); err != nil {
		return nil, err
	}
	now := g.Now()
	return fleet.New(rows, g.Opts.Interval, g.Opts.Patience, func(v *fleet.View) error { return g.fill(ctx, v, now) })
}

// fill fills in what follows from a host's row.
func (g *Ground) fill(ctx context.Context, v *fleet.View, now time.Time) error {
	since, lacking := v.Since, g.lacking(v)
	if err := g.Compute.Complete(ctx, v, now); err != nil {
		if ctx.Err() != nil {
			return err
		}
		// One host's trouble is not the others'.
		v.Broken = "how it stands cannot be worked out: " + err.Error()
		g.Log.Error("how a host stands cannot be worked out", "host", v.Name, "error", err)
	}
	if lacking {
		v.Since = since
	}
	unheard(v)
	g.ask(ctx, v)
	return nil
}
