package policies

import (
	"context"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
)

// AdoptionIn says which source is taken into the policy.
type AdoptionIn struct {
	Body api.AdoptionOrder
}

// AdoptSource works out what a team would add to the newest folder. It is tried on the hosts'
// surveys, and published by nobody.
func (s *Policies) AdoptSource(ctx context.Context, in *AdoptionIn) (*api.Adoption, error) {
	r, err := s.Pick(ctx, 0)
	if err != nil {
		return nil, err
	}
	published, err := s.RevisionFiles(ctx, &RevisionPath{Number: r.Number})
	if err != nil {
		return nil, err
	}
	var hosts []saved.Snapshot
	for _, name := range in.Body.To {
		h, err := s.Survey(ctx, &ground.HostPath{Name: name})
		if err != nil {
			return nil, err
		}
		hosts = append(hosts, *h)
	}
	res, err := learn.Adopt(published.Files, hosts, learn.Place{File: in.Body.File, Line: in.Body.Line}, s.Now())
	if err != nil {
		return nil, refusal.Conflict(err.Error())
	}
	out := api.Adoption{Revision: r.Number, Files: res.Files, Notes: []api.AdoptionNote{}}
	for _, n := range res.Notes {
		out.Notes = append(out.Notes, api.AdoptionNote(n))
	}
	return &out, nil
}
