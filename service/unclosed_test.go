package service_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/rig"
)

// A host whose findings healing does not close takes no part in it, so it holds up no other; and of what was not read there
// is a finding until somebody accepts the host.
func TestHealingLeavesOutWhatItDoesNotClose(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	roots := []string{r.Up("gw-01"), r.Up("gw-02")}
	r.Publish()
	require.Zero(t, r.Carry().Counts[rollout.Failed])
	hidden := filepath.Join(roots[0], "etc/apt/preferences.d/own")
	require.NoError(t, os.MkdirAll(filepath.Dir(hidden), 0o755))
	require.NoError(t, os.WriteFile(hidden, []byte(strings.Repeat("# gulls\n", rootfs.MostLines+1)), 0o644))
	edited(t, filepath.Join(roots[1], "etc/apt/sources.list.d/saltmarsh.sources"), "Components: main", "Components: main testing")
	r.Until("both have drifted", func() bool {
		return slices.Contains(r.Findings("gw-01"), "not-read fault /etc/apt/preferences.d/own") && len(r.Findings("gw-02")) > 0
	})

	_, err := r.Operator.HealMany(ctx, api.HealManyOrder{To: []string{"gw-01"}})
	require.ErrorContains(t, err, "healing does not close what was asked for: see on the host what stands there")
	_, err = r.Operator.HealMany(ctx, api.HealManyOrder{Class: []string{drift.NotRead}})
	require.ErrorContains(t, err, "healing does not close what was asked for")
	ro, err := r.Operator.HealMany(ctx, api.HealManyOrder{Because: "edited by hand"})
	require.NoError(t, err)
	ended := r.Ended(ro.ID)
	assert.Equal(t, [2]int{1, 1}, [2]int{ended.All(), ended.Counts[rollout.Done]})

	_, err = r.Operator.Accept(ctx, "gw-01", api.AcceptOrder{Because: "looked at it"})
	require.NoError(t, err)
	r.Until("it is accepted", func() bool { return !slices.Contains(r.Findings("gw-01"), "not-read fault /etc/apt/preferences.d/own") })
	_, err = r.Operator.HealMany(ctx, api.HealManyOrder{})
	require.ErrorContains(t, err, "no host that was asked for has such a finding")
}

// What healing does not close is not tried by itself, and is called no fight.
func TestNothingIsHealedByItselfThatHealingDoesNotClose(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	files := r.Policy()
	files["hosts.yaml"] = []byte(strings.Replace(string(files["hosts.yaml"]), "    unlisted: report\n",
		"    unlisted: report\n    findings: { not-read: heal, changed-source: heal }\n", 1))
	publish(t, r, files)
	require.Zero(t, r.Carry().Counts[rollout.Failed])
	hidden := filepath.Join(root, "etc/apt/preferences.d/own")
	require.NoError(t, os.MkdirAll(filepath.Dir(hidden), 0o755))
	require.NoError(t, os.WriteFile(hidden, []byte(strings.Repeat("# gulls\n", rootfs.MostLines+1)), 0o644))
	r.Until("it is found", func() bool { return slices.Contains(r.Findings("gw-01"), "not-read fault /etc/apt/preferences.d/own") })
	source := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
	was := read(t, source)
	edited(t, source, "Components: main", "Components: main testing")
	r.Until("the other is healed by itself", func() bool { return read(t, source) == was })
	r.Until("one finding is left", func() bool { return len(r.Findings("gw-01")) == 1 })
	page, err := r.Operator.Rollouts(ctx, client.List{})
	require.NoError(t, err)
	assert.Equal(t, 2, page.Total, "it was carried once, and healed once")
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.NotContains(t, d.Drift[0].Message, "it was healed")
}
