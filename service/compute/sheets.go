package compute

import (
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/store"
)

// PutSheet stores a sheet that is not stored yet.
func (c *Computer) PutSheet(ctx context.Context, res *resolve.Result, now time.Time) error {
	if c.store.Known(res.Digest(), store.KindSheet) {
		return nil
	}
	return c.store.PutDocuments(ctx, now, store.Document{Digest: res.Digest(), Kind: store.KindSheet, Body: res.Text()})
}

// DigestSheets works the digests of sheets out on every processor, for who asks each of them for its own next.
func DigestSheets(results iter.Seq[*resolve.Result]) {
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	seen := map[*resolve.Result]bool{}
	for res := range results {
		if !seen[res] {
			seen[res] = true
			group.Go(func() error { res.Digest(); return nil })
		}
	}
	_ = group.Wait() // none fails
}

// hold keeps a sheet at hand that is stored nowhere.
func (c *Computer) hold(res *resolve.Result) { c.sheets.Put(res.Digest(), res.Sheet) }

// Revision returns a revision, ready to resolve hosts.
func (c *Computer) Revision(ctx context.Context, number int64) (*resolve.Resolver, error) {
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
		p, diags := policy.Published(folder, r.Created)
		if diag.HasErrors(diags) {
			return nil, fmt.Errorf("revision %d can no longer be read: %s", number, diags[0])
		}
		return c.Resolver(p), nil
	})
}

// KeepRevision keeps a revision that is ready to resolve hosts.
func (c *Computer) KeepRevision(number int64, r *resolve.Resolver) { c.revs.Put(number, r) }

// Resolve works out what a host should have.
func (c *Computer) Resolve(ctx context.Context, r *resolve.Resolver, v *fleet.View) (*resolve.Result, error) {
	h, err := c.HostOf(ctx, v)
	if err != nil {
		return nil, err
	}
	return c.ResolveHost(r, h), nil
}

// ResolveHost is resolve for a host whose traits are at hand.
func (c *Computer) ResolveHost(r *resolve.Resolver, h resolve.Host) *resolve.Result {
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return r.Resolve(h)
}

// HostOf is a host as resolving sees it.
func (c *Computer) HostOf(ctx context.Context, v *fleet.View) (resolve.Host, error) {
	if v.Traits == "" {
		return resolve.Host{}, fmt.Errorf("the host %s has sent no survey yet: %w", v.Name, store.ErrNotFound)
	}
	t, err := c.TraitsOf(ctx, v.Traits)
	return resolve.Host{Name: v.Name, Class: v.Class, Labels: v.Labels, Traits: t}, err
}

// describe fills in what a host's traits and labels say.
func (c *Computer) describe(ctx context.Context, v *fleet.View) error {
	var err error
	if v.Class, err = ClassOf(v.Traits, v.Labels); err != nil {
		return err
	}
	if v.Traits == "" {
		return nil
	}
	v.System, err = c.systems.Get(v.Traits, func() (*fleet.System, error) {
		t, err := c.TraitsOf(ctx, v.Traits)
		if err != nil {
			return nil, err
		}
		name := t.OS.Name
		if name == "" {
			name = t.OS.ID + " " + t.OS.Version
		}
		return &fleet.System{OS: name, LowerOS: strings.ToLower(name), Family: t.Family, Arch: t.Arch}, nil
	})
	if err != nil {
		v.System = fleet.NoSystem
	}
	return err
}

// Resolver prepares a policy; what another version of it has in common with one
// that was resolved before is not worked out again.
func (c *Computer) Resolver(p *policy.Policy) *resolve.Resolver {
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return resolve.NewWith(p, &c.memory)
}

// InGroup reports whether a host is in a group.
func (c *Computer) InGroup(rs *resolve.Resolver, h resolve.Host, group string) bool {
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return rs.In(h, group)
}

// GroupsOf names the groups that a host is in.
func (c *Computer) GroupsOf(rs *resolve.Resolver, h resolve.Host) []string {
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return rs.GroupsOf(h)
}

// ClassOf names traits and labels together: hosts of one class are resolved alike.
func ClassOf(traits string, labels map[string]string) (string, error) {
	if len(labels) == 0 {
		return Same(traits), nil
	}
	b, err := json.Marshal(labels)
	return Same(traits + string(b)), err
}
