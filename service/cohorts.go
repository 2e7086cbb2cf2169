package service

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/lines"
)

// CohortQuery says which cohorts are asked for.
type CohortQuery struct {
	Paging
	Q    string `query:"q" doc:"Part of the system, such as skerry 12"`
	Diff bool   `query:"diff" doc:"Say by which lines each differs from the commonest of its system"`
}

// ListCohorts tells how many different configurations there are, and who has them.
func (s *Service) ListCohorts(ctx context.Context, in *CohortQuery) (*api.CohortPage, error) {
	bySurvey := map[string]*api.Cohort{}
	var list []*api.Cohort
	page := api.CohortPage{Cohorts: []api.Cohort{}}
	for _, h := range s.fleet.all() {
		v := h.row()
		if in.Q != "" && !strings.Contains(v.lowerOS, strings.ToLower(in.Q)) {
			continue
		}
		page.Hosts++
		c := bySurvey[v.Survey]
		if c == nil {
			c = &api.Cohort{Survey: v.Survey, OS: v.os, Names: []string{}}
			bySurvey[v.Survey] = c
			list = append(list, c)
		}
		c.Hosts++
		if len(c.Names) < mostNames {
			c.Names = append(c.Names, v.Name)
		}
		c.Drifted = c.Drifted || v.worst == drift.Danger || v.worst == drift.Fault
	}
	slices.SortFunc(list, func(a, b *api.Cohort) int {
		return cmp.Or(cmp.Compare(b.Hosts, a.Hosts), strings.Compare(a.Names[0], b.Names[0]))
	})
	commonest := map[string]string{} // of a system, which comes first
	for _, c := range list {
		if c.Survey == "" {
			continue
		}
		if _, there := commonest[c.OS]; !there {
			commonest[c.OS] = c.Survey
			continue
		}
		c.Like = commonest[c.OS]
	}
	page.Total = len(list)
	from, to := in.cut(len(list))
	page.Next = in.next(len(list))
	for _, c := range list[from:to] {
		if in.Diff && c.Like != "" {
			if err := s.compute.unlike(ctx, c); err != nil {
				return nil, err
			}
		}
		page.Cohorts = append(page.Cohorts, *c)
	}
	return &page, nil
}

// unlike says in what a cohort differs from the commonest one of its system.
func (c *computer) unlike(ctx context.Context, of *api.Cohort) error {
	was, err := c.surveyOf(ctx, of.Like)
	if err != nil {
		return err
	}
	is, err := c.surveyOf(ctx, of.Survey)
	if err != nil {
		return err
	}
	before, err := c.textsOf(ctx, was.Files)
	if err != nil {
		return err
	}
	now, err := c.textsOf(ctx, is.Files)
	if err != nil {
		return err
	}
	var diff strings.Builder
	shown := map[string]bool{} // files of which the lines are shown
	names := slices.Concat(slices.Collect(maps.Keys(before)), slices.Collect(maps.Keys(now)))
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		old, stood := before[name]
		text, stands := now[name]
		if string(old) == string(text) && stood == stands || public(old) || public(text) {
			continue // what a file of keys holds is told as keys
		}
		from, to := name, name
		if !stood {
			from = ""
		}
		if !stands {
			to = ""
		}
		shown[name] = true
		diff.WriteString(lines.Unified(from, to, string(old), string(text)))
	}
	of.Diff, of.More = diff.String(), beside(was, is, shown)
	return nil
}

// public reports whether a text is a key rather than lines that people write.
func public(text []byte) bool {
	return bytes.Contains(text, []byte("-----BEGIN PGP")) && !bytes.Contains(text, []byte("Signed-By:")) || bytes.IndexByte(text, 0) >= 0
}

// beside lists what differs beside the files that are shown.
func beside(was, is *source.Survey, shown map[string]bool) []string {
	out := []string{}
	empty := &source.Sheet{Family: is.Traits.Family, Unlisted: source.UnlistedReport}
	for _, f := range drift.Judge(drift.Input{Sheet: empty, Survey: is, Base: &drift.Base{Survey: was}}) {
		if shown[f.File] {
			continue
		}
		switch f.Class {
		case drift.SettingChanged,
			drift.SettingWeakened,
			drift.PinChanged,
			drift.HoldChanged,
			drift.ServiceChanged,
			drift.KeyAdded,
			drift.KeyWider,
			drift.MissingKey,
			drift.ChangedMode:
			out = append(
				out,
				fmt.Sprintf("%s, %s: %s instead of %s", f.File, f.Field, cmp.Or(f.Have, "nothing"), cmp.Or(f.Want, "nothing")),
			)
		}
	}
	return out
}
