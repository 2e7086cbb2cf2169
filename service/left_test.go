package service_test

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// What is left is guessed from the hosts so far. A last host that hangs is said to hang: its rollout does not say for an hour
// that less than a minute is left.
func TestTheLastHostThatHangsIsNotAMomentAway(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 3)
	publish(t, r, r.Policy())
	ro, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
	require.NoError(t, err)
	shown := func() api.Rollout {
		ro, err := r.Operator.Rollout(ctx, ro.ID, client.List{})
		require.NoError(t, err)
		return ro
	}
	r.Clock.Forward(10 * time.Second)
	all[0].does(ro.ID, "done")
	r.Clock.Forward(10 * time.Second)
	all[1].does(ro.ID, "done")
	last := all[2]
	r.Until("its task waits", func() bool { return last.surveyed("a").Work })
	works := api.Report{Rollout: ro.ID, State: "working", Step: api.StepRefresh}
	require.Equal(t, http.StatusNoContent, last.post("/api/agent/reports", works, nil))

	ro = shown()
	require.NotNil(t, ro.TimeLeft, ro.Says)
	assert.Contains(t, ro.Says, "left, by what hosts took so far")
	for range 10 { // it gives signs of life, and gets nowhere
		r.Clock.Forward(3 * time.Minute)
		last.surveyed("a")
		require.Equal(t, http.StatusNoContent, last.post("/api/agent/reports", works, nil))
	}
	ro = shown()
	assert.Nil(t, ro.TimeLeft, ro.Says)
	assert.Contains(t, ro.Says, "no host has ended for about 30 min: how long the last ones take is not known")
}
