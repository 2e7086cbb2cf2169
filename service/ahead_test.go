package service_test

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// looking has the service look by itself where it has to, and seldom else.
func looking(o *datafolder.Options) { o.Probe = 24 * time.Hour }

// vendors are all whose metadata can be spoilt.
var vendors = []string{
	"metrics.plover.example", "packages.saltmarsh.example", "apps.curlew.example", "north.fulmar.example", "south.fulmar.example",
	"apt.gannet.example",
}

func spoil(t *testing.T, r *rig.Rig, fault string) {
	t.Helper()
	for _, v := range vendors {
		require.NoError(t, r.Upstreams.SetFault(v, fault))
	}
}

// refusedOf are the keys of the places that the waves of a rollout would bring and that are refused.
func refusedOf(ro *api.Rollout) map[string]bool {
	out := map[string]bool{}
	for _, p := range ro.Parts {
		for _, x := range p.Refused {
			out[x.Key] = true
		}
	}
	return out
}

// What is refused upstream is met by nobody: a rollout holds before its first host, says why, and goes on
// once it is mended. The places that it named are those that hosts have afterwards.
func TestNobodyBeginsWhereUpstreamIsRefused(t *testing.T) {
	t.Parallel()
	r := rig.New(t, looking)
	r.Accounts()
	roots := map[string]string{}
	for _, n := range []string{"desk-1", "arc-2", "chart-2", "model-2", "desk-3"} {
		roots[n] = r.Up(n)
	}
	_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": "model"})
	require.NoError(t, err)
	r.Publish()
	spoil(t, r, standin.FaultWrongKey)
	before := map[string][]string{}
	for n, root := range roots {
		before[n] = listing(t, root)
	}
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	ro = comesTo(t, r, ro.ID, rollout.Held)
	require.NotNil(t, ro.Hold)
	assert.Equal(t, []any{rollout.GateRefused, 0}, []any{ro.Hold.Gate, ro.Wave}, ro.Says)
	assert.Contains(t, ro.Says, "held before wave 1")
	assert.Contains(t, ro.Says, "signed by a key")
	assert.Zero(t, ro.Counts[rollout.Failed]+ro.Counts[rollout.Done])
	for n, root := range roots {
		assert.Equal(t, before[n], listing(t, root), n)
	}
	named := refusedOf(&ro)
	require.NotEmpty(t, named)
	checked, err := r.Operator.Check(ctx, api.Publication{Files: r.Policy()})
	require.NoError(t, err)
	says := 0
	for _, d := range checked.Diagnostics {
		if d.Code == "upstream-refused" {
			says++
			assert.NotZero(t, d.Line, d.Message)
		}
	}
	assert.Equal(t, len(named), says, "checking the folder says the same")
	assert.GreaterOrEqual(t, checked.Looked.Places, says)

	r.Restart() // what it brings is known after a start as well
	spoil(t, r, "")
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverProceed, api.LeverOrder{})
	require.NoError(t, err)
	ro = r.Ended(ro.ID)
	assert.Zero(t, ro.Counts[rollout.Failed], ro.Causes)
	have := map[string]bool{}
	for _, p := range places(t, r, client.List{}).Repositories {
		have[p.Key] = len(p.Names) > 0
	}
	for key := range named {
		assert.True(t, have[key], "%s was looked at, and no host has it", key)
	}
	families := map[string]bool{}
	for _, p := range places(t, r, client.List{}).Repositories {
		if named[p.Key] {
			families[p.Family] = true
		}
	}
	assert.Len(t, slices.Collect(maps.Keys(families)), 5, "of every family")
}

// listing is what stands in a root, with the times of files.
func listing(t *testing.T, root string) (out []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(filepath.Join(root, "etc"), func(name string, e os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err == nil && !e.IsDir() {
			out = append(out, name+" "+info.ModTime().String())
		}
		return err
	}))
	return out
}

// A place that a host uses unsigned and that a change wants signed is one place: whoever has it
// looked at, and when, it is told the same.
func TestALookIsJudgedByAllWhoAsk(t *testing.T) {
	t.Parallel()
	r := rig.New(t, looking)
	r.Up("desk-1") // somebody gave it Plover's list, without a check
	require.NoError(t, r.Upstreams.SetFault("metrics.plover.example", standin.FaultWrongKey))
	told := func() (state string) {
		_, err := r.Operator.Probe(ctx, nil)
		require.NoError(t, err)
		for _, p := range places(t, r, client.List{}).Repositories {
			if strings.Contains(p.Address, "metrics.plover.example/apt") {
				require.Empty(t, state, "it is one place")
				state = p.Look.State
			}
		}
		return state
	}
	assert.Equal(t, api.PlaceUnsigned, told(), "the host wants no signature")
	r.Publish()
	for range 3 {
		_, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{Try: true})
		require.NoError(t, err)
		assert.Equal(t, api.PlaceTrouble, told(), "the policy wants one")
		ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{Try: true})
		require.NoError(t, err)
		assert.Len(t, refusedOf(&ro), 1, "and nobody would begin")
	}
}

// A place that was looked at for hosts which want no signature is looked at anew for a plan whose hosts
// want one: what it brings is known then, and not left unknown until the next look comes of itself.
func TestAPlanHasThePlaceLookedAtAsItWantsIt(t *testing.T) {
	t.Parallel()
	r := rig.New(t, looking)
	r.Up("desk-1")
	_, err := r.Operator.Probe(ctx, nil)
	require.NoError(t, err)
	r.Publish()
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{Try: true})
	require.NoError(t, err)
	unseen := 0
	for _, p := range ro.Parts {
		unseen += p.Unseen
	}
	assert.Zero(t, unseen)
	assert.Empty(t, refusedOf(&ro))
}
