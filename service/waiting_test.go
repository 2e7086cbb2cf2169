package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// A host that waits in a rollout which is held is not being changed: it stands as it stood, it is said what it waits in, and
// whoever wants something else of it is told how that ends.
func TestWhoWaitsInAHeldRolloutIsNotBeingChanged(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	p := gateways(t, r, 1)[0]
	publish(t, r, withPlan(t, r, builtIn))
	first, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	p.does(first.ID, "done")
	r.Ended(first.ID)
	stood, err := r.Operator.Host(ctx, p.name)
	require.NoError(t, err)
	publish(t, r, withPlan(t, r, builtIn+"      - { hosts: 7 }\n"))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{To: []string{p.name}})
	require.NoError(t, err)
	state := func() (string, string) {
		t.Helper()
		d, err := r.Operator.Host(ctx, p.name)
		require.NoError(t, err)
		return d.State, d.Detail
	}
	changing := func() bool { is, _ := state(); return is == api.StateChanging }
	r.Until("it may begin", changing)
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverHold, api.LeverOrder{Because: "the vendor has an outage"})
	require.NoError(t, err)
	for _, restarted := range []bool{false, true} {
		if restarted {
			r.Restart()
		}
		is, detail := state()
		assert.Equal(t, stood.State, is)
		assert.Equal(t, stood.Detail+"; waits in rollout 2, which is held", detail)
		page, err := r.Operator.Hosts(ctx, client.List{Filter: map[string][]string{"state": {stood.State}}})
		require.NoError(t, err)
		assert.Equal(t, 1, page.Total)
		says := "waits in rollout 2, which is held: let that go on (lantern rollout proceed 2), or stop it (lantern rollout stop 2)"
		_, err = r.Operator.Heal(ctx, p.name)
		require.ErrorContains(t, err, says)
		_, err = r.Operator.Accept(ctx, p.name, api.AcceptOrder{Because: "so it is"})
		require.ErrorContains(t, err, says)
	}
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverProceed, api.LeverOrder{Because: "it is over"})
	require.NoError(t, err)
	r.Until("it may begin again", changing)
	p.does(ro.ID, "done")
	r.Ended(ro.ID)
}
