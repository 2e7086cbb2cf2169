package service_test

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

func daysOf(t *testing.T, r *rig.Rig) map[string]api.Day {
	t.Helper()
	p, err := r.Operator.Days(ctx, 30, client.List{PerPage: 100})
	require.NoError(t, err)
	require.Equal(t, p.Total, len(p.Days))
	out := map[string]api.Day{}
	for _, d := range p.Days {
		out[d.Day] = d
	}
	return out
}

// Each day says how the fleet stood and what was closed on it; of one on which nobody counted
// nothing is known, and what is waived is not closed.
func TestDaysSayHowTheFleetStood(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	var roots []string
	for _, n := range []string{"gw-01", "gw-02"} {
		roots = append(roots, r.Up(n))
	}
	publish(t, r, withPlan(t, r, builtIn))
	require.Zero(t, r.Carry().Counts["failed"])
	heard := func(what string, ok func(n string) bool) {
		t.Helper()
		r.Until(what, func() bool { return ok("gw-01") && ok("gw-02") })
	}
	is := func(want string) func(string) bool { return func(n string) bool { return state(t, r, n) == want } }
	day := func() string { return r.Clock.Now().UTC().Format(time.DateOnly) }
	count := func() {
		r.Clock.Forward(time.Hour)
		heard("they are heard", func(n string) bool { return state(t, r, n) != api.StateSilent })
		r.Tend()
	}
	count()
	first := day()
	require.Equal(t, 2, daysOf(t, r)[first].Standing.Steady)

	r.Clock.Forward(24 * time.Hour) // and nobody counts
	gap := day()
	r.Clock.Forward(24 * time.Hour)
	for _, root := range roots {
		edited(t, filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources"), "Components: main", "Components: main testing")
	}
	heard("both have drifted", is(api.StateDrifted))
	count()
	drifted := day()
	_, err := r.Operator.HealMany(ctx, api.HealManyOrder{To: []string{"gw-01"}})
	require.NoError(t, err)
	r.Until("it is healed", func() bool { return state(t, r, "gw-01") == api.StateSteady })
	d, err := r.Operator.Host(ctx, "gw-02")
	require.NoError(t, err)
	require.Len(t, d.Drift, 1)
	_, err = r.Operator.Waive(ctx, api.WaiverOrder{Finding: api.Difference(d.Drift[0].Finding), Because: "as agreed", Ends: r.Clock.Now().Add(240 * time.Hour)})
	require.NoError(t, err)
	count()

	days := daysOf(t, r)
	require.NotNil(t, days[first].Counted)
	assert.Equal(t, 2, days[first].Standing.Steady)
	require.Contains(t, days, gap)
	assert.Nil(t, days[gap].Counted, "nobody counted")
	assert.Nil(t, days[gap].Standing)
	last := days[day()]
	if drifted == day() {
		assert.Equal(t, 2, last.Arisen)
	}
	assert.Equal(t, 1, last.Closed, "what is waived is not closed")
	require.NotNil(t, last.Within)
	assert.InDelta(t, 3600, *last.Within, 600, "it stood for the hour that was counted")
	assert.Equal(t, 1, last.Standing.Waived)

	// Every finding counts, though the journal names some of them only.
	before60 := daysOf(t, r)[day()].Arisen
	lines := ""
	for n := range 60 {
		lines += fmt.Sprintf("deb http://own.example/%d stable main\n", n)
	}
	put(t, roots[0], "etc/apt/sources.list.d/own.list", lines)
	r.Until("they are found", func() bool {
		d, err := r.Operator.Host(ctx, "gw-01")
		return err == nil && len(d.Drift) == 60
	})
	assert.Equal(t, before60+60, daysOf(t, r)[day()].Arisen)

	// After a start nobody is counted as silent who was not listened to.
	before := *last.Counted
	r.Restart()
	r.Tend()
	r.Clock.Forward(time.Second)
	again, err := r.Operator.Days(ctx, 1, client.List{})
	require.NoError(t, err)
	require.Len(t, again.Days, 1)
	assert.False(t, again.Days[0].Counted.Before(before))
}
