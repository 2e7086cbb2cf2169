package service_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// Who may change a file is put back as well, in the policy's files and in the distribution's own, and one that belongs to
// somebody else keeps no change from its host.
func TestAFileOfAnotherUserIsRootsAgain(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	const ours, theirs = "etc/apt/sources.list.d/saltmarsh.sources", "etc/apt/sources.list"
	root := r.Up("gw-01")
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	owner := func(name string) int {
		info, err := os.Stat(filepath.Join(root, name))
		require.NoError(t, err)
		return int(info.Sys().(*syscall.Stat_t).Uid)
	}
	was := owner(theirs)
	for _, name := range []string{ours, theirs} {
		require.NoError(t, os.Chown(filepath.Join(root, name), 1000, -1), "this test gives a file to a user and needs root, as .ci/run has")
	}
	found(t, r, "gw-01", "changed-mode danger /"+theirs, "changed-mode danger /"+ours)
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.Contains(t, d.Diff, "--- /"+ours+"\tuser 1000\n+++ /"+ours+"\tuser root\n")
	assert.Contains(t, d.Diff, "--- /"+theirs+"\tuser 1000\n+++ /"+theirs+"\tuser root\n")
	for i := range d.Drift {
		assert.Empty(t, d.Drift[i].Closes)
	}

	// Another change of the host comes to its end, and takes the policy's file along.
	again := r.Carry()
	assert.Zero(t, again.Counts["failed"], "%+v", again.Hosts)
	assert.Equal(t, was, owner(ours))
	found(t, r, "gw-01", "changed-mode danger /"+theirs)

	heal, err := r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	require.Equal(t, 1, r.Ended(heal.ID).Counts["done"])
	assert.Equal(t, was, owner(theirs))
	found(t, r, "gw-01")
	d, err = r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.Equal(t, api.StateSteady, d.State)
}
