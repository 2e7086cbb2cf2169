package service_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/internal/rig"
)

// A host that does not say any more which system it is keeps nobody else waiting: what the policy puts in is none of a release 0, a
// preview names the host, a folder is published with a warning, and a rollout leaves the host out and says why.
func TestAHostThatTellsNothingOfItselfKeepsNobodyWaiting(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	for _, n := range []string{"gw-01", "gw-02"} {
		r.Up(n)
	}
	r.Publish()
	r.Carry()
	require.NoError(t, os.Remove(filepath.Join(r.Dir, "hosts/gw-02/etc/os-release")))
	r.Until("the host says no more which system it is", func() bool {
		d, err := r.Operator.Host(ctx, "gw-02")
		return err == nil && len(d.Drift) == 1 && d.Drift[0].Class == drift.SystemChanged
	})

	files := r.Policy()
	files["more.yaml"] = []byte("format: patient-lantern/1\ngroups:\n  others: { hosts: [gw-01.brinewick.test] }\n")
	checked, err := r.Operator.Check(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	codes := map[string]string{}
	for _, d := range checked.Diagnostics {
		codes[d.Code] = string(d.Severity)
	}
	assert.Equal(t, "warning", codes["host-fact"], "%+v", checked.Diagnostics)
	rev, err := r.Operator.Publish(ctx, api.Publication{Files: files, Message: "another group"})
	require.NoError(t, err)
	assert.EqualValues(t, 2, rev.Number)

	p, err := r.Operator.Preview(ctx, 0)
	require.NoError(t, err)
	require.Len(t, p.Groups, 1)
	assert.Equal(t, []string{"gw-02.brinewick.test"}, p.Groups[0].Hosts)
	require.Len(t, p.Groups[0].Impossible, 1)
	assert.Contains(t, p.Groups[0].Impossible[0], `needs os.id, which the host does not tell`)
	assert.Equal(t, 1, p.Steady)

	ro := r.Carry()
	assert.Equal(t, []int{1, 1, 0}, []int{ro.Counts[rollout.Unchanged], ro.Counts[rollout.Skipped], ro.Counts[rollout.Failed]})
	for _, h := range ro.Hosts {
		if h.Host == "gw-02.brinewick.test" {
			assert.Contains(t, h.Report.Message, "nothing was carried to it: ")
			assert.Contains(t, h.Report.Message, "os.id")
		}
	}

	file := filepath.Join(r.Dir, "hosts/gw-02/etc/apt/sources.list.d/saltmarsh.sources")
	require.NoError(t, os.Remove(file))
	r.Until("the file is missed", func() bool {
		d, err := r.Operator.Host(ctx, "gw-02")
		return err == nil && len(d.Drift) == 2
	})
	_, err = r.Operator.HealMany(ctx, api.HealManyOrder{Class: []string{drift.MissingFile}, Because: "it is missed"})
	require.ErrorContains(t, err, "nothing can be carried to any of the hosts: ")
	assert.NoFileExists(t, file)
}
