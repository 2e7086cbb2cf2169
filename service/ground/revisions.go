package ground

import (
	"context"
	"errors"
	"fmt"

	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// Newest is the resolver of the newest revision; nil where nothing is published.
func (g *Ground) Newest(ctx context.Context) (*resolve.Resolver, int64, error) {
	newest, err := g.Store.NewestRevision(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	rs, err := g.Compute.Revision(ctx, newest.Number)
	return rs, newest.Number, err
}

// NewestPolicy is that of the newest revision; nil where nothing is published.
func (g *Ground) NewestPolicy(ctx context.Context) (*policy.Policy, int64, error) {
	rs, number, err := g.Newest(ctx)
	if err != nil || rs == nil {
		return nil, 0, err
	}
	return rs.Policy(), number, nil
}

// Pick returns the revision that is asked for, the newest for 0.
func (g *Ground) Pick(ctx context.Context, number int64) (store.Revision, error) {
	newest, err := g.Store.NewestRevision(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return store.Revision{}, refusal.Conflict("nothing is published yet: lantern policy publish FOLDER")
	}
	if err != nil {
		return store.Revision{}, err
	}
	if number == 0 || number == newest.Number {
		return newest, nil
	}
	r, err := g.Store.Revision(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return r, refusal.NotFound(fmt.Sprintf("there is no revision %d; the newest is %d", number, newest.Number))
	}
	return r, err
}
