package register

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/store"
)

// However hosts are gathered, each is counted once, in the state that it is in, and the rows are
// few: the largest first, the small cohorts as one.
func TestTheFieldCountsEachHostOnce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		by := rapid.Bool().Draw(rt, "by cohort")
		f := field{bySurvey: by, rows: map[string]*api.FieldSystem{}}
		states, surveys := map[string]int{}, map[string]int{}
		n := rapid.IntRange(0, 200).Draw(rt, "hosts")
		for i := range n {
			v := &fleet.View{Host: store.Host{Name: fmt.Sprintf("gw-%03d", i)}, System: &fleet.System{OS: "Skerry 12"}}
			if k := rapid.IntRange(0, 40).Draw(rt, "survey"); k > 0 {
				v.Survey, v.System = fmt.Sprint("s", k), &fleet.System{OS: fmt.Sprint("Skerry ", 10+k%3)}
			}
			state := rapid.SampledFrom(api.States).Draw(rt, "state")
			states[state]++
			surveys[v.Survey]++
			f.add(v, state)
		}
		rows := f.sorted()
		hosts, cohorts := 0, 0
		told := map[string]int{}
		for i, x := range rows {
			hosts += x.Hosts
			cohorts += x.Cohorts
			sum := 0
			for state, c := range x.States {
				told[state] += c
				sum += c
			}
			require.Equal(rt, x.Hosts, sum)
			if i > 0 && i < mostCohorts {
				require.LessOrEqual(rt, x.Hosts, rows[i-1].Hosts)
			}
			if x.Like != "" {
				require.Equal(rt, 1, x.Cohorts)
			}
		}
		require.Equal(rt, n, hosts)
		require.Equal(rt, states, told)
		if by {
			require.LessOrEqual(rt, len(rows), mostCohorts+1)
			delete(surveys, "")
			require.Equal(rt, len(surveys), cohorts)
		}
	})
}
