package upstreams

import (
	"maps"
	"slices"

	"patientlantern.example/lantern/api"
)

// A place may be asked for by hosts today and by what a policy would bring, in two ways: without a
// signature by the ones, by the policy's keys by the other. A look at it is one, and is judged by the
// stricter of them, whoever has it made: else what is refused and what is not would hang on who
// looked last.

// join is what x and another ask of the same place. Neither is changed.
func (x *Place) join(other *Place) *Place {
	if other == nil || other == x {
		return x
	}
	out := *x
	union := func(a, b map[string]bool) map[string]bool {
		all := maps.Clone(a)
		maps.Copy(all, b)
		return all
	}
	out.Names, out.contracts, out.keys = union(x.Names, other.Names), union(x.contracts, other.contracts), union(x.keys, other.keys)
	out.strict = x.strict || other.strict
	out.ways = maps.Clone(x.ways)
	maps.Copy(out.ways, other.ways)
	out.witnesses = slices.Clone(x.witnesses)
	for _, w := range other.witnesses {
		if !slices.Contains(out.witnesses, w) {
			out.witnesses = append(out.witnesses, w)
		}
	}
	if out.account == "" || out.host == "" && other.host != "" {
		out.account, out.kind, out.host = other.account, other.kind, other.host
	}
	if out.authority == "" {
		out.authority = other.authority
	}
	return &out
}

// Untold reports whether the last look at a place says nothing of what x asks: there was none, or it was for
// those who want no signature.
func (x *Place) Untold(l *api.RepositoryLook) bool {
	return l.Checked == nil || l.State == api.PlaceUnsigned && x.strict
}

// at is what the fleet asked of a place when that was worked out last; nil where nobody did.
func (g *gathered) at(key string) *Place {
	g.Lock()
	defer g.Unlock()
	return g.all[key]
}

// together is what all ask of a place who are known to ask for it.
func (u *Upstreams) together(x *Place) *Place {
	return x.join(u.gathered.at(x.Digest)).join(u.sights.planned.at(x.Digest, u.Now()))
}
