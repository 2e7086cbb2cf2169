package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
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
	probeTime     = 3 * time.Minute // one look may take
	probesAtOnce  = 4
	keptLists     = 48 // lists of packages in memory
	kindUpstream  = "repository"
	commandLooked = "look" // a look at an upstream came to another end than the one before
)

// upstreams is what the service itself saw behind the places that packages come from.
type upstreams struct {
	fetch *fetch.Client
	lists *memo.Cache[string, *index.List] // by place and digest of what was signed

	mu    sync.Mutex
	looks map[string]*api.RepositoryLook // by place; never changed
	busy  map[string]chan struct{}       // places that are being looked at

	planned planned
}

func (s *Service) loadUpstreams(ctx context.Context) error {
	s.upstreams = &upstreams{
		fetch: fetch.New(),
		lists: memo.New[string, *index.List](keptLists), looks: map[string]*api.RepositoryLook{}, busy: map[string]chan struct{}{},
	}
	return s.Store.Upstreams(ctx, func(u store.Upstream) error {
		var look api.RepositoryLook
		if json.Unmarshal(u.Look, &look) == nil { // what cannot be read is looked at again
			s.upstreams.looks[u.Place] = &look
		}
		return nil
	})
}

// look is how the last look at a place ended.
func (u *upstreams) look(key string, at *upstream.Place) *api.RepositoryLook {
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

// watchUpstreams looks at every place now and then, each at a time of its own.
func (s *Service) watchUpstreams(ctx context.Context) {
	ground.Every(ctx, max(s.Opts.Probe/20, time.Second), func() {
		list, p, _, _, err := s.places(ctx)
		if err != nil {
			if ctx.Err() == nil {
				s.Log.Error("gathering where packages come from", "error", err)
			}
			return
		}
		now := s.Now()
		var due []*place
		for _, x := range list {
			if checked := s.upstreams.look(x.key, &x.Place).Checked; checked == nil || now.Sub(*checked) > spread(s.Opts.Probe, x.key) {
				due = append(due, x)
			}
		}
		s.probe(ctx, due, p)
		s.forgetUpstreams(ctx, list)
	})
}

// spread is a pause that differs from place to place by a tenth, so that they are not all
// looked at at once.
func spread(every time.Duration, key string) time.Duration {
	h := fnv.New32a()
	_, _ = h.Write([]byte(key)) // it takes everything
	return every - every/20 + every*time.Duration(h.Sum32()%100)/1000
}

// probe looks at places, a few at a time.
func (s *Service) probe(ctx context.Context, list []*place, p *policy.Policy) {
	var group errgroup.Group
	group.SetLimit(probesAtOnce)
	for _, x := range list {
		group.Go(func() error {
			s.probeOne(ctx, x, p)
			return nil
		})
	}
	_ = group.Wait() // nothing in it returns one
}

// probeOne looks at a place, or waits for somebody who does so already.
func (s *Service) probeOne(ctx context.Context, x *place, p *policy.Policy) {
	u := s.upstreams
	u.mu.Lock()
	if other := u.busy[x.key]; other != nil {
		u.mu.Unlock()
		select {
		case <-other:
		case <-ctx.Done():
		}
		return
	}
	done := make(chan struct{})
	u.busy[x.key] = done
	old := u.looks[x.key]
	u.mu.Unlock()
	defer func() {
		u.mu.Lock()
		delete(u.busy, x.key)
		u.mu.Unlock()
		close(done)
	}()
	x = s.together(x)
	look, packed := s.see(ctx, x, p, old)
	if ctx.Err() != nil { // the service ends
		return
	}
	s.keepLook(ctx, x, old, look, packed)
}

// see looks at a place. The list is nil where the packages are those of before.
func (s *Service) see(ctx context.Context, x *place, p *policy.Policy, old *api.RepositoryLook) (*api.RepositoryLook, []byte) {
	now := s.Now().UTC().Truncate(time.Second)
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
	src.Keys = pinned(x, p)
	if look.Found != nil {
		src.After = look.Found.Date
	}
	way, err := s.way(ctx, x)
	if err != nil {
		look.State, look.Why = api.PlaceUnknown, "it could not be asked for as the hosts do: "+err.Error()
		return look, nil
	}
	ctx, stop := context.WithTimeout(ctx, probeTime)
	defer stop()
	found, err := upstream.Look(src, s.upstreams.fetch.Opener(ctx, way), now)
	var refused *upstream.Refused
	if src.Keys != nil && !x.strict && errors.As(err, &refused) && refused.Kind == cause.Unsigned { // nobody wants it signed
		src.Keys = nil
		found, err = upstream.Look(src, s.upstreams.fetch.Opener(ctx, way), now)
	}
	if err != nil {
		refuseLook(look, err)
		return look, nil
	}
	return look, s.believe(ctx, look, found, x, now)
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
func (s *Service) believe(ctx context.Context, look *api.RepositoryLook, found *upstream.Found, x *place, now time.Time) []byte {
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
		if before, err := s.listOf(ctx, x.key, look); err == nil {
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
		s.Log.Error("packing a list of packages", "error", err)
		return nil
	}
	s.upstreams.lists.Put(x.key+found.Digest, list)
	return packed
}

// listOf is what a place offered when it was believed last.
func (s *Service) listOf(ctx context.Context, key string, look *api.RepositoryLook) (*index.List, error) {
	if look.Found == nil {
		return nil, store.ErrNotFound
	}
	return s.upstreams.lists.Get(key+look.Found.Digest, func() (*index.List, error) {
		packed, err := s.Store.UpstreamList(ctx, key)
		if err != nil {
			return nil, err
		}
		return index.Unpack(packed)
	})
}

// pinned are the keys of the policy that hosts believe a place by; nil where there are none.
func pinned(x *place, p *policy.Policy) openpgp.EntityList {
	if p == nil {
		return nil
	}
	return p.Certificates(func(fingerprint string) bool { return x.keys[fingerprint] })
}

// way is how hosts get to a place.
func (s *Service) way(ctx context.Context, x *place) (w fetch.Way, err error) {
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
	secret, err := s.Keeper.Secret(ctx, x.host, x.account, x.kind)
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
func (s *Service) keepLook(ctx context.Context, x *place, old, look *api.RepositoryLook, packed []byte) {
	if old == nil || old.State != look.State || old.Kind != look.Kind || look.Since == nil {
		look.Since = look.Checked
	}
	text, err := json.Marshal(look)
	if err != nil {
		s.Log.Error("storing a look", "error", err)
		return
	}
	c := store.Change{}
	if look.Since == look.Checked || look.Changed != nil && look.Changed.Equal(*look.Checked) {
		e := s.Entry(journal.Actor{Kind: journal.ActorService}, commandLooked, kindUpstream, x.Address())
		e.Why = look.Says
		c = store.Noted(journal.Detailed(e, map[string]string{"place": x.key, "state": look.State}))
	}
	c.Then = func() {
		s.upstreams.mu.Lock()
		defer s.upstreams.mu.Unlock()
		s.upstreams.looks[x.key] = look
	}
	if err := s.Store.PutUpstream(ctx, store.Upstream{Place: x.key, Look: text, List: packed}, c); err != nil && ctx.Err() == nil {
		s.Log.Error("storing a look", "error", err)
	}
}

// forgetUpstreams drops places that no host has asked for in a week.
func (s *Service) forgetUpstreams(ctx context.Context, list []*place) {
	const week = 7 * 24 * time.Hour
	live := map[string]bool{}
	for _, x := range list {
		live[x.key] = true
	}
	var gone []string
	s.upstreams.mu.Lock()
	for key, l := range s.upstreams.looks {
		if !live[key] && (l.Checked == nil || s.Now().Sub(*l.Checked) > week) {
			gone = append(gone, key)
		}
	}
	s.upstreams.mu.Unlock()
	if err := s.Store.ForgetUpstreams(ctx, gone); err != nil {
		return // they are forgotten the next time
	}
	s.upstreams.mu.Lock()
	defer s.upstreams.mu.Unlock()
	for _, key := range gone {
		delete(s.upstreams.looks, key)
	}
}

// witnessed says which witnesses of a place are offered.
func (s *Service) witnessed(ctx context.Context, x *place, look *api.RepositoryLook) (out []api.WitnessOffered) {
	if len(x.witnesses) == 0 || look.Found == nil {
		return nil
	}
	list, err := s.listOf(ctx, x.key, look)
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

// byState counts places by state; nil where they cannot be gathered, which is no zero.
func (s *Service) byState(ctx context.Context) map[string]int {
	list, _, _, _, err := s.places(ctx)
	if err != nil {
		s.Log.Error("counting where packages come from", "error", err)
		return nil
	}
	out := map[string]int{}
	for _, st := range api.PlaceStates {
		out[st] = 0
	}
	for _, x := range list {
		out[s.upstreams.look(x.key, &x.Place).State]++
	}
	return out
}

// signers counts the places that each key signs, as they were believed last and still stand.
func (u *upstreams) signers() map[string]int {
	u.mu.Lock()
	defer u.mu.Unlock()
	out := map[string]int{}
	for _, l := range u.looks {
		if l.State == api.PlaceGood {
			out[l.Found.Signer]++
		}
	}
	return out
}

// lookedAt are the places that are being looked at.
func (u *upstreams) lookedAt() map[string]bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	out := map[string]bool{}
	for k := range maps.Keys(u.busy) {
		out[k] = true
	}
	return out
}
