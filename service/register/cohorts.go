package register

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/service/ground"
)

// CohortQuery says which cohorts are asked for.
type CohortQuery struct {
	ground.Paging
	Q    string `query:"q" doc:"Part of the system, such as skerry 12"`
	Diff bool   `query:"diff" doc:"Say by which lines each differs from the commonest of its system"`
}

// ListCohorts tells how many different configurations there are, and who has them.
func (s *Register) ListCohorts(ctx context.Context, in *CohortQuery) (*api.CohortPage, error) {
	bySurvey := map[string]*api.Cohort{}
	var list []*api.Cohort
	page := api.CohortPage{Cohorts: []api.Cohort{}}
	now := s.Now()
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if in.Q != "" && !strings.Contains(v.LowerOS, strings.ToLower(in.Q)) {
			continue
		}
		page.Hosts++
		c := bySurvey[v.Survey]
		if c == nil {
			c = &api.Cohort{Survey: v.Survey, OS: v.OS, Names: []string{}}
			bySurvey[v.Survey] = c
			list = append(list, c)
		}
		c.Hosts++
		if h.Past(now) {
			c.Silent++
		}
		if len(c.Names) < ground.MostNames {
			c.Names = append(c.Names, v.Name)
		}
		c.Drifted = c.Drifted || v.Worst == drift.Danger || v.Worst == drift.Fault
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
	from, to := in.Cut(len(list))
	page.Next = in.Next(len(list))
	for _, c := range list[from:to] {
		if in.Diff && c.Like != "" {
			if err := s.Compute.Unlike(ctx, c); err != nil {
				return nil, err
			}
		}
		page.Cohorts = append(page.Cohorts, *c)
	}
	return &page, nil
}
