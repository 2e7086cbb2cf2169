package upstreams

import (
	"context"
	"fmt"

	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/refusal"
)

// Facets pick hosts by what they have.
type Facets struct {
	Has  string `query:"has" maxLength:"256" doc:"Only hosts that get packages from this repository, or this place (its key)"`
	Like string `query:"like" maxLength:"256" doc:"Only hosts that are configured exactly as this one: those of its cohort"`
}

// Some reports whether not every host is meant.
func (f *Facets) Some() bool { return f.Has != "" || f.Like != "" }

// Like are those of hosts that are as the facets say, and how many it is not known of: those that
// have sent no survey.
func (u *Upstreams) Like(ctx context.Context, f *Facets, all []*fleet.Host) (out []*fleet.Host, unknown int, err error) {
	if !f.Some() {
		return all, 0, nil
	}
	var as string
	if f.Like != "" {
		h, err := u.FindHost(f.Like)
		if err != nil {
			return nil, 0, err
		}
		v := h.Row()
		if as = v.Survey; as == "" {
			return nil, 0, refusal.NotFound(
				fmt.Sprintf("like: %s has sent no survey, so it is not known which hosts are like it", v.Name),
			)
		}
	}
	has, err := u.having(ctx, f.Has)
	if err != nil {
		return nil, 0, err
	}
	known := map[string]bool{}
	for _, h := range all {
		v := h.Row()
		switch {
		case v.Survey == "":
			unknown++
			continue
		case as != "" && v.Survey != as:
			continue
		}
		ok, seen := known[v.Survey]
		if !seen {
			if ok, err = has(ctx, v.Survey); err != nil {
				return nil, 0, err
			}
			known[v.Survey] = ok
		}
		if ok {
			out = append(out, h)
		}
	}
	return out, unknown, nil
}

// having tells whether the hosts of a survey get packages from a repository; of an empty name,
// from whatever.
func (u *Upstreams) having(ctx context.Context, name string) (func(context.Context, string) (bool, error), error) {
	if name == "" {
		return func(context.Context, string) (bool, error) { return true, nil }, nil
	}
	places, p, _, _, err := u.places(ctx)
	if err != nil {
		return nil, err
	}
	keys := map[string]bool{}
	for _, x := range places {
		if x.Digest == name || x.Names[name] {
			keys[x.Digest] = true
		}
	}
	if len(keys) == 0 && (p == nil || p.Repositories[name] == nil) {
		return nil, refusal.NotFound(
			fmt.Sprintf("has: the policy has no repository %q, and no host gets packages from such a place", refusal.Short(name)),
		)
	}
	return func(ctx context.Context, survey string) (bool, error) {
		uses, err := u.Compute.UsesOf(ctx, survey)
		if err != nil {
			return false, err
		}
		for i := range uses {
			if keys[uses[i].Key] {
				return true, nil
			}
		}
		return false, nil
	}, nil
}
