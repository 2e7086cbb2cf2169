// Package upstreams looks at what stands behind definitions, and knows which hosts get packages from
// where and whose keys they believe.
package upstreams

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"strings"
	"sync"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/core/version"
	"patientlantern.example/lantern/fetch"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/memo"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

const (
	probeTime    = 3 * time.Minute // one look may take
	probesAtOnce = 4
	keptLists    = 48 // lists of packages in memory
)

// Upstreams looks at what stands behind definitions, and knows which hosts get packages from where.
type Upstreams struct {
	*ground.Ground
	sights   *sights
	gathered gathered
	shelves  shelves
}

// New loads what was seen, and the shelves.
func New(ctx context.Context, g *ground.Ground) (*Upstreams, error) {
	u := &Upstreams{Ground: g}
	if err := u.loadUpstreams(ctx); err != nil {
		return nil, fmt.Errorf("loading what was seen upstream: %w", err)
	}
	if err := u.loadShelves(ctx); err != nil {
		return nil, fmt.Errorf("loading the shelves: %w", err)
	}
	return u, nil
}

// PlanFor has a place looked at that no host uses yet, until a time, and reports whether it was not planned before.
func (u *Upstreams) PlanFor(x *Place, until time.Time) bool {
	return u.sights.planned.add(x, until)
}

// LookAt is how the last look at a place ended.
func (u *Upstreams) LookAt(key string, at *upstream.Place) *api.RepositoryLook {
	return u.sights.look(key, at)
}

// sights is what the service itself saw behind the places that packages come from.
type sights struct {
	fetch *fetch.Client
	lists *memo.Cache[string, *index.List] // by place and digest of what was signed

	mu    sync.Mutex
	looks map[string]*api.RepositoryLook // by place; never changed
	busy  map[string]chan struct{}       // places that are being looked at

	planned planned
}

func (u *Upstreams) loadUpstreams(ctx context.Context) error {
	u.sights = &sights{
		fetch: fetch.New(),
		lists: memo.New[string, *index.List](keptLists), looks: map[string]*api.RepositoryLook{}, busy: map[string]chan struct{}{},
	}
	return u.Store.Upstreams(ctx, func(at store.Upstream) error {
		var look api.RepositoryLook
		if json.Unmarshal(at.Look, &look) == nil { // what cannot be read is looked at again
			u.sights.looks[at.Place] = &look
		}
		return nil
	})
}

// look is how the last look at a place ended.
func (u *sights) look(key string, at *upstream.Place) *api.RepositoryLook {
	u.mu.Lock()
	defer u.mu.Unlock()
	if l := u.looks[key]; l != nil {
		return l
	}
	why := at.Away()
	if why == "" {
		why = "it has not been looked at yet"
	}
	return &api.RepositoryLook{State: api.PlaceUnknown, Why: why}
}

// WatchUpstreams looks at every place now and then, each at a time of its own.
func (u *Upstreams) WatchUpstreams(ctx context.Context) {
	ground.Every(ctx, max(u.Opts.Probe/20, time.Second), func() {
		list, p, _, _, err := u.places(ctx)
		if err != nil {
			if ctx.Err() == nil {
				u.Log.Error("gathering where packages come from", "error", err)
			}
			return
		}
		now := u.Now()
		var due []*Place
		for _, x := range list {
			if checked := u.sights.look(x.Digest, &x.Place).Checked; checked == nil || now.Sub(*checked) > spread(u.Opts.Probe, x.Digest) {
				due = append(due, x)
			}
		}
		u.Probe(ctx, due, p)
		u.forgetUpstreams(ctx, list)
	})
}

// spread is a pause that differs from place to place by a tenth, so that they are not all
// looked at at once.
func spread(every time.Duration, key string) time.Duration {
	h := fnv.New32a()
	_, _ = h.Write([]byte(key)) // it takes everything
	return every - every/20 + every*time.Duration(h.Sum32()%100)/1000
}

// Probe looks at places, a few at a time.
func (u *Upstreams) Probe(ctx context.Context, list []*Place, p *policy.Policy) {
	var group errgroup.Group
	group.SetLimit(probesAtOnce)
	for _, x := range list {
		group.Go(func() error {
			u.probeOne(ctx, x, p)
			return nil
		})
	}
	_ = group.Wait() // nothing in it returns one
}

// probeOne looks at a place, or waits for somebody who does so already.
func (u *Upstreams) probeOne(ctx context.Context, x *Place, p *policy.Policy) {
	all := u.sights
	all.mu.Lock()
	if other := all.busy[x.Digest]; other != nil {
		all.mu.Unlock()
		select {
		case <-other:
		case <-ctx.Done():
		}
		return
	}
	done := make(chan struct{})
	all.busy[x.Digest] = done
	old := all.looks[x.Digest]
	all.mu.Unlock()
	defer func() {
		all.mu.Lock()
		delete(all.busy, x.Digest)
		all.mu.Unlock()
		close(done)
	}()
	x = u.together(x)
	look, packed := u.see(ctx, x, p, old)
	if ctx.Err() != nil { // the service ends
		return
	}
	u.keepLook(ctx, x, old, look, packed)
}

// see looks at a place. The list is nil where the packages are those of before.
func (u *Upstreams) see(ctx context.Context, x *Place, p *policy.Policy, old *api.RepositoryLook) (*api.RepositoryLook, []byte) {
	now := u.Now().UTC().Truncate(time.Second)
	look := &api.RepositoryLook{}
	if old != nil {
		*look = *old
	}
	look.Checked, look.Kind, look.Says, look.Remedy, look.By, look.Why = &now, "", "", "", "", ""
	if why := x.Away(); why != "" && (x.kind != credential.TokenURL || len(x.URLs) == 0 || !strings.Contains(x.URLs[0], "***")) {
		look.State, look.Why = api.PlaceUnknown, why
		return look, nil
	}
	src := x.Source()
	src.Keys, src.Unsigned = pinned(x, p), !x.strict
	if look.Found != nil {
		src.After = look.Found.Date
	}
	way, err := u.way(ctx, x)
	if err != nil {
		look.State, look.Why = api.PlaceUnknown, "it could not be asked for as the hosts do: "+err.Error()
		return look, nil
	}
	return look, u.seeBy(ctx, x, src, way, look)
}

// refuseLook notes why what stands at a place is refused.
func refuseLook(look *api.RepositoryLook, err error) {
	look.State, look.Why = api.PlaceTrouble, refusal.Clip(err.Error(), 500)
	var refused *upstream.Refused
	if errors.As(err, &refused) {
		m := cause.About(refused.Kind)
		look.Kind, look.Says, look.Remedy, look.By = refused.Kind, m.Says, m.Remedy, refused.By
	}
}

// believe notes what was found, and returns the packages to be stored where they are others
// than before.
func (u *Upstreams) believe(ctx context.Context, look *api.RepositoryLook, found *upstream.Found, x *Place, now time.Time) []byte {
	look.State, look.Read = api.PlaceGood, &now
	if found.Signer == "" {
		look.State, look.Why = api.PlaceUnsigned, "the policy pins none of the keys that hosts believe it by"
		if len(x.keys) == 0 || !x.strict {
			look.Why = "no host wants its metadata signed"
		}
	}
	var list *index.List
	if look.Found == nil || look.Found.Digest != found.Digest {
		list = index.NewList(found.Packages)
		if before, err := u.ListOf(ctx, x.Digest, look); err == nil {
			if c := list.Since(before); c.Added+c.Removed+c.Updated > 0 {
				look.Changes, look.Changed = &c, &now
			}
		}
		look.Packages = list.Len()
	}
	found.Packages = nil
	look.Found = found
	if list == nil {
		return nil
	}
	packed, err := list.Pack()
	if err != nil {
		u.Log.Error("packing a list of packages", "error", err)
		return nil
	}
	u.sights.lists.Put(x.Digest+found.Digest, list)
	return packed
}

// ListOf is what a place offered when it was believed last.
func (u *Upstreams) ListOf(ctx context.Context, key string, look *api.RepositoryLook) (*index.List, error) {
	if look.Found == nil {
		return nil, store.ErrNotFound
	}
	return u.sights.lists.Get(key+look.Found.Digest, func() (*index.List, error) {
		packed, err := u.Store.UpstreamList(ctx, key)
		if err != nil {
			return nil, err
		}
		return index.Unpack(packed)
	})
}

// pinned are the keys of the policy that hosts believe a place by; nil where there are none.
func pinned(x *Place, p *policy.Policy) openpgp.EntityList {
	if p == nil {
		return nil
	}
	return p.Certificates(func(fingerprint string) bool { return x.keys[fingerprint] })
}

// way is how hosts get to a place.
func (u *Upstreams) way(ctx context.Context, x *Place) (w fetch.Way, err error) {
	if x.authority != "" {
		w.Roots = x509.NewCertPool()
		w.Roots.AppendCertsFromPEM([]byte(x.authority))
	}
	if x.account == "" {
		return w, nil
	}
	if x.host == "" {
		return w, errors.New("no host that uses it has a seat in the account " + x.account)
	}
	secret, err := u.Keeper.Secret(ctx, x.host, x.account, x.kind)
	if err != nil {
		return w, err
	}
	w.Login, w.Password, w.Token = secret.Login, secret.Password, secret.Token
	if secret.Kind == credential.Certificate {
		pair, err := tls.X509KeyPair([]byte(secret.Certificate), []byte(secret.Key))
		if err != nil {
			return w, errors.New("the client certificate of " + x.host + " cannot be used")
		}
		w.Certificate = &pair
	}
	return w, nil
}

// keepLook stores how a look ended. What came to another end than before is told.
func (u *Upstreams) keepLook(ctx context.Context, x *Place, old, look *api.RepositoryLook, packed []byte) {
	if old == nil || old.State != look.State || old.Kind != look.Kind || look.Since == nil {
		look.Since = look.Checked
	}
	text, err := json.Marshal(look)
	if err != nil {
		u.Log.Error("storing a look", "error", err)
		return
	}
	c := store.Change{}
	if look.Since == look.Checked || look.Changed != nil && look.Changed.Equal(*look.Checked) {
		e := u.Entry(journal.Actor{Kind: journal.ActorService}, journal.CommandLook, journal.KindRepository, x.Address())
		e.Why = look.Says
		c = store.Noted(journal.Detailed(e, map[string]string{"place": x.Digest, "state": look.State}))
	}
	c.Then = func() {
		u.sights.mu.Lock()
		defer u.sights.mu.Unlock()
		u.sights.looks[x.Digest] = look
	}
	if err := u.Store.PutUpstream(ctx, store.Upstream{Place: x.Digest, Look: text, List: packed}, c); err != nil && ctx.Err() == nil {
		u.Log.Error("storing a look", "error", err)
	}
}

// forgetUpstreams drops places that no host has asked for in a week.
func (u *Upstreams) forgetUpstreams(ctx context.Context, list []*Place) {
	const week = 7 * 24 * time.Hour
	live := map[string]bool{}
	for _, x := range list {
		live[x.Digest] = true
	}
	var gone []string
	u.sights.mu.Lock()
	for key, l := range u.sights.looks {
		if !live[key] && (l.Checked == nil || u.Now().Sub(*l.Checked) > week) {
			gone = append(gone, key)
		}
	}
	u.sights.mu.Unlock()
	if err := u.Store.ForgetUpstreams(ctx, gone); err != nil {
		return // they are forgotten the next time
	}
	u.sights.mu.Lock()
	defer u.sights.mu.Unlock()
	for _, key := range gone {
		delete(u.sights.looks, key)
	}
}

// witnessed says which witnesses of a place are offered.
func (u *Upstreams) witnessed(ctx context.Context, x *Place, look *api.RepositoryLook) (out []api.WitnessOffered) {
	if len(x.witnesses) == 0 || look.Found == nil {
		return nil
	}
	list, err := u.ListOf(ctx, x.Digest, look)
	if err != nil {
		return nil
	}
	seen := map[string]bool{}
	for _, w := range x.witnesses {
		if seen[w.Package+" "+w.AtLeast] {
			continue
		}
		seen[w.Package+" "+w.AtLeast] = true
		o := api.WitnessOffered{Package: w.Package, AtLeast: w.AtLeast}
		for p := range list.Named(w.Package) {
			if o.Offered == "" || version.Compare(x.Family, p.Version, o.Offered) > 0 {
				o.Offered = p.Version
			}
		}
		o.OK = o.Offered != "" && (w.AtLeast == "" || version.Compare(x.Family, o.Offered, w.AtLeast) >= 0)
		out = append(out, o)
	}
	return out
}

// ByState counts places by state; nil where they cannot be gathered, which is no zero.
func (u *Upstreams) ByState(ctx context.Context) map[string]int {
	list, _, _, _, err := u.places(ctx)
	if err != nil {
		u.Log.Error("counting where packages come from", "error", err)
		return nil
	}
	out := map[string]int{}
	for _, st := range api.PlaceStates {
		out[st] = 0
	}
	for _, x := range list {
		out[u.sights.look(x.Digest, &x.Place).State]++
	}
	return out
}

// signers counts by key the places that it signs, as they were believed last and still stand; and those that hosts
// believe by it and of which that was not seen. Where nothing is, nothing is signed.
func (u *sights) signers(list []*Place) (signed, unseen map[string]int) {
	u.mu.Lock()
	defer u.mu.Unlock()
	signed, unseen = map[string]int{}, map[string]int{}
	for _, l := range u.looks {
		if l.State == api.PlaceGood {
			signed[l.Found.Signer]++
		}
	}
	for _, x := range list {
		if l := u.looks[x.Digest]; l == nil || l.State != api.PlaceGood && l.Kind != cause.Missing {
			for f := range x.keys {
				unseen[f]++
			}
		}
	}
	return signed, unseen
}

// lookedAt are the places that are being looked at.
func (u *sights) lookedAt() map[string]bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	out := map[string]bool{}
	for k := range maps.Keys(u.busy) {
		out[k] = true
	}
	return out
}
