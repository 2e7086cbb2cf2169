package upstreams

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/rollout"
)

// MostPatience is what is worked out behind has for those who wait now.
const MostPatience = 20 * time.Second

// planned are places that no host uses yet, and that a policy which was looked at would bring.
type planned struct {
	sync.Mutex
	of map[string]*plannedPlace
}

type plannedPlace struct {
	place *Place
	until time.Time
}

// add plans a place, and reports whether it was not planned before.
func (p *planned) add(x *Place, until time.Time) bool {
	p.Lock()
	defer p.Unlock()
	if p.of == nil {
		p.of = map[string]*plannedPlace{}
	}
	had := p.of[x.Digest]
	if had != nil { // another policy may ask more of it
		x = x.join(had.place)
	}
	p.of[x.Digest] = &plannedPlace{x, until}
	return had == nil
}

// list are those that are planned still and that no host uses.
func (p *planned) list(now time.Time, used map[string]*Place) (out []*Place) {
	p.Lock()
	defer p.Unlock()
	maps.DeleteFunc(p.of, func(_ string, x *plannedPlace) bool { return now.After(x.until) })
	for key, x := range p.of {
		if used[key] == nil {
			out = append(out, x.place)
		}
	}
	return out
}

// RefusedInOrder lists places, those first that most hosts would stumble over.
func RefusedInOrder(found map[string]*api.RefusedPlace) (out []api.RefusedPlace) {
	for _, r := range found {
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b api.RefusedPlace) int {
		return cmp.Or(b.Hosts-a.Hosts, strings.Compare(a.Address, b.Address), strings.Compare(a.Key, b.Key))
	})
	return out
}

// at is what a policy that was looked at would ask of a place; nil where none would.
func (p *planned) at(key string, now time.Time) *Place {
	p.Lock()
	defer p.Unlock()
	if x := p.of[key]; x != nil && !now.After(x.until) {
		return x.place
	}
	return nil
}

// RefusedAt says why what stands at a place would be refused on hosts as well, as the last look at it
// came out; nil where it would not. known is false where that cannot be told.
func (u *Upstreams) RefusedAt(at rollout.Brought) (why *api.RefusedPlace, known bool) {
	u.sights.mu.Lock()
	defer u.sights.mu.Unlock()
	l := u.sights.looks[at.Place]
	switch {
	case l == nil || l.State == api.PlaceUnknown || l.State == api.PlaceTrouble && l.Kind.Elsewhere():
		return nil, false
	case l.State == api.PlaceUnsigned && at.Signed: // the look was for those who want no signature
		return nil, false
	case l.State == api.PlaceTrouble:
		return &api.RefusedPlace{Key: at.Place, Says: l.Says, Remedy: l.Remedy, Checked: *l.Checked}, true
	case l.State == api.PlaceGood && l.Found != nil && len(at.Keys) > 0 && !slices.Contains(at.Keys, l.Found.Signer):
		m := cause.About(cause.UnknownKey)
		return &api.RefusedPlace{
			Key: at.Place, Says: m.Says + " (" + l.Found.Signer + " signs it)", Remedy: m.Remedy, Checked: *l.Checked,
		}, true
	}
	return nil, true
}
