package policies

import (
	"context"
	"errors"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
)

// newestFiles are those of the newest revision.
func (s *Policies) newestFiles(ctx context.Context) (revision int64, files policy.Folder, err error) {
	r, err := s.Pick(ctx, 0)
	if err != nil {
		return 0, nil, err
	}
	published, err := s.RevisionFiles(ctx, &RevisionPath{Number: r.Number})
	if err != nil {
		return 0, nil, err
	}
	return r.Number, published.Files, nil
}

// AdoptionIn says which source is taken into the policy.
type AdoptionIn struct {
	Body api.AdoptionOrder
}

// AdoptSource works out what a team would add to the newest folder. It is tried on the hosts'
// surveys, and published by nobody.
func (s *Policies) AdoptSource(ctx context.Context, in *AdoptionIn) (*api.Adoption, error) {
	revision, files, err := s.newestFiles(ctx)
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
	res, err := learn.Adopt(files, hosts, learn.Place{File: in.Body.File, Line: in.Body.Line}, s.Now())
	if err != nil {
		return nil, refusal.Conflict(err.Error())
	}
	out := api.Adoption{Revision: revision, Files: res.Files, Notes: []api.AdoptionNote{}}
	for _, n := range res.Notes {
		out.Notes = append(out.Notes, api.AdoptionNote(n))
	}
	return &out, nil
}

// RetirementIn says which key is taken out of the policy.
type RetirementIn struct {
	Body api.RetirementOrder
}

// RetireKey works out what the newest folder is without a key that another has taken over from. It is published by
// nobody.
func (s *Policies) RetireKey(ctx context.Context, in *RetirementIn) (*api.Retirement, error) {
	revision, files, err := s.newestFiles(ctx)
	if err != nil {
		return nil, err
	}
	without, err := policy.Retire(files, in.Body.Key, s.Now())
	switch {
	case errors.Is(err, policy.ErrNoKey):
		return nil, refusal.NotFound(err.Error())
	case err != nil:
		return nil, refusal.Conflict(err.Error())
	}
	return &api.Retirement{
		Revision: revision, Key: without.Key, Files: without.Files, Gone: without.Gone, Mentions: without.Mentions, Checked: without.Checked,
	}, nil
}
