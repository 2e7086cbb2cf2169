package keyring_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

// Whose signature gpgv believes by a keybox of which single bytes were changed is among those whose keys we say are used.
// Where it gives a blob up for how its tables are laid out we may say so of more: gpg 2.4 does not look at all of them.
func TestSpoiltKeyboxesAreReadAsGpgvReadsThem(t *testing.T) {
	home, at := t.TempDir(), time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	signers, packets := signersIn(t, home, at, "one", "two", "three")
	cmd := exec.Command("gpg", "--homedir", home, "--batch", "--quiet", "--no-autostart", "--import")
	cmd.Stdin = bytes.NewReader(slices.Concat(packets...))
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, string(said))
	whole, err := os.ReadFile(filepath.Join(home, "pubring.kbx"))
	require.NoError(t, err)
	box := filepath.Join(home, "spoilt.kbx")
	rapid.Check(t, func(rt *rapid.T) {
		data := slices.Clone(whole)
		for range rapid.IntRange(0, 2).Draw(rt, "slips") {
			at := rapid.IntRange(32, len(data)-1).Draw(rt, "at")
			b := rapid.SampledFrom([]byte("\x00\x01\x02\x04\x20\x7f\x80\x88\x98\xb0\xb4\xc6\xcd\xff")).Draw(rt, "byte")
			switch rapid.IntRange(0, 3).Draw(rt, "how") {
			case 0:
				data = slices.Insert(data, at, b)
			case 1:
				data = slices.Delete(data, at, at+1)
			case 2:
				data = data[:at]
			default:
				data[at] = b
			}
			if len(data) <= 33 {
				break
			}
		}
		require.NoError(rt, os.WriteFile(box, data, 0o644))
		keys := keyring.ReadAll([][]byte{data}, keyring.At{Now: at.AddDate(0, 2, 0)})[0]
		for i, k := range signers {
			theirs, words := believes(home, box, i)
			ours := slices.ContainsFunc(keys.Keys, func(key source.Key) bool { return key.Used && key.Fingerprint == k.Fingerprint() })
			require.True(rt, ours || !theirs, "key %d, %v: %v\n%s%q", i, keys.Keys, keys.Err, words, data)
		}
	})
}
