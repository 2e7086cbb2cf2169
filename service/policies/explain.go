package policies

import (
	"context"
	"encoding/json"
	"fmt"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// ExplainQuery says what of a host is explained.
type ExplainQuery struct {
	ground.HostPath
	Revision int64 `query:"revision" minimum:"0" doc:"The revision; 0 for the newest"`
}

// Explain says why a host has what a revision gives it.
func (s *Policies) Explain(ctx context.Context, in *ExplainQuery) (*reason.Explanation, error) {
	h, err := s.FindHost(in.Name)
	if err != nil {
		return nil, err
	}
	r, err := s.Pick(ctx, in.Revision)
	if err != nil {
		return nil, err
	}
	v := h.Row()
	if v.Traits == "" {
		return nil, refusal.Conflict(fmt.Sprintf("%s has sent no survey yet, so it is not known what it is", v.Name))
	}
	rs, err := s.Compute.Revision(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	e, err := s.Compute.Explain(ctx, rs, v)
	if err != nil {
		return nil, err
	}
	if err := s.Compute.SayMedia(ctx, e, v); err != nil {
		return nil, err
	}
	res, err := s.Compute.Resolve(ctx, rs, v)
	if err != nil {
		return nil, err
	}
	if e.Fates, err = s.Compute.Fates(ctx, v, res.Sheet); err != nil {
		return nil, err
	}
	return e, nil
}

// Survey gives a host's last survey with the texts that it names, passwords masked.
func (s *Policies) Survey(ctx context.Context, in *ground.HostPath) (*saved.Snapshot, error) {
	h, err := s.FindHost(in.Name)
	if err != nil {
		return nil, err
	}
	v := h.Row()
	if v.Survey == "" || v.Traits == "" {
		return nil, refusal.Conflict(fmt.Sprintf("%s has sent no survey yet", v.Name))
	}
	su, err := s.Compute.SurveyOf(ctx, v.Survey)
	if err != nil {
		return nil, err
	}
	t, err := s.Compute.TraitsOf(ctx, v.Traits)
	if err != nil {
		return nil, err
	}
	texts, err := s.Compute.TextsOf(ctx, su.Files)
	if err != nil {
		return nil, err
	}
	out := saved.Of(v.Name, v.Labels, *su, texts)
	out.Traits = *t
	return &out, nil
}

// RevisionPath names a revision.
type RevisionPath struct {
	Number int64 `path:"number" minimum:"1" doc:"The revision's number"`
}

// RevisionFiles gives the folder that was published.
func (s *Policies) RevisionFiles(ctx context.Context, in *RevisionPath) (*api.Publication, error) {
	r, err := s.Pick(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	d, err := s.Store.Document(ctx, r.Policy, store.KindPolicy)
	if err != nil {
		return nil, err
	}
	var folder policy.Folder
	if err := json.Unmarshal(d.Body, &folder); err != nil {
		return nil, fmt.Errorf("revision %d: %w", r.Number, err)
	}
	return &api.Publication{Files: folder, Message: r.Message}, nil
}
