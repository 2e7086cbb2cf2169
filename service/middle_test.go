package service_test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
)

// pressed is what an operator does about a rollout.
type pressed struct {
	name string
	do   func(c *client.Client, id int64) error
}

// insists tries again as long as it is told that somebody else is at it at this moment, and to try again.
func (p pressed) insists(c *client.Client, id int64) (err error) {
	for range 1000 {
		if err = p.do(c, id); err == nil || !strings.Contains(err.Error(), "at this moment; look at it, and try again") {
			return err
		}
	}
	return err
}

func lever(kind string, order api.LeverOrder) pressed {
	return pressed{kind, func(c *client.Client, id int64) error {
		_, err := c.PullLever(ctx, id, kind, order)
		return err
	}}
}

var levers = []pressed{
	lever(client.LeverHold, api.LeverOrder{Because: "the vendor has an outage"}), lever(client.LeverProceed, api.LeverOrder{Because: "it is mended"}),
	lever(client.LeverBackOut, api.LeverOrder{Because: "the witness lies"}), lever(client.LeverSkip, api.LeverOrder{Host: "gw-02", Because: "is being moved"}),
	{"stop", func(c *client.Client, id int64) error {
		_, err := c.StopRollout(ctx, id)
		return err
	}},
	{"begin", func(c *client.Client, _ int64) error {
		_, err := c.BeginRollout(ctx, api.RolloutOrder{})
		return err
	}},
}

// Two operators press at once: what comes of it is what would have come of one after the other, and whoever came too late is told.
func TestTwoWhoPressAtOnce(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	gateways(t, r, 3)
	publish(t, r, withPlan(t, r, builtIn))
	other := secondOperator(t, r)
	drawn := cell.Share(4)
	for _, held := range []bool{false, true} {
		for i, a := range levers {
			for _, b := range levers[i:] {
				if !drawn() {
					continue
				}
				name := fmt.Sprintf("%s and %s, held: %v", a.name, b.name, held)
				first := pressing(t, r, held, func(id int64) [2]error { return [2]error{a.do(r.Operator, id), b.do(other, id)} })
				turned := pressing(t, r, held, func(id int64) [2]error {
					second := b.do(other, id)
					return [2]error{a.do(r.Operator, id), second}
				})
				for range 3 {
					came := pressing(t, r, held, func(id int64) (out [2]error) {
						var all sync.WaitGroup
						all.Go(func() { out[0] = a.insists(r.Operator, id) })
						all.Go(func() { out[1] = b.insists(other, id) })
						all.Wait()
						return out
					})
					assert.Contains(t, []string{first, turned}, came, name)
				}
			}
		}
	}
}

// secondOperator is somebody else than whoever began.
func secondOperator(t *testing.T, r *rig.Rig) *client.Client {
	t.Helper()
	mira, err := r.Operator.AddOperator(ctx, api.OperatorOrder{Name: "mira", Role: "operator"})
	require.NoError(t, err)
	return client.New(r.Server.URL, mira.Token)
}

// pressing begins a rollout, holds it where that is asked for, has somebody press, and says what came of it. All is stopped then.
func pressing(t *testing.T, r *rig.Rig, held bool, press func(id int64) [2]error) string {
	t.Helper()
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	if held {
		_, err := r.Operator.PullLever(ctx, ro.ID, client.LeverHold, api.LeverOrder{Because: "a look first"})
		require.NoError(t, err)
	}
	errs := press(ro.ID)
	is := show(t, r, ro.ID)
	page, err := r.Operator.Rollouts(ctx, client.List{PerPage: 1000})
	require.NoError(t, err)
	newer := 0
	for _, x := range page.Rollouts {
		if x.ID > ro.ID {
			newer++
		}
		if x.Ended == nil && x.ID >= ro.ID {
			_, err := r.Operator.StopRollout(ctx, x.ID)
			require.NoError(t, err)
		}
	}
	said := ""
	for _, err := range errs {
		word := "done"
		if err != nil {
			word = "told"
			assert.NotContains(t, err.Error(), "its log says why")
		}
		said += word + ", "
	}
	return said + fmt.Sprintf("stopped %v, held %v, %v, %d newer", is.Stopped != nil, is.Hold != nil, is.Counts, newer)
}

// A host that is retired while it is at work is waited for no longer. How it ended is not known, so it counts as one that does not
// answer; one of its name that comes in afterwards has no part in the rollout.
func TestAHostIsRetiredInTheMiddle(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 4)
	publish(t, r, withPlan(t, r, "    waves:\n      - { hosts: 2 }\n      - { rest: true }\n"))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, all[0].post("/api/agent/reports", api.Report{Rollout: ro.ID, State: "working", Step: api.StepVerify}, nil))
	all[1].does(ro.ID, "done")
	require.NoError(t, r.Operator.Retire(ctx, "gw-01"))
	assert.Equal(t, http.StatusUnauthorized, all[0].post("/api/agent/reports", api.Report{Rollout: ro.ID, State: "done", Step: api.StepProve}, nil))
	again := newPuppet(t, r, all[0].name)
	assert.False(t, again.surveyed("a").Work, "the new one of that name is not meant")
	assert.Contains(t, comesTo(t, r, ro.ID, rollout.Held).Says, "1 of 2 hosts of wave 1 give no sign of life")
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverProceed, api.LeverOrder{Because: "it was broken up"})
	require.NoError(t, err)
	all[2].does(ro.ID, "done")
	all[3].does(ro.ID, "done")
	ended := r.Ended(ro.ID)
	assert.Equal(t, [2]int{3, 1}, [2]int{ended.Counts[rollout.Done], ended.Counts[rollout.Behind]}, "%+v", ended.Counts)
	assert.Zero(t, ended.Counts[rollout.Working]+ended.Counts[rollout.Waiting])
}

// Of two machines with one identity what each says of a rollout is taken once.
func TestAHostIsClonedInTheMiddle(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 3)
	clone := &puppet{t, r, all[0].name, all[0].key}
	publish(t, r, withPlan(t, r, builtIn))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	all[0].does(ro.ID, "done")
	clone.post("/api/agent/reports", api.Report{Rollout: ro.ID, State: "working", Step: api.StepVerify}, nil)
	clone.post("/api/agent/reports", api.Report{Rollout: ro.ID, State: "failed", Step: api.StepRefresh, Message: "the clone"}, nil)
	is := show(t, r, ro.ID)
	assert.Equal(t, 1, is.Counts[rollout.Done], "%+v", is.Counts)
	assert.Zero(t, is.Counts[rollout.Failed]+is.Counts[rollout.Working], "%+v", is.Counts)
	for _, p := range all[1:] {
		p.does(ro.ID, "done")
	}
	assert.Equal(t, 3, r.Ended(ro.ID).Counts[rollout.Done])
}

// The service is ended and started again after every step of a rollout: it comes to what it would have come to.
func TestTheServiceEndsAtEveryStepOfARollout(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 4)
	publish(t, r, withPlan(t, r, "    soak: 1 minute\n    waves:\n      - { hosts: 1 }\n      - { hosts: 1, consent: true }\n      - { rest: true }\n"))
	other := secondOperator(t, r)
	var lives [2][]string
	for life, restarts := range []bool{false, true} {
		step := func(id int64) {
			if restarts {
				r.Restart()
			}
			is := show(t, r, id)
			lives[life] = append(lives[life], fmt.Sprint(is.Phase, is.Wave, is.Counts, is.Hold != nil))
		}
		ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{Because: "a change"})
		require.NoError(t, err)
		step(ro.ID)
		all[0].does(ro.ID, "failed")
		comesTo(t, r, ro.ID, rollout.Held)
		step(ro.ID)
		_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverProceed, api.LeverOrder{})
		require.NoError(t, err)
		step(ro.ID)
		r.Clock.Forward(2 * time.Minute)
		r.Tend()
		comesTo(t, r, ro.ID, rollout.Asking)
		step(ro.ID)
		_, err = other.PullLever(ctx, ro.ID, client.LeverConsent, api.LeverOrder{})
		require.NoError(t, err)
		step(ro.ID)
		all[1].does(ro.ID, "failed")
		comesTo(t, r, ro.ID, rollout.Held)
		step(ro.ID)
		_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverSkip, api.LeverOrder{Host: "gw-03", Because: "is being moved"})
		require.NoError(t, err)
		step(ro.ID)
		_, err = r.Operator.StopRollout(ctx, ro.ID)
		require.NoError(t, err)
		step(ro.ID)
	}
	assert.Equal(t, lives[0], lives[1])
	assert.Len(t, slices.Compact(lives[0]), len(lives[0]), "each step is another one")
}
