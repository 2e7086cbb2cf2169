package upstreams

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
)

// bringing is what hosts have in common to which a change brings the same places.
type bringing struct {
	res                    *resolve.Result
	carried, architectures string
}

// Brings gathers which places a change brings to hosts: those of the new sheet that the sheet before
// did not have, or that it had hosts believe by other keys.
type Brings struct {
	g      *ground.Ground
	p      *policy.Policy
	All    map[string]*Place
	archs  map[string]string         // traits → architectures, joined
	uses   map[string][]upstream.Use // of a source, by all that they follow from
	places map[bringing][]wanted     // by result and architectures
	known  map[bringing]*brought
}

// brought is what comes to some hosts.
type brought struct {
	places  []rollout.Brought
	closed  []*Place // of them, those that are not open to everyone
	printed string
}

// NewBrings gathers what a policy brings.
func (u *Upstreams) NewBrings(p *policy.Policy) *Brings {
	return &Brings{
		g: u.Ground, p: p, All: map[string]*Place{}, archs: map[string]string{}, uses: map[string][]upstream.Use{},
		places: map[bringing][]wanted{}, known: map[bringing]*brought{},
	}
}

// wanted is a place of a sheet.
type wanted struct {
	rollout.Brought
	Deciders string // the keys that decide on it
}

// Wants are the places of the sheet of hosts with some traits; what is at hand on a host alone is none.
func (b *Brings) Wants(ctx context.Context, res *resolve.Result, traits string) ([]wanted, error) {
	archs, err := b.architectures(ctx, traits)
	if err != nil {
		return nil, err
	}
	k := bringing{res, "", archs}
	if list, known := b.places[k]; known {
		return list, nil
	}
	var list []wanted
	for _, u := range b.from(res.Sheet, archs) {
		if u.Local() {
			continue
		}
		if i := slices.IndexFunc(list, func(y wanted) bool { return y.Place == u.Key }); i >= 0 {
			list[i].Signed = list[i].Signed || u.Checks == source.CheckRequired
			continue
		}
		x := wanted{Deciders: deciders(&u, res.Sheet)}
		b.pinned(&u, res.Sheet)
		x.Brought = rollout.Brought{
			Place: u.Key, Keys: slices.Sorted(slices.Values(u.Keys)), Signed: u.Checks == source.CheckRequired,
		}
		list = append(list, x)
		if at := b.All[u.Key]; at != nil { // of the same repository; who may sign it can differ
			at.strict = at.strict || u.Checks == source.CheckRequired
			for _, f := range u.Keys {
				at.keys[f] = true
			}
			at.ways[u.Through(res.Sheet)] = true
			continue
		}
		b.All[u.Key] = NewPlace(&u)
		b.All[u.Key].Asked(b.g.Keeper, &u, res.Sheet, nil)
	}
	slices.SortFunc(list, func(x, y wanted) int { return strings.Compare(x.Place, y.Place) })
	b.places[k] = list
	return list, nil
}

// architectures are those that some traits tell, joined.
func (b *Brings) architectures(ctx context.Context, traits string) (string, error) {
	archs, known := b.archs[traits]
	if !known {
		t, err := b.g.Compute.TraitsOf(ctx, traits)
		if err != nil {
			return "", err
		}
		archs = strings.Join(t.Architectures, " ")
		b.archs[traits] = archs
	}
	return archs, nil
}

// Had are the places of a sheet that was carried, with the keys that decide on each; none where nothing was.
func (b *Brings) Had(ctx context.Context, carried, traits string) (map[string]string, error) {
	if carried == "" {
		return map[string]string{}, nil
	}
	archs, err := b.architectures(ctx, traits)
	if err != nil {
		return nil, err
	}
	return b.g.Compute.PlacesOfSheet(carried, archs, func() (map[string]string, error) {
		sheet, err := b.g.Compute.SheetOf(ctx, carried)
		if err != nil {
			return nil, err
		}
		out := map[string]string{}
		for _, u := range b.from(sheet, archs) {
			out[u.Key] = deciders(&u, sheet)
		}
		return out, nil
	})
}

// of is what comes to a host.
func (b *Brings) of(ctx context.Context, v *fleet.View, res *resolve.Result) (*brought, error) {
	archs, err := b.architectures(ctx, v.Traits)
	if err != nil {
		return nil, err
	}
	k := bringing{res, v.Carried.Sheet, archs}
	if x := b.known[k]; x != nil {
		b.seated(res.Sheet, x, v.Name)
		return x, nil
	}
	list, err := b.Wants(ctx, res, v.Traits)
	if err != nil {
		return nil, err
	}
	had, err := b.Had(ctx, k.carried, v.Traits)
	if err != nil {
		return nil, err
	}
	come := &brought{}
	for _, x := range list {
		if had[x.Place] == x.Deciders {
			continue
		}
		come.places = append(come.places, x.Brought)
		come.printed += fmt.Sprintln(x.Place, x.Signed, strings.Join(x.Keys, " "))
		if p := b.All[x.Place]; p.account != "" || len(p.contracts) > 0 {
			come.closed = append(come.closed, p)
		}
	}
	b.known[k] = come
	b.seated(res.Sheet, come, v.Name)
	return come, nil
}

// from are the places that a sheet brings to hosts of some architectures, joined. Sheets have most of their
// sources in common, and naming a place takes longer than all the rest.
func (b *Brings) from(sheet *source.Sheet, architectures string) (out []upstream.Use) {
	var key strings.Builder
	for i := range sheet.Sources {
		x := &sheet.Sources[i]
		key.Reset()
		for _, part := range []string{sheet.Family, x.Family, x.Repository, x.File, x.ID, x.Mirrorlist, x.Signatures, architectures} {
			key.WriteString(part)
			key.WriteByte(0)
		}
		urls, _ := sheet.Reached(x)
		for _, list := range [][]string{x.Kinds, x.URLs, urls, x.Suites, x.Components, x.Archs, x.SignedBy} {
			for _, part := range list {
				key.WriteString(part)
				key.WriteByte(1)
			}
			key.WriteByte(0)
		}
		fmt.Fprint(&key, x.Enabled, x.IfThere)
		uses, known := b.uses[key.String()]
		if !known {
			uses = upstream.BroughtBy(sheet, x, strings.Fields(architectures))
			b.uses[key.String()] = uses
		}
		out = append(out, uses...)
	}
	return out
}

// deciders are the keys that decide on a place, in short: those of the source, or, where a package manager cannot
// name any there, all of the sheet.
func deciders(u *upstream.Use, sheet *source.Sheet) string {
	keys := slices.Clone(u.Keys)
	if len(keys) == 0 {
		for _, k := range sheet.Keys {
			keys = append(keys, k.Fingerprint)
		}
	}
	slices.Sort(keys)
	return source.Digest([]byte(strings.Join(keys, " ")))[:12]
}

// pinned gives a place the keys that the policy says of its repository, where the package manager cannot
// name any: whatever else such a host believes, those are what it is meant to be signed by.
func (b *Brings) pinned(u *upstream.Use, sheet *source.Sheet) {
	name, _ := u.Of(sheet)
	if r := b.p.Repositories[name]; r != nil && len(u.Keys) == 0 {
		u.Keys = r.Fingerprints(b.p)
	}
}

// seated notes a host that has a seat where places are not open to everyone and none is known yet.
func (b *Brings) seated(sheet *source.Sheet, come *brought, host string) {
	for _, x := range come.closed {
		if x.host != "" {
			continue
		}
		for name := range x.Names {
			x.opened(b.g.Keeper, sheet, name, []string{host})
		}
	}
}

// list are the places, with the certificates that the policy has vouch for their servers.
func (b *Brings) list() []*Place {
	out := make([]*Place, 0, len(b.All))
	for _, key := range slices.Sorted(maps.Keys(b.All)) {
		x := b.All[key]
		x.Vouched(b.p)
		out = append(out, x)
	}
	return out
}

// BringsTo is what a rollout brings to its hosts.
type BringsTo struct {
	Places []*Place
	Parts  [][]rollout.Brings
}

// Partly gathers what comes to hosts by the parts of a rollout that they stand in.
type Partly struct {
	*Brings
	parts []rollout.Part
	out   [][]rollout.Brings
	at    []map[string]int // what comes, printed → index in out
}

// By gathers by the parts of a rollout.
func (b *Brings) By(parts []rollout.Part) *Partly {
	return &Partly{b, parts, make([][]rollout.Brings, len(parts)), make([]map[string]int, len(parts))}
}

// Asks reports whether a part has a gate for what comes to its hosts.
func (p *Partly) Asks(part int) bool {
	return part >= 0 && part < len(p.parts) && p.parts[part].Limits.Refused.Set
}

// Add notes what comes to a host of a part that asks.
func (p *Partly) Add(ctx context.Context, part int, v *fleet.View, res *resolve.Result) error {
	come, err := p.of(ctx, v, res)
	if err != nil || len(come.places) == 0 {
		return err
	}
	if p.at[part] == nil {
		p.at[part] = map[string]int{}
	}
	i, known := p.at[part][come.printed]
	if !known {
		i = len(p.out[part])
		p.at[part][come.printed] = i
		p.out[part] = append(p.out[part], rollout.Brings{Places: come.places})
	}
	p.out[part][i].Hosts++
	return nil
}

// All is what was gathered.
func (p *Partly) All() *BringsTo { return &BringsTo{p.list(), p.out} }
