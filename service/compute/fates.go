package compute

import (
	"context"
	"slices"

	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/fleet"
)

// Fates says what becomes of each source of a host's last survey under a sheet.
func (c *Computer) Fates(ctx context.Context, v *fleet.View, sheet *source.Sheet) ([]reason.Fate, error) {
	if v.Survey == "" || sheet == nil {
		return []reason.Fate{}, nil
	}
	var before *source.Sheet
	var err error
	if v.Carried.Sheet != "" {
		if before, err = c.SheetOf(ctx, v.Carried.Sheet); err != nil {
			return nil, err
		}
	}
	survey, err := c.SurveyOf(ctx, v.Survey)
	if err != nil {
		return nil, err
	}
	return reason.Fates(sheet, before, survey), nil
}

// SayMedia fills in whether media were there when the host looked last. It looks for those
// that its last sheet names.
func (c *Computer) SayMedia(ctx context.Context, e *reason.Explanation, v *fleet.View) error {
	looked, there := map[string]bool{}, []string{}
	for i := range e.Files {
		f := &e.Files[i]
		if f.While == "" {
			continue
		}
		if len(looked) == 0 && v.Carried.Sheet != "" && v.Survey != "" {
			sheet, err := c.SheetOf(ctx, v.Carried.Sheet)
			if err != nil {
				return err
			}
			survey, err := c.SurveyOf(ctx, v.Survey)
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

// Explain says why a host would have what a revision gives it.
func (c *Computer) Explain(ctx context.Context, r *resolve.Resolver, v *fleet.View) (*reason.Explanation, error) {
	t, err := c.TraitsOf(ctx, v.Traits)
	if err != nil {
		return nil, err
	}
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return r.Explain(resolve.Host{Name: v.Name, Class: v.Class, Labels: v.Labels, Traits: t})
}
