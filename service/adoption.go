package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/saved"
)

func (s *Service) adoptionRoutes(a huma.API) {
	huma.Register(
		a,
		operation("adopt-source", http.MethodPost, "/api/policy/adoption",
			"What has to be added to the policy so that a source which it does not list is as it says; changes nothing"),
		s.adoptSource,
	)
}

type adoptionIn struct {
	Body api.AdoptionOrder
}

// adoptSource works out what a team would add to the newest folder. It is tried on the hosts'
// surveys, and published by nobody.
func (s *Service) adoptSource(ctx context.Context, in *adoptionIn) (*body[api.Adoption], error) {
	r, err := s.pick(ctx, 0)
	if err != nil {
		return nil, err
	}
	published, err := s.revisionFiles(ctx, &revisionPath{Number: r.Number})
	if err != nil {
		return nil, err
	}
	var hosts []saved.Snapshot
	for _, name := range in.Body.To {
		h, err := s.survey(ctx, &HostPath{Name: name})
		if err != nil {
			return nil, err
		}
		hosts = append(hosts, h.Body)
	}
	res, err := learn.Adopt(published.Body.Files, hosts, learn.Place{File: in.Body.File, Line: in.Body.Line}, s.now())
	if err != nil {
		return nil, huma.Error409Conflict(err.Error())
	}
	out := api.Adoption{Revision: r.Number, Files: res.Files, Notes: []api.AdoptionNote{}}
	for _, n := range res.Notes {
		out.Notes = append(out.Notes, api.AdoptionNote(n))
	}
	return &body[api.Adoption]{out}, nil
}
