package register

import (
	"cmp"
	"context"
	"slices"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
)

// FieldQuery says how the field is grouped.
type FieldQuery struct {
	By string `query:"by" enum:"system,cohort" default:"system" doc:"Group by system, or by what is configured exactly alike"`
}

// mostCohorts is how many cohorts have a row of their own in the field; the others are one.
const mostCohorts = 12

// field counts hosts by rows: by system, or by survey.
type field struct {
	bySurvey bool
	rows     map[string]*api.FieldSystem
}

func (f *field) add(v *fleet.View, state string) {
	key := v.OS
	if f.bySurvey {
		key = v.Survey
	}
	x := f.rows[key]
	if x == nil {
		x = &api.FieldSystem{System: v.OS, States: map[string]int{}}
		if f.bySurvey && key != "" {
			x.Like, x.Cohorts = v.Name, 1
		}
		f.rows[key] = x
	}
	x.Hosts++
	x.States[state]++
}

// sorted are the rows, the largest first. Small cohorts are one row at the end: those of a
// system alone say which.
func (f *field) sorted() []api.FieldSystem {
	out := make([]api.FieldSystem, 0, len(f.rows))
	for _, x := range f.rows {
		out = append(out, *x)
	}
	slices.SortFunc(out, func(a, b api.FieldSystem) int {
		return cmp.Or(cmp.Compare(b.Hosts, a.Hosts), cmp.Compare(a.System, b.System), cmp.Compare(a.Like, b.Like))
	})
	if !f.bySurvey || len(out) <= mostCohorts+1 {
		return out
	}
	rest := api.FieldSystem{System: out[mostCohorts].System, States: map[string]int{}}
	for _, x := range out[mostCohorts:] {
		rest.Hosts += x.Hosts
		rest.Cohorts += x.Cohorts
		for state, n := range x.States {
			rest.States[state] += n
		}
		if x.System != rest.System {
			rest.System = ""
		}
	}
	return append(slices.Clip(out[:mostCohorts]), rest)
}

// Field counts every host by system, or by cohort, and state.
func (s *Register) Field(ctx context.Context, in *FieldQuery) (*api.Field, error) {
	now := s.Now()
	var counted Tally
	rows := field{bySurvey: in.By == "cohort", rows: map[string]*api.FieldSystem{}}
	for _, h := range s.Fleet.All() {
		v, state := h.Row(), h.State(now)
		counted.Add(v, state)
		rows.add(v, state)
	}
	out := api.Field{Systems: rows.sorted(), Total: len(rows.rows)}
	var err error
	if out.Standing, err = s.invited(ctx, counted.Sums(), now); err != nil {
		return nil, err
	}
	return &out, nil
}
