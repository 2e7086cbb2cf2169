package upstreams

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
)

// proxies are the proxies that hosts go through to a place, in the order of their addresses.
func (x *Place) proxies() (out []upstream.Through) {
	for w := range x.ways {
		if w.Proxy != "" {
			out = append(out, w)
		}
	}
	slices.SortFunc(out, func(a, b upstream.Through) int {
		return cmp.Or(strings.Compare(a.Proxy, b.Proxy), strings.Compare(a.Direct, b.Direct))
	})
	return out
}

// seen is what looks at one place by several ways came to.
type seen struct {
	found            *upstream.Found // by the first way that nothing was refused by
	refused, unasked error           // what stands there; a proxy that could not be asked from here
}

// note adds a look through a proxy, or by the service's own way where by is empty.
func (s *seen) note(found *upstream.Found, err error, by string) {
	var r *upstream.Refused
	if errors.As(err, &r) && by != "" {
		r.Why += ", through the proxy " + by
	}
	switch {
	case err == nil && s.found == nil:
		s.found = found
	case err == nil:
	case by != "" && r != nil && r.Kind == cause.Proxy:
		s.unasked = cmp.Or(s.unasked, err)
	default:
		s.refused = cmp.Or(s.refused, err)
	}
}

// seeBy looks at a place by every way that hosts go to it: the service's own where some go directly, and through each proxy of a
// site. What is refused by one of them is trouble. A proxy that cannot be asked from here leaves the place unknown, since what its
// hosts get is not known; what stands there is looked at by the service's own way all the same.
func (u *Upstreams) seeBy(ctx context.Context, x *Place, src *upstream.Source, way fetch.Way, look *api.RepositoryLook) (packed []byte) {
	var s seen
	list := x.proxies()
	if x.ways[upstream.Through{}] || len(list) == 0 {
		found, err := u.lookBy(ctx, src, way, *look.Checked)
		s.note(found, err, "")
	}
	for _, w := range list {
		by, err := way.By(w)
		var found *upstream.Found
		if err == nil {
			found, err = u.lookBy(ctx, src, by, *look.Checked)
		}
		s.note(found, err, w.Proxy)
	}
	if s.unasked != nil && s.found == nil && s.refused == nil {
		found, err := u.lookBy(ctx, src, way, *look.Checked)
		var r *upstream.Refused
		if !errors.As(err, &r) || !r.Kind.Elsewhere() { // which the hosts' way may not meet
			s.note(found, err, "")
		}
	}
	if s.found != nil {
		packed = u.believe(ctx, look, s.found, x, *look.Checked)
	}
	switch {
	case s.refused != nil:
		refuseLook(look, s.refused)
	case s.unasked != nil:
		look.State, look.Why = api.PlaceUnknown, "the service cannot ask as all of its hosts do: "+s.unasked.Error()
	}
	return packed
}

// lookBy is one look, which takes three minutes at most.
func (u *Upstreams) lookBy(ctx context.Context, src *upstream.Source, way fetch.Way, now time.Time) (*upstream.Found, error) {
	ctx, stop := context.WithTimeout(ctx, probeTime)
	defer stop()
	return upstream.Look(src, u.sights.fetch.Opener(ctx, way), now)
}
