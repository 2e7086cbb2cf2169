package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/store"
)

// putSheet stores a sheet that is not stored yet.
func (c *computer) putSheet(ctx context.Context, res *resolve.Result, now time.Time) error {
	if c.store.Known(res.Digest(), store.KindSheet) {
		return nil
	}
	return c.store.PutDocuments(ctx, now, store.Document{Digest: res.Digest(), Kind: store.KindSheet, Body: res.Text()})
}

// hold keeps a sheet at hand that is stored nowhere.
func (c *computer) hold(res *resolve.Result) { c.sheets.Put(res.Digest(), res.Sheet) }

// revision returns a revision, ready to resolve hosts.
func (c *computer) revision(ctx context.Context, number int64) (*resolve.Resolver, error) {
	return c.revs.Get(number, func() (*resolve.Resolver, error) {
		ctx := context.WithoutCancel(ctx)
		r, err := c.store.Revision(ctx, number)
		if err != nil {
			return nil, err
		}
		d, err := c.store.Document(ctx, r.Policy, store.KindPolicy)
		if err != nil {
			return nil, err
		}
		var folder policy.Folder
		if err := json.Unmarshal(d.Body, &folder); err != nil {
			return nil, fmt.Errorf("revision %d: %w", number, err)
		}
		// It was checked when it was published; a key that has expired since
		// does not make it another policy.
		p, diags := policy.Load(folder, r.Created)
		if diag.HasErrors(diags) {
			return nil, fmt.Errorf("revision %d can no longer be read: %s", number, diags[0])
		}
		return c.resolver(p), nil
	})
}

// resolve works out what a host should have.
func (c *computer) resolve(ctx context.Context, r *resolve.Resolver, v *hostView) (*resolve.Result, error) {
	h, err := c.hostOf(ctx, v)
	if err != nil {
		return nil, err
	}
	return c.resolveHost(r, h), nil
}

// resolveHost is resolve for a host whose traits are at hand.
func (c *computer) resolveHost(r *resolve.Resolver, h resolve.Host) *resolve.Result {
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return r.Resolve(h)
}

// hostOf is a host as resolving sees it.
func (c *computer) hostOf(ctx context.Context, v *hostView) (resolve.Host, error) {
	if v.Traits == "" {
		return resolve.Host{}, fmt.Errorf("the host %s has sent no survey yet: %w", v.Name, store.ErrNotFound)
	}
	t, err := c.traitsOf(ctx, v.Traits)
	return resolve.Host{Name: v.Name, Class: v.class, Labels: v.Labels, Traits: t}, err
}

// describe fills in what a host's traits and labels say.
func (c *computer) describe(ctx context.Context, v *hostView) error {
	var err error
	if v.class, err = classOf(v.Traits, v.Labels); err != nil {
		return err
	}
	if v.Traits == "" {
		return nil
	}
	t, err := c.traitsOf(ctx, v.Traits)
	if err != nil {
		return err
	}
	v.os, v.family, v.arch = t.OS.Name, t.Family, t.Arch
	if v.os == "" {
		v.os = same(t.OS.ID + " " + t.OS.Version)
	}
	v.lowerOS = same(strings.ToLower(v.os))
	return nil
}

// resolver prepares a policy; what another version of it has in common with one
// that was resolved before is not worked out again.
func (c *computer) resolver(p *policy.Policy) *resolve.Resolver {
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return resolve.NewWith(p, &c.memory)
}
