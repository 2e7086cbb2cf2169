package service

import (
	"cmp"
	"context"
	"slices"

	"patientlantern.example/lantern/api"
)

// Field counts every host by system and state.
func (s *Service) Field(ctx context.Context, _ *struct{}) (*api.Field, error) {
	now := s.now()
	var counted tally
	bySystem := map[string]*api.FieldSystem{}
	for _, h := range s.fleet.all() {
		v, state := h.row(), h.state(now)
		counted.add(v, state)
		x := bySystem[v.os]
		if x == nil {
			x = &api.FieldSystem{System: v.os, States: map[string]int{}}
			bySystem[v.os] = x
		}
		x.Hosts++
		x.States[state]++
	}
	out := api.Field{Systems: []api.FieldSystem{}, Total: len(bySystem)}
	for _, x := range bySystem {
		out.Systems = append(out.Systems, *x)
	}
	slices.SortFunc(out.Systems, func(a, b api.FieldSystem) int {
		return cmp.Or(cmp.Compare(b.Hosts, a.Hosts), cmp.Compare(a.System, b.System))
	})
	var err error
	if out.Standing, err = s.invited(ctx, counted.standing(), now); err != nil {
		return nil, s.refuse(err)
	}
	return &out, nil
}
