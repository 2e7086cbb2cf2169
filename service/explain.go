package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// ExplainQuery says what of a host is explained.
type ExplainQuery struct {
	HostPath
	Revision int64 `query:"revision" minimum:"0" doc:"The revision; 0 for the newest"`
}

// Explain says why a host has what a revision gives it.
func (s *Service) Explain(ctx context.Context, in *ExplainQuery) (*reason.Explanation, error) {
	h, err := s.findHost(in.Name)
	if err != nil {
		return nil, err
	}
	r, err := s.pick(ctx, in.Revision)
	if err != nil {
		return nil, err
	}
	v := h.row()
	if v.Traits == "" {
		return nil, refusal.Conflict(fmt.Sprintf("%s has sent no survey yet, so it is not known what it is", v.Name))
	}
	rs, err := s.compute.revision(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	e, err := s.compute.explain(ctx, rs, v)
	if err != nil {
		return nil, err
	}
	if err := s.compute.sayMedia(ctx, e, v); err != nil {
		return nil, err
	}
	res, err := s.compute.resolve(ctx, rs, v)
	if err != nil {
		return nil, err
	}
	if e.Fates, err = s.compute.fates(ctx, v, res.Sheet); err != nil {
		return nil, err
	}
	return e, nil
}

// fates says what becomes of each source of a host's last survey under a sheet.
func (c *computer) fates(ctx context.Context, v *hostView, sheet *source.Sheet) ([]reason.Fate, error) {
	if v.Survey == "" || sheet == nil {
		return []reason.Fate{}, nil
	}
	var before *source.Sheet
	var err error
	if v.Carried.Sheet != "" {
		if before, err = c.sheetOf(ctx, v.Carried.Sheet); err != nil {
			return nil, err
		}
	}
	survey, err := c.surveyOf(ctx, v.Survey)
	if err != nil {
		return nil, err
	}
	return reason.Fates(sheet, before, survey), nil
}

// sayMedia fills in whether media were there when the host looked last. It looks for those
// that its last sheet names.
func (c *computer) sayMedia(ctx context.Context, e *reason.Explanation, v *hostView) error {
	looked, there := map[string]bool{}, []string{}
	for i := range e.Files {
		f := &e.Files[i]
		if f.While == "" {
			continue
		}
		if len(looked) == 0 && v.Carried.Sheet != "" && v.Survey != "" {
			sheet, err := c.sheetOf(ctx, v.Carried.Sheet)
			if err != nil {
				return err
			}
			survey, err := c.surveyOf(ctx, v.Survey)
			if err != nil {
				return err
			}
			for _, x := range sheet.Files {
				looked[x.While] = true
			}
			there = survey.Media
		}
		switch {
		case !looked[f.While]:
			f.Media = reason.MediaUnknown
		case slices.Contains(there, f.While):
			f.Media = reason.MediaThere
		default:
			f.Media = reason.MediaAway
		}
	}
	return nil
}

func (c *computer) explain(ctx context.Context, r *resolve.Resolver, v *hostView) (*reason.Explanation, error) {
	t, err := c.traitsOf(ctx, v.Traits)
	if err != nil {
		return nil, err
	}
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return r.Explain(resolve.Host{Name: v.Name, Class: v.class, Labels: v.Labels, Traits: t})
}

// Survey gives a host's last survey with the texts that it names, passwords masked.
func (s *Service) Survey(ctx context.Context, in *HostPath) (*saved.Snapshot, error) {
	h, err := s.findHost(in.Name)
	if err != nil {
		return nil, err
	}
	v := h.row()
	if v.Survey == "" || v.Traits == "" {
		return nil, refusal.Conflict(fmt.Sprintf("%s has sent no survey yet", v.Name))
	}
	su, err := s.compute.surveyOf(ctx, v.Survey)
	if err != nil {
		return nil, err
	}
	t, err := s.compute.traitsOf(ctx, v.Traits)
	if err != nil {
		return nil, err
	}
	texts, err := s.compute.textsOf(ctx, su.Files)
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
func (s *Service) RevisionFiles(ctx context.Context, in *RevisionPath) (*api.Publication, error) {
	r, err := s.pick(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	d, err := s.store.Document(ctx, r.Policy, store.KindPolicy)
	if err != nil {
		return nil, err
	}
	var folder policy.Folder
	if err := json.Unmarshal(d.Body, &folder); err != nil {
		return nil, fmt.Errorf("revision %d: %w", r.Number, err)
	}
	return &api.Publication{Files: folder, Message: r.Message}, nil
}
