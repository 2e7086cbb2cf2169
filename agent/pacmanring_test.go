package agent

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/standin"
)

// ringed is a host of pacman, with a keyring or without one, on which a change that has not ended trusts a key.
func ringed(t *testing.T, key *standin.Key, stood bool) *Host {
	t.Helper()
	root := t.TempDir()
	file := arch.Dir + "/keys/fulmar.asc"
	require.NoError(t, cell.Write(root, map[string]string{
		"/etc/os-release": "ID=driftwood\nID_LIKE=arch\n", "/etc/pacman.conf": "[options]\n", file: armored(t, key),
	}))
	if stood {
		require.NoError(t, os.MkdirAll(filepath.Join(root, ringDir), 0o755))
		pacmanKey(t, root, "--init")
	}
	h, err := OpenHost(root)
	require.NoError(t, err)
	_, err = h.openJournal(1, nil)
	require.NoError(t, err)
	sheet := &source.Sheet{Keys: []source.SheetKey{{Name: "fulmar", Path: file, Fingerprint: key.Fingerprint()}}}
	now := h.Survey()
	require.NoError(t, pacman{h}.trust(context.Background(), sheet, &now))
	require.Equal(t, 2, keysInRing(h), "the host's own key, and the one of the policy")
	return h
}

func newKey(t *testing.T, user string) *standin.Key {
	t.Helper()
	key, err := standin.NewKey(user, user, time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC), 0)
	require.NoError(t, err)
	return key
}

func armored(t *testing.T, key *standin.Key) string {
	t.Helper()
	text, err := key.Public()
	require.NoError(t, err)
	return text
}

func pacmanKey(t *testing.T, root string, args ...string) {
	t.Helper()
	out, err := exec.Command("pacman-key", append([]string{"--gpgdir", filepath.Join(root, ringDir)}, args...)...).CombinedOutput()
	require.NoError(t, err, string(out))
}

func keysInRing(h *Host) (n int) {
	for _, k := range h.Survey().Survey.Keys {
		if inRing(&k) {
			n++
		}
	}
	return n
}

// A keyring that a change has made goes with the change. What somebody has put into it keeps it, and one that stood there before stays.
func TestAKeyringThatAChangeHasMadeGoesWithIt(t *testing.T) {
	t.Parallel()
	key := newKey(t, "Fulmar Packages <packages@fulmar.example>")
	made, stood := ringed(t, key, false), ringed(t, key, true)
	for _, h := range []*Host{made, stood} {
		require.NoError(t, h.Close())
	}
	for _, c := range []struct {
		name  string
		root  string
		since func(t *testing.T, root string)
		left  int // keys
	}{
		{"nobody has touched it", made.Root, func(*testing.T, string) {}, 0},
		{"it stood there before", stood.Root, func(*testing.T, string) {}, 1},
		{"somebody believes another key", made.Root, func(t *testing.T, root string) {
			file := filepath.Join(root, "petrel.asc")
			require.NoError(t, os.WriteFile(file, []byte(armored(t, newKey(t, "Petrel Metrics <packages@petrel.example>"))), 0o644))
			pacmanKey(t, root, "--add", file)
		}, 2},
		{"somebody has configured it", made.Root, func(t *testing.T, root string) {
			f, err := os.OpenFile(filepath.Join(root, ringDir, "gpg.conf"), os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteString("no-auto-check-trustdb\n")
			require.NoError(t, err)
			require.NoError(t, f.Close())
		}, 1},
		{"something else stands in it", made.Root, func(t *testing.T, root string) {
			require.NoError(t, os.WriteFile(filepath.Join(root, ringDir, "notes.txt"), []byte("ours\n"), 0o644))
		}, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			short, err := os.MkdirTemp("", "ring") // gpg's agent listens below it, where no long path has room
			require.NoError(t, err)
			defer os.RemoveAll(short)
			root := filepath.Join(short, "root")
			out, err := exec.Command("cp", "-a", c.root, root).CombinedOutput()
			require.NoError(t, err, string(out))
			c.since(t, root)
			h, err := OpenHost(root)
			require.NoError(t, err)
			defer h.Close()
			undone, err := h.Recover()
			require.NoError(t, err)
			require.True(t, undone)
			assert.Equal(t, c.left, keysInRing(h))
			if c.left == 0 {
				assert.NoDirExists(t, filepath.Join(root, ringDir))
			}
		})
	}
}
