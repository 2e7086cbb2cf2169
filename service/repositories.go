package service

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
)

func (s *Service) repositoryRoutes(a huma.API) {
	huma.Register(a, operation("list-repositories", http.MethodGet, "/api/repositories",
		"Where the fleet gets packages from, and what the service saw there"), s.listRepositories)
	huma.Register(
		a,
		operation("show-repository", http.MethodGet, "/api/repositories/{key}", "One place that packages come from"),
		s.showRepository,
	)
	huma.Register(
		a,
		operation("probe-repositories", http.MethodPost, "/api/repositories/probe", "Look at places now"),
		s.probeRepositories,
	)
}

type repositoriesQuery struct {
	Paging
	Q     string   `query:"q" doc:"Part of an address, of a suite, or of the name of a repository"`
	State []string `query:"state" doc:"Only places in these states: trouble, unknown, unsigned, good"`
	Sort  string   `query:"sort" enum:"state,hosts,address,checked" default:"state"`
}

func (in *repositoriesQuery) check() error {
	for _, st := range in.State {
		if !slices.Contains(api.PlaceStates, st) {
			return huma.Error422UnprocessableEntity(
				fmt.Sprintf("there is no state %.40q of a place; states are %s", st, strings.Join(api.PlaceStates, ", ")))
		}
	}
	return nil
}

func (in *repositoriesQuery) order(a, b api.Repository) int {
	last := cmp.Or(strings.Compare(a.Address, b.Address), strings.Compare(a.Suite, b.Suite), strings.Compare(a.Key, b.Key))
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

// listRepositories tells where the fleet gets packages from.
func (s *Service) listRepositories(ctx context.Context, in *repositoriesQuery) (*body[api.RepositoryPage], error) {
	if err := in.check(); err != nil {
		return nil, err
	}
	page, err := s.repositoryPage(ctx, in, nil)
	if err != nil {
		return nil, s.refuse(err)
	}
	return &body[api.RepositoryPage]{*page}, nil
}

// repositoryPage is a page of those places that wants picks; of all where it is nil.
func (s *Service) repositoryPage(ctx context.Context, in *repositoriesQuery, wants func(*place) bool) (*api.RepositoryPage, error) {
	places, p, revision, unknown, err := s.places(ctx)
	if err != nil {
		return nil, err
	}
	page := &api.RepositoryPage{
		Repositories: []api.Repository{}, States: map[string]int{}, Revision: revision, Unknown: unknown, Every: int(s.opts.Probe.Seconds()),
	}
	busy := s.upstreams.lookedAt()
	var list []api.Repository
	byKey := map[string]*place{}
	for _, x := range places {
		if wants != nil && !wants(x) {
			continue
		}
		if busy[x.key] {
			page.Pending++
		}
		byKey[x.key] = x
		r := s.shown(x, p, s.upstreams.look(x.key, &x.Place))
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
	from, to := in.cut(len(list))
	page.Next = in.next(len(list))
	for _, r := range list[from:to] {
		r.Witnesses = s.witnessed(ctx, byKey[r.Key], &r.Look)
		page.Repositories = append(page.Repositories, r)
	}
	return page, nil
}

// called reports whether a place is what somebody calls so.
func (x *place) called(name string) bool {
	return x.key == name || x.names[name] || strings.TrimRight(x.Address(), "/") == strings.TrimRight(name, "/")
}

type repositoryQuery struct {
	Paging
	Key string `path:"key" maxLength:"200" doc:"The key of a place"`
}

// showRepository tells all of one place.
func (s *Service) showRepository(ctx context.Context, in *repositoryQuery) (*body[api.Repository], error) {
	places, p, _, _, err := s.places(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	i := slices.IndexFunc(places, func(x *place) bool { return x.key == in.Key })
	if i < 0 {
		return nil, huma.Error404NotFound(
			fmt.Sprintf("no host gets packages from a place %.40q; lantern repository list shows all", in.Key),
		)
	}
	x := places[i]
	look := s.upstreams.look(x.key, &x.Place)
	r := s.shown(x, p, look)
	r.Witnesses = s.witnessed(ctx, x, look)
	r.On = []api.RepositoryHost{}
	var on []api.RepositoryHost
	for _, h := range s.fleet.all() {
		v := h.row()
		if v.Survey == "" {
			continue
		}
		uses, err := s.compute.usesOf(ctx, v.Survey)
		if err != nil {
			return nil, s.refuse(err)
		}
		for i := range uses {
			if uses[i].Key == x.key {
				on = append(on, api.RepositoryHost{Host: v.Name, OS: v.os, File: uses[i].File})
				break
			}
		}
	}
	r.OnTotal = len(on)
	from, to := in.cut(len(on))
	r.On = append(r.On, on[from:to]...)
	return &body[api.Repository]{r}, nil
}

type probeQuery struct {
	Body api.ProbeOrder
}

// probeWait is how long the answer to an order waits for looks to end.
const probeWait = 20 * time.Second

// probeRepositories looks at places now. What takes longer goes on: the answer counts it.
func (s *Service) probeRepositories(ctx context.Context, in *probeQuery) (*body[api.RepositoryPage], error) {
	places, p, _, _, err := s.places(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	wants := func(x *place) bool { return len(in.Body.Which) == 0 || slices.ContainsFunc(in.Body.Which, x.called) }
	for _, name := range in.Body.Which {
		if !slices.ContainsFunc(places, func(x *place) bool { return x.called(name) }) {
			return nil, huma.Error404NotFound(fmt.Sprintf(
				"no host gets packages from %q: it is no repository of the policy that a host uses, and no address; lantern repository list shows all",
				short(name),
			))
		}
	}
	list := slices.DeleteFunc(slices.Clone(places), func(x *place) bool { return !wants(x) })
	done := make(chan struct{})
	s.background(func(bg context.Context) {
		defer close(done)
		s.probe(bg, list, p)
	})
	select {
	case <-done:
	case <-time.After(probeWait):
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	page, err := s.repositoryPage(ctx, &repositoriesQuery{Paging: Paging{PerPage: 500, Page: 1}}, wants)
	if err != nil {
		return nil, s.refuse(err)
	}
	return &body[api.RepositoryPage]{*page}, nil
}
