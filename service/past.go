package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
)

type pastIn struct {
	HostPath
	At time.Time `query:"at" required:"true" doc:"The moment (RFC 3339)"`
}

// past tells what a host had at a moment.
func (s *Service) past(ctx context.Context, in *pastIn) (*body[api.PastHost], error) {
	name := strings.ToLower(in.Name)
	if h, err := s.fleet.find(in.Name); err == nil {
		name = h.row().Name
	}
	p, err := s.store.PastOf(ctx, name, in.At)
	if errors.Is(err, store.ErrNotFound) {
		first, firstErr := s.store.FirstPast(ctx, name)
		switch {
		case firstErr != nil:
			return nil, s.refuse(firstErr)
		case first.IsZero():
			return nil, huma.Error404NotFound(fmt.Sprintf("it is not known what %q had at any time", short(in.Name)))
		}
		return nil, huma.Error404NotFound(fmt.Sprintf("what %s had then is not known; it is from %s on", name, first.Format(time.RFC3339)))
	}
	if err != nil {
		return nil, s.refuse(err)
	}
	out := api.PastHost{Host: name, At: in.At.UTC(), Since: p.Since, Revision: p.Revision, Drift: []api.Finding{}}
	if !p.Until.IsZero() {
		out.Until = &p.Until
	}
	if out.Survey, err = s.compute.surveyOf(ctx, p.Survey); err != nil {
		return nil, s.refuse(fmt.Errorf("the survey of then: %w", err))
	}
	if p.Sheet == "" {
		return &body[api.PastHost]{out}, nil
	}
	then := hostView{Host: store.Host{Sheet: p.Sheet, Survey: p.Survey, Carried: store.Carried{
		Sheet: p.Before, Base: store.Base{Sheet: p.BaseSheet, Survey: p.BaseSurvey},
	}}}
	found, err := s.compute.judge(ctx, questionOf(&then))
	if err != nil {
		return nil, s.refuse(err)
	}
	for _, f := range found.Findings {
		out.Drift = append(out.Drift, api.Finding{Finding: f, Host: name})
	}
	return &body[api.PastHost]{out}, nil
}
