package compute

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/trust"
	"patientlantern.example/lantern/core/upstream"
)

// placed remembers where the hosts of a survey get packages from, and what decides which.
// Many surveys that differ have that in common.
type placed struct {
	sync.Mutex
	of   map[string]*choice.Host // by survey
	pool map[string]*choice.Host // by key
}

// Deciding is what decides which packages the hosts of a survey get.
func (c *Computer) Deciding(ctx context.Context, survey string) (*choice.Host, error) {
	if h, known := c.placed.known(survey); known {
		return h, nil
	}
	h, _, err := c.Digest(ctx, survey)
	return h, err
}

func (p *placed) known(survey string) (*choice.Host, bool) {
	p.Lock()
	defer p.Unlock()
	h, known := p.of[survey]
	return h, known
}

func (p *placed) learn(survey string, h *choice.Host) *choice.Host {
	p.Lock()
	defer p.Unlock()
	h = p.one(h)
	p.of[survey] = h
	return h
}

// Digest reads a survey once for all that is remembered of it: where packages come from, and
// which keys are believed.
func (c *Computer) Digest(ctx context.Context, survey string) (*choice.Host, []trust.Use, error) {
	s, err := c.SurveyOf(ctx, survey)
	if err != nil {
		return nil, nil, err
	}
	return c.placed.learn(survey, choice.Of(s)), c.believed.learn(survey, trust.Of(s)), nil
}

// DigestAll is digest for surveys of which nothing is remembered, on every processor.
func (c *Computer) DigestAll(ctx context.Context, surveys map[string]int) error {
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for survey := range surveys {
		if !c.Digested(survey) {
			group.Go(func() error {
				_, _, err := c.Digest(ctx, survey)
				return err
			})
		}
	}
	return group.Wait()
}

// Digested reports whether a survey has been read for what is remembered of it.
func (c *Computer) Digested(survey string) bool {
	_, placed := c.placed.known(survey)
	_, believed := c.believed.known(survey)
	return placed && believed
}

// one is the one copy that all share on which the same decides.
func (p *placed) one(h *choice.Host) *choice.Host {
	if p.of == nil {
		p.of, p.pool = map[string]*choice.Host{}, map[string]*choice.Host{}
	}
	key := h.Key()
	if have := p.pool[key]; have != nil {
		return have
	}
	p.pool[key] = h
	return h
}

// Pooled is one for those who do not hold the lock.
func (c *Computer) Pooled(h *choice.Host) *choice.Host {
	c.placed.Lock()
	defer c.placed.Unlock()
	return c.placed.one(h)
}

// UsesOf is where the hosts of a survey get packages from.
func (c *Computer) UsesOf(ctx context.Context, survey string) ([]upstream.Use, error) {
	h, err := c.Deciding(ctx, survey)
	if err != nil {
		return nil, err
	}
	return h.Uses, nil
}

// ForgetPlaces drops what is remembered of surveys that no host has any more.
func (c *Computer) ForgetPlaces(live map[string]int) {
	c.placed.Lock()
	defer c.placed.Unlock()
	before := len(c.placed.of)
	maps.DeleteFunc(c.placed.of, func(survey string, _ *choice.Host) bool { return live[survey] == 0 })
	if len(c.placed.of) == before {
		return
	}
	kept := map[*choice.Host]bool{}
	for _, h := range c.placed.of {
		kept[h] = true
	}
	maps.DeleteFunc(c.placed.pool, func(_ string, h *choice.Host) bool { return !kept[h] })
}

// believed remembers which keys the hosts of a survey believe: a fleet has few surveys, and
// they are large.
type believed struct {
	sync.Mutex
	of   map[string][]trust.Use
	pool map[string]*source.Key // what is the same on many
}

// KeysOf is which keys the hosts of a survey believe.
func (c *Computer) KeysOf(ctx context.Context, survey string) ([]trust.Use, error) {
	if list, known := c.believed.known(survey); known {
		return list, nil
	}
	_, list, err := c.Digest(ctx, survey)
	return list, err
}

func (b *believed) known(survey string) ([]trust.Use, bool) {
	b.Lock()
	defer b.Unlock()
	list, known := b.of[survey]
	return list, known
}

func (b *believed) learn(survey string, list []trust.Use) []trust.Use {
	b.Lock()
	defer b.Unlock()
	for i := range list {
		list[i].Key = b.one(list[i].Key)
	}
	if b.of == nil {
		b.of = map[string][]trust.Use{}
	}
	b.of[survey] = list
	return list
}

// one is the one copy of what counts of a key that all surveys share.
func (b *believed) one(k *source.Key) *source.Key {
	is := fmt.Sprint(k.Fingerprint, k.Scope, k.Used, k.UnusedBecause, k.Revoked, k.Expires, k.UserIDs)
	if have := b.pool[is]; have != nil {
		return have
	}
	if b.pool == nil {
		b.pool = map[string]*source.Key{}
	}
	b.pool[is] = &source.Key{
		Fingerprint: k.Fingerprint, UserIDs: k.UserIDs, Algorithm: k.Algorithm, Created: k.Created, Expires: k.Expires, Revoked: k.Revoked,
		Scope: k.Scope, Used: k.Used, UnusedBecause: k.UnusedBecause,
	}
	return b.pool[is]
}

// ForgetKeys drops what is remembered of surveys that no host has any more.
func (c *Computer) ForgetKeys(live map[string]int) {
	c.believed.Lock()
	defer c.believed.Unlock()
	for survey := range c.believed.of {
		if live[survey] == 0 {
			delete(c.believed.of, survey)
		}
	}
	if len(c.believed.of) == 0 { // what no survey names goes as well
		c.believed.pool = nil
	}
}
