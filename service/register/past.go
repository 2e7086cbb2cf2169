package register

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/between"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// PastIn names a host and a moment.
type PastIn struct {
	ground.HostPath
	At time.Time `query:"at" required:"true" doc:"The moment (RFC 3339)"`
}

// Past tells what a host had at a moment.
func (s *Register) Past(ctx context.Context, in *PastIn) (*api.PastHost, error) {
	at, err := s.passed("at", in.At)
	if err != nil {
		return nil, err
	}
	name, p, err := s.pastOf(ctx, in.Name, at)
	if err != nil {
		return nil, err
	}
	out := api.PastHost{Host: name, At: at.UTC(), Since: p.Since, Revision: p.Revision, Drift: []api.Finding{}}
	if !p.Until.IsZero() {
		out.Until = &p.Until
	}
	if out.Survey, err = s.Compute.SurveyOf(ctx, p.Survey); err != nil {
		return nil, fmt.Errorf("the survey of then: %w", err)
	}
	if p.Sheet == "" {
		return &out, nil
	}
	then := fleet.View{Host: store.Host{Sheet: p.Sheet, Survey: p.Survey, Carried: store.Carried{
		Sheet: p.Before, Base: store.Base{Sheet: p.BaseSheet, Survey: p.BaseSurvey},
	}}}
	found, err := s.Compute.Judge(ctx, compute.QuestionOf(&then))
	if err != nil {
		return nil, err
	}
	for _, f := range found.Findings {
		out.Drift = append(out.Drift, api.Finding{Finding: f, Host: name})
	}
	return &out, nil
}

// passed is a moment that somebody asks for. Of one that has not come nothing is known; the end of today is taken for now.
func (s *Register) passed(which string, at time.Time) (time.Time, error) {
	now := s.Now()
	if at.After(now.Add(24 * time.Hour)) {
		return at, refusal.Wrong(fmt.Sprintf("%s: %s has not come yet", which, at.UTC().Format(time.RFC3339)))
	}
	if at.After(now) {
		return now, nil
	}
	return at, nil
}

// pastOf finds what is kept of a host for a moment, also where it was retired since.
func (s *Register) pastOf(ctx context.Context, host string, at time.Time) (name string, p store.Past, err error) {
	name = strings.ToLower(host)
	if h, err := s.Fleet.Find(host); err == nil {
		name = h.Row().Name
	}
	p, err = s.Store.PastOf(ctx, name, at)
	if errors.Is(err, store.ErrNotFound) {
		first, firstErr := s.Store.FirstPast(ctx, name)
		switch {
		case firstErr != nil:
			return name, p, firstErr
		case first.IsZero():
			return name, p, refusal.NotFound(fmt.Sprintf("it is not known what %q had at any time", refusal.Short(host)))
		}
		return name, p, refusal.NotFound(fmt.Sprintf("what %s had then is not known; it is from %s on", name, first.Format(time.RFC3339)))
	}
	if err != nil {
		return name, p, err
	}
	return name, p, nil
}

// BetweenIn names a host and two moments.
type BetweenIn struct {
	ground.HostPath
	ground.Paging
	From time.Time `query:"from" required:"true" doc:"The earlier moment (RFC 3339)"`
	To   time.Time `query:"to" doc:"The later one; now when absent"`
}

// Between tells what of a host is another at one moment than it was at an earlier one.
func (s *Register) Between(ctx context.Context, in *BetweenIn) (*api.BetweenPage, error) {
	if in.To.IsZero() {
		in.To = s.Now()
	}
	var err error
	if in.To, err = s.passed("to", in.To); err != nil {
		return nil, err
	}
	if in.To.Before(in.From) {
		return nil, refusal.Wrong("to: the later moment comes after the earlier one")
	}
	out := api.BetweenPage{From: in.From.UTC(), To: in.To.UTC(), Items: []between.Piece{}}
	var surveys [2]*source.Survey
	for i, at := range []time.Time{in.From, in.To} {
		name, p, err := s.pastOf(ctx, in.Name, at)
		if err != nil {
			return nil, err
		}
		out.Host = name
		if i == 0 {
			out.FromRevision, out.FromSince = p.Revision, p.Since
		} else {
			out.ToRevision, out.ToSince = p.Revision, p.Since
		}
		if surveys[i], err = s.Compute.SurveyOf(ctx, p.Survey); err != nil {
			return nil, fmt.Errorf("the survey of %s: %w", at.UTC().Format(time.RFC3339), err)
		}
	}
	all := between.Compare(surveys[0], surveys[1])
	from, to := in.Cut(len(all))
	out.Total, out.Next = len(all), in.Next(len(all))
	out.Items = append(out.Items, all[from:to]...)
	return &out, nil
}
