package upstreams

import (
	"context"
	"hash/maphash"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/seats"
)

// Place is where packages come from, with who asks for it and how.
type Place struct {
	upstream.Place
	Digest    string          // the key of the place
	Names     map[string]bool // repositories of the policy
	contracts map[string]bool
	keys      map[string]bool // fingerprints that hosts believe it by
	strict    bool            // some host wants its metadata signed
	hosts     int
	witnesses []source.SheetWitness
	account   string // that opens it, and in which way; empty: it is open
	kind      string
	host      string // one that has a seat
	authority string // certificates that vouch for its server
	ways      map[upstream.Through]bool
}

// NewPlace is a place as one use of it tells.
func NewPlace(u *upstream.Use) *Place {
	return &Place{Place: u.Place, Digest: u.Key, Names: map[string]bool{}, contracts: map[string]bool{}, keys: map[string]bool{},
		ways: map[upstream.Through]bool{}}
}

// Asked notes how hosts of a sheet ask for a place; names are some of them.
func (x *Place) Asked(keeper *seats.Keeper, u *upstream.Use, sheet *source.Sheet, names []string) {
	for _, f := range u.Keys {
		x.keys[f] = true
	}
	x.strict = x.strict || u.Checks == source.CheckRequired
	x.ways[u.Through(sheet)] = true
	if name, contract := u.Of(sheet); name != "" {
		x.take(sheet, name, contract)
		if u.Own(sheet) {
			x.opened(keeper, sheet, name, names)
		}
	}
}

// Vouched notes which certificates a policy has vouch for the server.
func (x *Place) Vouched(p *policy.Policy) {
	for n := range x.Names {
		if r := p.Repositories[n]; r != nil && r.Rpm != nil && r.Rpm.Authority != nil {
			x.authority = r.Rpm.Authority.Value
		}
	}
}

// alike is what hosts have in common that ask for the same places for the same reasons.
type alike struct{ sheet, survey string }

// gathered remembers where the fleet gets packages from, until something that it follows
// from is another: going through thousands of pairs of sheet and survey takes seconds.
type gathered struct {
	sync.Mutex
	from    gatheredFrom
	all     map[string]*Place // never changed
	unknown int
}

// gatheredFrom is what places follow from: the hosts with their sheets and surveys, the
// policy, and who has a seat.
type gatheredFrom struct {
	fleet    uint64
	revision int64
	books    *subscription.Books
}

// fleetSeed is for this process alone.
var fleetSeed = maphash.MakeSeed()

// stamp is another number whenever a host has another sheet or survey, or is another.
func stamp(hosts []*fleet.Host) uint64 {
	var whole maphash.Hash
	whole.SetSeed(fleetSeed)
	for _, part := range fleet.Across(hosts, func(part []*fleet.Host) uint64 {
		var h maphash.Hash
		h.SetSeed(fleetSeed)
		for _, x := range part {
			v := x.Row()
			for _, text := range []string{v.Name, v.Sheet, v.Survey} {
				_, _ = h.WriteString(text)
				_ = h.WriteByte(0)
			}
		}
		return h.Sum64()
	}) {
		maphash.WriteComparable(&whole, part)
	}
	return whole.Sum64()
}

// places gathers where the fleet gets packages from. unknown counts hosts without a survey.
func (u *Upstreams) places(ctx context.Context) (list []*Place, p *policy.Policy, revision int64, unknown int, err error) {
	p, revision, err = u.NewestPolicy(ctx)
	if err != nil {
		return nil, nil, 0, 0, err
	}
	hosts := u.Fleet.All()
	from := gatheredFrom{stamp(hosts), revision, u.Keeper.Edition()}
	g := &u.gathered
	g.Lock()
	defer g.Unlock()
	if g.all == nil || g.from != from {
		all, unknown, err := u.gatherPlaces(ctx, hosts)
		if err != nil {
			return nil, nil, 0, 0, err
		}
		if p != nil {
			for _, x := range all {
				x.Vouched(p)
			}
		}
		g.from, g.all, g.unknown = from, all, unknown
	}
	list = append(slices.Collect(maps.Values(g.all)), u.sights.planned.list(u.Now(), g.all)...)
	slices.SortFunc(list, func(a, b *Place) int { return strings.Compare(a.Digest, b.Digest) })
	return list, p, revision, g.unknown, nil
}

// lookPause is between looks for surveys of which it is not known where packages come from.
const lookPause = 10 * time.Second

// WatchPlaces works out ahead of time from where hosts get packages: in a large fleet it takes seconds after a
// start, and somebody would wait for it.
func (u *Upstreams) WatchPlaces(ctx context.Context) {
	broken := map[string]bool{} // surveys that cannot be read, which the log has told of
	u.gatherAhead(ctx, broken)
	ground.Every(ctx, lookPause, func() { u.gatherAhead(ctx, broken) })
}

func (u *Upstreams) gatherAhead(ctx context.Context, broken map[string]bool) {
	fresh := map[string]bool{}
	for _, h := range u.Fleet.All() {
		survey := h.Row().Survey
		if _, seen := fresh[survey]; !seen {
			fresh[survey] = survey != "" && !broken[survey] && !u.Compute.Digested(survey)
		}
	}
	maps.DeleteFunc(fresh, func(_ string, is bool) bool { return !is })
	if len(fresh) == 0 {
		return
	}
	patience := MostPatience
	for survey := range fresh {
		u.GiveWay(ctx, &patience)
		if ctx.Err() != nil {
			return
		}
		if _, _, err := u.Compute.Digest(ctx, survey); err != nil {
			broken[survey] = true
			u.Log.Error("working out the places of packages", "survey", survey, "error", err)
		}
	}
	if _, _, _, _, err := u.places(ctx); err != nil && ctx.Err() == nil {
		u.Log.Error("working out the places of packages", "error", err)
	}
	u.gatherCarried(ctx, &patience)
}

// gatherCarried works out which places the sheets have that were carried: what the next change brings is told beside them.
func (u *Upstreams) gatherCarried(ctx context.Context, patience *time.Duration) {
	type given struct{ sheet, traits string }
	carried := map[given]bool{}
	for _, h := range u.Fleet.All() {
		if v := h.Row(); v.Carried.Sheet != "" {
			carried[given{v.Carried.Sheet, v.Traits}] = true
		}
	}
	b := u.NewBrings(nil)
	for k := range carried {
		u.GiveWay(ctx, patience)
		if ctx.Err() != nil {
			return
		}
		if _, err := b.Had(ctx, k.sheet, k.traits); err != nil && ctx.Err() == nil {
			u.Log.Error("working out the places of a sheet", "sheet", k.sheet, "error", err)
		}
	}
}

// gatherPlaces goes through what the hosts ask for. unknown counts those without a survey.
func (u *Upstreams) gatherPlaces(ctx context.Context, hosts []*fleet.Host) (all map[string]*Place, unknown int, err error) {
	type group struct {
		hosts int
		names []string // some of them
	}
	groups, surveys := map[alike]*group{}, map[string]int{}
	for _, h := range hosts {
		v := h.Row()
		if v.Survey == "" {
			unknown++
			continue
		}
		surveys[v.Survey]++
		k := alike{v.Sheet, v.Survey}
		g := groups[k]
		if g == nil {
			g = &group{}
			groups[k] = g
		}
		if g.hosts++; len(g.names) < ground.MostNames || u.seated(v.Name) {
			g.names = append(g.names, v.Name)
		}
	}
	u.Compute.ForgetPlaces(surveys)
	if err := u.Compute.DigestAll(ctx, surveys); err != nil {
		return nil, 0, err
	}
	all = map[string]*Place{}
	for k, g := range groups {
		if err := u.askedBy(ctx, k, g.hosts, g.names, all); err != nil {
			return nil, 0, err
		}
	}
	return all, unknown, nil
}

// seated reports whether a host has a seat: access goes with it.
func (u *Upstreams) seated(host string) bool { return len(u.Keeper.Of(host)) > 0 }

// askedBy adds what some hosts that are alike ask for.
func (u *Upstreams) askedBy(ctx context.Context, k alike, hosts int, names []string, all map[string]*Place) error {
	uses, err := u.Compute.UsesOf(ctx, k.survey)
	if err != nil {
		return err
	}
	sheet := &source.Sheet{}
	if k.sheet != "" {
		if sheet, err = u.Compute.SheetOf(ctx, k.sheet); err != nil {
			return err
		}
	}
	seen := map[string]bool{}
	for i := range uses {
		use := uses[i]
		x := all[use.Key]
		if x == nil {
			x = NewPlace(use)
			all[use.Key] = x
		}
		if !seen[use.Key] { // a host that asks twice is one host
			seen[use.Key] = true
			x.hosts += hosts
		}
		x.Asked(u.Keeper, use, sheet, names)
	}
	return nil
}

// take notes of which repository of a sheet a place is.
func (x *Place) take(sheet *source.Sheet, name, contract string) {
	if contract != "" {
		x.contracts[contract] = true
	}
	if x.Names[name] {
		return
	}
	x.Names[name] = true
	for _, w := range sheet.Witnesses {
		if w.Repository == name {
			x.witnesses = append(x.witnesses, w)
		}
	}
	for i := range sheet.Sources {
		if src := &sheet.Sources[i]; src.Repository == name {
			for _, f := range src.SignedBy {
				x.keys[f] = true
			}
		}
	}
}

// opened notes how hosts get into a place that is not open to everyone.
func (x *Place) opened(keeper *seats.Keeper, sheet *source.Sheet, name string, hosts []string) {
	for _, a := range sheet.Access {
		if x.host != "" || !slices.Contains(a.Repositories, name) {
			continue
		}
		x.account, x.kind = a.Account, a.Kind
		for _, h := range hosts {
			if _, ok := keeper.Seat(h, a.Account); ok {
				x.host = h
				break
			}
		}
	}
}

// shown is a place as it is told.
func (u *Upstreams) shown(x *Place, p *policy.Policy, look *api.RepositoryLook) api.Repository {
	r := api.Repository{
		Key: x.Digest, Place: x.Place, Address: x.Address(), Names: slices.Sorted(maps.Keys(x.Names)), Hosts: x.hosts, Look: *look,
		Contracts: slices.Sorted(maps.Keys(x.contracts)),
	}
	for _, w := range x.proxies() {
		r.Through = append(r.Through, w.Proxy)
	}
	r.Through = slices.Compact(r.Through) // of sites that differ in what they ask without it
	if r.Names == nil {
		r.Names = []string{}
	}
	signer := ""
	if look.Found != nil {
		signer = look.Found.Signer
	}
	for _, f := range slices.Sorted(maps.Keys(x.keys)) {
		r.Keys = append(r.Keys, api.RepositoryKey{Fingerprint: f, Policy: keyName(p, f), Signs: f == signer})
	}
	return r
}

// keyName is what a policy calls a key; empty where it does not know it.
func keyName(p *policy.Policy, fingerprint string) string {
	if p == nil {
		return ""
	}
	for name, k := range p.Keys {
		if k.Fingerprint == fingerprint {
			return name
		}
	}
	return ""
}
