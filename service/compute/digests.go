package compute

import (
	"context"
	"encoding/binary"
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
	pool choice.Pool
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
	if p.of == nil {
		p.of = map[string]*choice.Host{}
	}
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
	believed := trust.Of(s)
	return c.placed.learn(survey, c.placed.pool.Of(s, believed)), c.believed.learn(survey, believed), nil
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

// Pooled is the one copy that all share on which the same decides.
func (c *Computer) Pooled(h *choice.Host) *choice.Host { return c.placed.pool.One(h) }

// UsesOf is where the hosts of a survey get packages from.
func (c *Computer) UsesOf(ctx context.Context, survey string) ([]*upstream.Use, error) {
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
	c.placed.pool.Keep(maps.Values(c.placed.of))
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
	text := source.AppendTexts(make([]byte, 0, 256), k.Fingerprint, k.Algorithm, k.Scope, k.UnusedBecause)
	text = source.AppendList(append(text, flags(k.Used, k.Revoked, k.Expires != nil)), k.UserIDs)
	text = binary.AppendVarint(text, k.Created.Unix())
	if k.Expires != nil {
		text = binary.AppendVarint(text, k.Expires.Unix())
	}
	if have := b.pool[string(text)]; have != nil {
		return have
	}
	is := string(text)
	if b.pool == nil {
		b.pool = map[string]*source.Key{}
	}
	b.pool[is] = &source.Key{
		Fingerprint: k.Fingerprint, UserIDs: k.UserIDs, Algorithm: k.Algorithm, Created: k.Created, Expires: k.Expires, Revoked: k.Revoked,
		Scope: k.Scope, Used: k.Used, UnusedBecause: k.UnusedBecause,
	}
	return b.pool[is]
}

// flags are some truths in a byte.
func flags(list ...bool) (out byte) {
	for i, is := range list {
		if is {
			out |= 1 << i
		}
	}
	return out
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
