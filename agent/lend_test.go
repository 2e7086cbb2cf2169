package agent

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the host has fetched is lent to a look on the side, by links and not by copies; nothing
// of another kind is, and nothing from outside the root.
func TestFetchedListsAreLent(t *testing.T) {
	root := t.TempDir()
	lists := filepath.Join(root, "var/lib/apt/lists")
	require.NoError(t, os.MkdirAll(filepath.Join(lists, "partial"), 0o755))
	for _, name := range []string{"h_dists_s_InRelease", "h_dists_s_main_binary-amd64_Packages", "lock"} {
		require.NoError(t, os.WriteFile(filepath.Join(lists, name), []byte(name), 0o644))
	}
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(lists, "elsewhere")))
	h, err := OpenHost(root)
	require.NoError(t, err)
	defer func() { require.NoError(t, h.Close()) }()
	scratch := h.statePath("aside")
	require.NoError(t, os.MkdirAll(filepath.Join(scratch, "partial"), 0o755))
	h.lend(scratch)
	entries, err := os.ReadDir(scratch)
	require.NoError(t, err)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	assert.Equal(t, []string{"h_dists_s_InRelease", "h_dists_s_main_binary-amd64_Packages", "partial"}, names)
	own, err := os.Stat(filepath.Join(lists, names[0]))
	require.NoError(t, err)
	lent, err := os.Stat(filepath.Join(scratch, names[0]))
	require.NoError(t, err)
	assert.True(t, os.SameFile(own, lent))

	// A folder that leads out of the root lends nothing, and one that is not there is no trouble.
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "x_InRelease"), nil, 0o644))
	for _, make := range []func() error{
		func() error { return os.RemoveAll(lists) },
		func() error { return os.Symlink(outside, lists) },
	} {
		require.NoError(t, make())
		next := h.statePath("watch")
		require.NoError(t, os.MkdirAll(next, 0o755))
		h.lend(next)
		entries, err := os.ReadDir(next)
		require.NoError(t, err)
		assert.Empty(t, entries)
	}
}
