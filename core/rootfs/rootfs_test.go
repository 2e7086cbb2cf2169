package rootfs

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func tree(t *testing.T, links map[string]string) *FS {
	t.Helper()
	outer := t.TempDir()
	dir := filepath.Join(outer, "root")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "etc/apt"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "etc/apt/real"), []byte("inside"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(outer, "secret"), []byte("outside"), 0o644))
	for name, target := range links {
		require.NoError(t, os.Symlink(target, filepath.Join(dir, name)))
	}
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return New(root.FS())
}

func TestLinksAreFollowedInsideTheRoot(t *testing.T) {
	r := tree(t, map[string]string{"etc/abs": "/etc/apt/real", "etc/rel": "apt/real", "etc/up": "../../../etc/apt/real", "etc/dir": "/etc/apt", "etc/chain": "abs"})
	for _, name := range []string{"/etc/abs", "/etc/rel", "/etc/up", "/etc/dir/real", "/etc/chain", "/../../etc/apt/real"} {
		b, err := r.ReadFile(name)
		require.NoError(t, err, name)
		assert.Equal(t, "inside", string(b), name)
	}
}

func TestNoLinkLeadsOut(t *testing.T) {
	r := tree(t, map[string]string{"etc/out": "../../secret", "etc/far": "/../secret"})
	for _, name := range []string{"/etc/out", "/etc/far", "/../secret"} {
		_, err := r.ReadFile(name)
		assert.ErrorIs(t, err, fs.ErrNotExist, name)
	}
}

func TestOddFilesAreRefused(t *testing.T) {
	r := tree(t, map[string]string{"etc/a": "b", "etc/b": "a"})
	_, err := r.ReadFile("/etc/a")
	assert.ErrorIs(t, err, ErrLoop)
	_, err = r.ReadFile("/etc/apt")
	assert.ErrorIs(t, err, ErrNotRegular)
}

func TestALargeFileIsRefusedUnread(t *testing.T) {
	r := tree(t, nil)
	resolved, err := r.Resolve("/etc/apt/real")
	require.NoError(t, err)
	assert.Equal(t, "etc/apt/real", resolved)
	_, _, err = r.read("/etc/apt/real", 3)
	var pe *fs.PathError
	require.True(t, errors.As(err, &pe))
	assert.ErrorIs(t, err, ErrLarge)
}
