package service_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/internal/rig"
)

// Many hosts are labelled together; what comes of it is said before, and is what comes.
func TestManyHostsAreLabelledTogether(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	for _, n := range []string{"gw-01", "gw-02", "model-2"} {
		r.Up(n)
	}
	newPuppet(t, r, "gw-07.brinewick.test") // has sent no survey
	r.Publish()
	for _, x := range []struct {
		name  string
		order api.LabelOrder
		says  string
	}{
		{"nobody", api.LabelOrder{Set: map[string]string{"site": "reef"}}, "say which hosts are meant"},
		{"nothing", api.LabelOrder{To: []string{"gw-01"}}, "say which labels they get or lose"},
		{"no label", api.LabelOrder{To: []string{"gw-01"}, Set: map[string]string{"a-b": "x"}}, `the label "a-b" cannot be taken`},
		{"no host", api.LabelOrder{To: []string{"gw-09"}, Set: map[string]string{"site": "reef"}}, `"gw-09" is neither a host nor a group`},
	} {
		t.Run(x.name, func(t *testing.T) {
			_, err := r.Operator.LabelHosts(ctx, x.order)
			assert.ErrorContains(t, err, x.says)
		})
	}
	order := api.LabelOrder{To: []string{"gw-{01..02}", "gw-07", "model-2"}, Set: map[string]string{"site": "reef", "duty": "model"}, Try: true}
	tried, err := r.Operator.LabelHosts(ctx, order)
	require.NoError(t, err)
	assert.EqualValues(t, 1, tried.Revision)
	assert.Equal(t, 4, tried.Relabelled)
	assert.Equal(t, 1, tried.Unknown, "what comes of it is not known of a host without a survey")
	assert.Contains(t, tried.Moves, api.GroupMove{Group: "reef", Come: 3})
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.NotEqual(t, "reef", d.Labels["site"], "it was only tried")

	was := map[string][]string{}
	for _, n := range []string{"gw-01", "gw-02", "model-2"} {
		d, err := r.Operator.Host(ctx, n)
		require.NoError(t, err)
		was[n] = d.Groups
	}
	order.Try = false
	done, err := r.Operator.LabelHosts(ctx, order)
	require.NoError(t, err)
	assert.Equal(t, tried, done)
	come := map[string]int{}
	for n, groups := range was {
		d, err := r.Operator.Host(ctx, n)
		require.NoError(t, err)
		assert.Equal(t, "reef", d.Labels["site"])
		for _, g := range d.Groups {
			come[g]++
		}
		for _, g := range groups {
			come[g]--
		}
	}
	for _, m := range tried.Moves {
		assert.Equal(t, m.Come-m.Leave, come[m.Group], m.Group)
	}
	again, err := r.Operator.LabelHosts(ctx, order)
	require.NoError(t, err)
	assert.Equal(t, 4, again.Kept)
	assert.Zero(t, again.Relabelled)
	order = api.LabelOrder{Where: `label.site == "reef"`, Unset: []string{"site"}}
	gone, err := r.Operator.LabelHosts(ctx, order)
	require.NoError(t, err)
	assert.Equal(t, 3, gone.Relabelled, "of the one without a survey it is not known whether it is meant")
	assert.Equal(t, 1, gone.Unknown)
}

// One finding is healed wherever it is, and hosts with another of its class are left alone.
func TestOneFindingIsHealedWhereverItIs(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	roots := map[string]string{}
	for _, n := range []string{"gw-01", "gw-02", "gw-05"} {
		roots[n] = r.Up(n)
	}
	publish(t, r, withPlan(t, r, builtIn))
	require.Zero(t, r.Carry().Counts["failed"])
	for n, line := range map[string]string{"gw-01": "testing", "gw-02": "testing", "gw-05": "other"} {
		edited(t, filepath.Join(roots[n], "etc/apt/sources.list.d/saltmarsh.sources"), "Components: main", "Components: main "+line)
	}
	seen := map[string]drift.Finding{}
	r.Until("all have drifted", func() bool {
		for n := range roots {
			d, err := r.Operator.Host(ctx, n)
			if err != nil || len(d.Drift) != 1 {
				return false
			}
			seen[n] = d.Drift[0].Finding
		}
		return true
	})
	require.Equal(t, seen["gw-01"].Key(), seen["gw-02"].Key())
	require.NotEqual(t, seen["gw-01"].Key(), seen["gw-05"].Key())
	require.Equal(t, seen["gw-01"].Class, seen["gw-05"].Class)
	finding := api.Difference(seen["gw-01"])
	tried, err := r.Operator.HealMany(ctx, api.HealManyOrder{Finding: &finding, Try: true})
	require.NoError(t, err)
	assert.Equal(t, 2, tried.All())
	assert.Zero(t, tried.Untouched)
	ro, err := r.Operator.HealMany(ctx, api.HealManyOrder{Finding: &finding, Because: "put there by hand"})
	require.NoError(t, err)
	ended := r.Ended(ro.ID)
	assert.Equal(t, 2, ended.All())
	_, err = r.Operator.HealMany(ctx, api.HealManyOrder{Finding: &finding, Try: true})
	assert.ErrorContains(t, err, "no host that was asked for has such a finding")
	assert.Equal(t, api.StateDrifted, state(t, r, "gw-05"))

	// What the policy says nothing of is not healed, and that is said before; so is what changes no file.
	found := func(host, class string) {
		r.Until(class, func() bool {
			d, err := r.Operator.Host(ctx, host)
			if err != nil || len(d.Drift) != 1 {
				return false
			}
			finding = api.Difference(d.Drift[0].Finding)
			return finding.Class == class
		})
	}
	put(t, roots["gw-02"], "etc/apt/sources.list.d/own.list", "nonsense\n")
	found("gw-02", drift.Refused)
	tried, err = r.Operator.HealMany(ctx, api.HealManyOrder{Finding: &finding, Try: true})
	require.NoError(t, err)
	assert.Equal(t, 1, tried.Untouched)
	put(t, roots["gw-01"], "etc/apt/sources.list.d/own.list", "deb http://own.example/apt stable main\n")
	found("gw-01", drift.UnlistedSource)
	_, err = r.Operator.HealMany(ctx, api.HealManyOrder{Finding: &finding, Try: true})
	assert.ErrorContains(t, err, "healing does not close what was asked for: take it into the policy")
}
