package upstreams

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
)

// RepositoriesQuery says which repositories are asked for.
type RepositoriesQuery struct {
	ground.Paging
	Q     string   `query:"q" doc:"Part of an address, of a suite, or of the name of a repository"`
	State []string `query:"state" doc:"Only places in these states: trouble, unknown, unsigned, good"`
	Sort  string   `query:"sort" enum:"state,hosts,address,checked" default:"state"`
}

func (in *RepositoriesQuery) check() error {
	for _, st := range in.State {
		if !slices.Contains(api.PlaceStates, st) {
			return refusal.Wrong(
				fmt.Sprintf("there is no state %.40q of a place; states are %s", st, strings.Join(api.PlaceStates, ", ")))
		}
	}
	return nil
}

func (in *RepositoriesQuery) order(a, b api.Repository) int {
	last := cmp.Or(
		strings.Compare(a.Address, b.Address), strings.Compare(a.Suite, b.Suite), slices.Compare(a.Archs, b.Archs), strings.Compare(a.Key, b.Key),
	)
	when := func(t *time.Time) int64 {
		if t == nil {
			return 0
		}
		return t.Unix()
	}
	switch in.Sort {
	case "hosts":
		return cmp.Or(b.Hosts-a.Hosts, last)
	case "address":
		return last
	case "checked":
		return cmp.Or(cmp.Compare(when(a.Look.Checked), when(b.Look.Checked)), last)
	}
	rank := func(r *api.Repository) int { return slices.Index(api.PlaceStates, r.Look.State) }
	return cmp.Or(rank(&a)-rank(&b), b.Hosts-a.Hosts, last)
}

// ListRepositories tells where the fleet gets packages from.
func (u *Upstreams) ListRepositories(ctx context.Context, in *RepositoriesQuery) (*api.RepositoryPage, error) {
	if err := in.check(); err != nil {
		return nil, err
	}
	page, err := u.repositoryPage(ctx, in, nil)
	if err != nil {
		return nil, err
	}
	return page, nil
}

// repositoryPage is a page of those places that wants picks; of all where it is nil.
func (u *Upstreams) repositoryPage(ctx context.Context, in *RepositoriesQuery, wants func(*Place) bool) (*api.RepositoryPage, error) {
	places, p, revision, unknown, err := u.places(ctx)
	if err != nil {
		return nil, err
	}
	page := &api.RepositoryPage{
		Repositories: []api.Repository{}, States: map[string]int{}, Revision: revision, Unknown: unknown, Every: int(u.Opts.Probe.Seconds()),
		Silent: u.Fleet.Past(u.Now()),
	}
	busy := u.sights.lookedAt()
	var list []api.Repository
	byKey := map[string]*Place{}
	for _, x := range places {
		if wants != nil && !wants(x) {
			continue
		}
		if busy[x.Digest] {
			page.Pending++
		}
		byKey[x.Digest] = x
		r := u.shown(x, p, u.sights.look(x.Digest, &x.Place))
		text := strings.ToLower(strings.Join(append([]string{r.Address, r.Suite, r.Key}, r.Names...), "\n"))
		if !strings.Contains(text, strings.ToLower(in.Q)) {
			continue
		}
		page.States[r.Look.State]++
		if len(in.State) == 0 || slices.Contains(in.State, r.Look.State) {
			list = append(list, r)
		}
	}
	page.Total = len(list)
	slices.SortFunc(list, in.order)
	from, to := in.Cut(len(list))
	page.Next = in.Next(len(list))
	for _, r := range list[from:to] {
		r.Witnesses = u.witnessed(ctx, byKey[r.Key], &r.Look)
		page.Repositories = append(page.Repositories, r)
	}
	return page, nil
}

// called reports whether a place is what somebody calls so.
func (x *Place) called(name string) bool {
	return x.Digest == name || x.Names[name] || strings.TrimRight(x.Address(), "/") == strings.TrimRight(name, "/")
}

// RepositoryQuery names a repository.
type RepositoryQuery struct {
	ground.Paging
	Key string `path:"key" maxLength:"200" doc:"The key of a place"`
}

// ShowRepository tells all of one place.
func (u *Upstreams) ShowRepository(ctx context.Context, in *RepositoryQuery) (*api.Repository, error) {
	places, p, _, _, err := u.places(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(places, func(x *Place) bool { return x.Digest == in.Key })
	if i < 0 {
		return nil, refusal.NotFound(
			fmt.Sprintf("no host gets packages from a place %.40q; lantern repository list shows all", in.Key),
		)
	}
	x := places[i]
	look := u.sights.look(x.Digest, &x.Place)
	r := u.shown(x, p, look)
	r.Witnesses = u.witnessed(ctx, x, look)
	r.On = []api.RepositoryHost{}
	var on []api.RepositoryHost
	for _, h := range u.Fleet.All() {
		v := h.Row()
		if v.Survey == "" {
			continue
		}
		uses, err := u.Compute.UsesOf(ctx, v.Survey)
		if err != nil {
			return nil, err
		}
		for i := range uses {
			if uses[i].Key == x.Digest {
				on = append(on, api.RepositoryHost{Host: v.Name, OS: v.OS, File: uses[i].File})
				break
			}
		}
	}
	r.OnTotal = len(on)
	from, to := in.Cut(len(on))
	r.On = append(r.On, on[from:to]...)
	return &r, nil
}

// ProbeQuery says which places are looked at.
type ProbeQuery struct {
	Body api.ProbeOrder
}

// probeWait is how long the answer to an order waits for looks to end.
const probeWait = 20 * time.Second

// ProbeRepositories looks at places now. What takes longer goes on: the answer counts it.
func (u *Upstreams) ProbeRepositories(ctx context.Context, in *ProbeQuery) (*api.RepositoryPage, error) {
	places, p, _, _, err := u.places(ctx)
	if err != nil {
		return nil, err
	}
	wants := func(x *Place) bool { return len(in.Body.Which) == 0 || slices.ContainsFunc(in.Body.Which, x.called) }
	for _, name := range in.Body.Which {
		if !slices.ContainsFunc(places, func(x *Place) bool { return x.called(name) }) {
			return nil, refusal.NotFound(fmt.Sprintf(
				"no host gets packages from %q: it is no repository of the policy that a host uses, and no address; lantern repository list shows all",
				refusal.Short(name),
			))
		}
	}
	list := slices.DeleteFunc(slices.Clone(places), func(x *Place) bool { return !wants(x) })
	done := make(chan struct{})
	u.Background(func(bg context.Context) {
		defer close(done)
		u.Probe(bg, list, p)
	})
	select {
	case <-done:
	case <-time.After(probeWait):
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	page, err := u.repositoryPage(ctx, &RepositoriesQuery{Paging: ground.Paging{PerPage: 500, Page: 1}}, wants)
	if err != nil {
		return nil, err
	}
	return page, nil
}
