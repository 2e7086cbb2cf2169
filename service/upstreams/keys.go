package upstreams

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/trust"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
)

// namedKeys is what a policy says of keys, and how long before their end they are spoken of.
func namedKeys(p *policy.Policy) (out []trust.Named, notice time.Duration) {
	if p == nil {
		return nil, policy.DefaultNotice
	}
	by := map[string][]string{}
	for _, name := range slices.Sorted(maps.Keys(p.Repositories)) {
		for _, k := range p.Repositories[name].Keys {
			by[k.Value] = append(by[k.Value], name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Keys)) {
		k := p.Keys[name]
		n := trust.Named{Name: name, Weakness: k.Weakness, Repositories: by[name], Describe: k.Describe}
		n.Describe.Fingerprint = k.Fingerprint
		if w := p.WithdrawalOf(name); w != nil {
			n.Withdrawn = w.Because
		}
		if k.Succeeds != nil { // it is believed wherever the one before is
			n.Succeeds = k.Succeeds.Value
			n.Repositories = slices.Compact(slices.Sorted(slices.Values(slices.Concat(by[name], by[n.Succeeds]))))
		}
		out = append(out, n)
	}
	for _, w := range p.NotBelieved() {
		if p.Keys[w.Key] == nil && !slices.ContainsFunc(out, func(n trust.Named) bool { return n.Describe.Fingerprint == w.Fingerprint }) {
			out = append(out, trust.Named{Withdrawn: w.Because, Describe: source.Key{Fingerprint: w.Fingerprint}})
		}
	}
	return out, cmp.Or(p.Notice, policy.DefaultNotice)
}

// keys gathers which keys the fleet believes.
func (u *Upstreams) keys(ctx context.Context) (list []trust.FleetKey, revision int64, unknown int, err error) {
	places, p, revision, _, err := u.places(ctx)
	if err != nil {
		return nil, 0, 0, err
	}
	named, notice := namedKeys(p)
	surveys := map[string]int{}
	for _, h := range u.Fleet.All() {
		if v := h.Row(); v.Survey == "" {
			unknown++
		} else {
			surveys[v.Survey]++
		}
	}
	u.Compute.ForgetKeys(surveys)
	if err := u.Compute.DigestAll(ctx, surveys); err != nil {
		return nil, 0, 0, err
	}
	next := trust.Successors(named)
	var fleet trust.Fleet
	fleet.Signs(u.sights.signers(places))
	for survey, hosts := range surveys {
		uses, err := u.Compute.KeysOf(ctx, survey)
		if err != nil {
			return nil, 0, 0, err
		}
		fleet.Add(uses, hosts, next)
	}
	return fleet.List(named, notice, u.Now()), revision, unknown, nil
}

// KeysQuery says which keys are asked for.
type KeysQuery struct {
	ground.Paging
	Q     string   `query:"q" doc:"Part of a fingerprint, of a user id, or of the name that the policy gives"`
	State []string `query:"state" doc:"Only keys in these states: revoked, withdrawn, ended, ends, weak, unknown, good"`
	Idle  bool     `query:"idle" doc:"Also keys that stand on hosts and that nothing uses"`
	Sort  string   `query:"sort" enum:"state,hosts,ends,name" default:"state"`
}

func (in *KeysQuery) wants(k *trust.FleetKey) bool {
	if !in.Idle && k.Hosts == 0 && k.Policy == "" {
		return false
	}
	q := strings.ToLower(strings.ReplaceAll(in.Q, " ", ""))
	text := strings.ToLower(strings.ReplaceAll(strings.Join(append(slices.Clone(k.UserIDs), k.Fingerprint, k.Policy), "\n"), " ", ""))
	return strings.Contains(text, q)
}

func (in *KeysQuery) order(a, b trust.FleetKey) int {
	switch in.Sort {
	case "hosts":
		return cmp.Or(b.Hosts-a.Hosts, strings.Compare(a.Fingerprint, b.Fingerprint))
	case "ends":
		end := func(k *trust.FleetKey) time.Time {
			if k.Expires == nil {
				return time.Unix(1<<40, 0)
			}
			return *k.Expires
		}
		return cmp.Or(end(&a).Compare(end(&b)), strings.Compare(a.Fingerprint, b.Fingerprint))
	case "name":
		return cmp.Or(strings.Compare(a.Name(), b.Name()), strings.Compare(a.Fingerprint, b.Fingerprint))
	}
	return 0 // as they come
}

// ListKeys tells which signing keys are believed, and by how many hosts.
func (u *Upstreams) ListKeys(ctx context.Context, in *KeysQuery) (*api.KeyPage, error) {
	for _, st := range in.State {
		if trust.Rank(st) < 0 {
			return nil, refusal.Wrong(
				fmt.Sprintf("there is no state %.40q of a key; states are %s", st, strings.Join(trust.States, ", ")))
		}
	}
	all, revision, unknown, err := u.keys(ctx)
	if err != nil {
		return nil, err
	}
	page := api.KeyPage{Keys: []trust.FleetKey{}, States: map[string]int{}, Revision: revision, Hosts: len(u.Fleet.All()), Unknown: unknown}
	page.Silent = u.Fleet.Past(u.Now())
	list := slices.DeleteFunc(all, func(k trust.FleetKey) bool { return !in.wants(&k) })
	for i := range list {
		page.States[list[i].State]++
	}
	if len(in.State) > 0 {
		list = slices.DeleteFunc(list, func(k trust.FleetKey) bool { return !slices.Contains(in.State, k.State) })
	}
	slices.SortStableFunc(list, in.order)
	page.Total = len(list)
	from, to := in.Cut(len(list))
	page.Next = in.Next(len(list))
	page.Keys = append(page.Keys, list[from:to]...)
	return &page, nil
}

// KeyQuery names a key.
type KeyQuery struct {
	ground.Paging
	Key  string `path:"key" doc:"A fingerprint or its last 16 digits or more, or the name that the policy gives" maxLength:"200"`
	Idle bool   `query:"idle" doc:"Also hosts on which it stands and nothing uses it"`
	Q    string `query:"q" doc:"Only hosts in the name or system of which this stands, or in a place where the key is"`
	// Scope "" stands for any of them.
	Scope string `query:"scope" enum:",any,named" doc:"Only hosts that believe it for every source, or for named ones"`
}

// wants reports whether a host is meant that believes a key so.
func (in *KeyQuery) wants(v *fleet.View, u *trust.Use) bool {
	switch {
	case !u.Used && !in.Idle:
		return false
	case in.Scope != "" && (u.Key.Scope != in.Scope || !u.Used):
		return false
	case in.Q == "":
		return true
	}
	return strings.Contains(strings.ToLower(strings.Join(append([]string{v.Name, v.OS}, u.Where...), "\n")), strings.ToLower(in.Q))
}

// findKey finds one key by what people call it.
func findKey(all []trust.FleetKey, name string) (*trust.FleetKey, error) {
	const shortest = 16
	want := strings.ToUpper(strings.TrimPrefix(strings.ReplaceAll(name, " ", ""), "0x"))
	var found []*trust.FleetKey
	for i := range all {
		k := &all[i]
		if k.Policy == name || k.Fingerprint == want {
			return k, nil
		}
		if len(want) >= shortest && strings.HasSuffix(k.Fingerprint, want) {
			found = append(found, k)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return nil, refusal.NotFound(fmt.Sprintf(
			"no host has the key %q, and the policy does not name it; lantern key list shows all, and --match finds part of a name",
			refusal.Short(name),
		))
	}
	return nil, refusal.Conflict(fmt.Sprintf("%d keys end in %q; give the whole fingerprint", len(found), refusal.Short(name)))
}

// ShowKey tells which hosts believe a key, how, and for which of their sources.
func (u *Upstreams) ShowKey(ctx context.Context, in *KeyQuery) (*api.KeyDetail, error) {
	all, revision, unknown, err := u.keys(ctx)
	if err != nil {
		return nil, err
	}
	key, err := findKey(all, in.Key)
	if err != nil {
		return nil, err
	}
	out := api.KeyDetail{FleetKey: *key, Revision: revision, On: []api.KeyHost{}, Unknown: unknown}
	type hit struct {
		v   *fleet.View
		use trust.Use
	}
	var hits []hit
	var on []*fleet.Host
	for _, h := range u.Fleet.All() {
		v := h.Row()
		if v.Survey == "" {
			continue
		}
		uses, err := u.Compute.KeysOf(ctx, v.Survey)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(uses, func(x trust.Use) bool { return x.Key.Fingerprint == key.Fingerprint })
		if i < 0 || !in.wants(v, &uses[i]) {
			continue
		}
		hits, on = append(hits, hit{v, uses[i]}), append(on, h)
	}
	out.Total = len(hits)
	out.Silent, out.Quiet = fleet.PastOf(on, u.Now(), ground.MostNames)
	from, to := in.Cut(len(hits))
	for _, x := range hits[from:to] {
		survey, err := u.Compute.SurveyOf(ctx, x.v.Survey)
		if err != nil {
			return nil, err
		}
		out.On = append(out.On, api.KeyHost{
			Host: x.v.Name, OS: x.v.OS, Scope: x.use.Key.Scope, Used: x.use.Used, Where: x.use.Where,
			Sources: append([]string{}, x.use.Sources(survey)...), Because: x.use.Key.UnusedBecause,
		})
	}
	return &out, nil
}
