package agent

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestALockIsWaitedForAndItsHolderNamed(t *testing.T) {
	root := t.TempDir()
	h, err := OpenHost(root)
	require.NoError(t, err)
	defer h.Close()
	failed := errors.New("exit status 1")
	run := func(locked int, says string) (string, error) {
		n := 0
		return h.patiently(context.Background(), func() (string, error) {
			if n++; n <= locked {
				return says, failed
			}
			return fmt.Sprintf("ran after %d", n), nil
		})
	}
	const busy = "error: failed to init transaction (unable to lock database)\n"
	text, err := run(3, busy)
	require.NoError(t, err)
	assert.Equal(t, "ran after 4", text, "it ends meanwhile")

	text, err = run(1, "error: failed retrieving file 'x.db' : 404\n")
	require.ErrorIs(t, err, failed)
	assert.NotContains(t, text, "ran", "what is no lock is not waited for")

	require.NoError(t, os.MkdirAll(filepath.Join(root, "run"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "run/zypp.pid"), []byte(fmt.Sprint(os.Getpid())), 0o644))
	text, err = run(1000, "System management is locked by the application with pid 12 (zypper).\n")
	require.ErrorIs(t, err, failed)
	assert.Contains(t, text, fmt.Sprintf("process %d)", os.Getpid()))

	require.NoError(t, os.Remove(filepath.Join(root, "run/zypp.pid")))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/pacman"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/pacman/db.lck"), nil, 0o644))
	text, err = run(1000, busy)
	require.ErrorIs(t, err, failed)
	assert.Contains(t, text, "where nobody is at work any more, remove it")
}
