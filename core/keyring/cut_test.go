package keyring_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/keyforms"
)

// A packet behind a certificate that the end of the text cuts off, wherever it does, keeps gpgv from believing that, and
// gpg from importing it, where we say so.
func TestWhatTheEndOfTheTextCutsOffIsReadAsGpgReadsIt(t *testing.T) {
	home, at := t.TempDir(), time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	signers, packets := signersIn(t, home, at, "first")
	_, others := signersIn(t, t.TempDir(), at, "third")
	third, ring := string(others[0][2:53]), filepath.Join(home, "ring.gpg")
	used := func(keys []keyring.Placed) bool {
		return slices.ContainsFunc(keys, func(k keyring.Placed) bool { return k.Used && k.Fingerprint == signers[0].Fingerprint() })
	}
	ask := func(what string, tag byte, full string, step int) {
		for n := 0; n <= len(full); n++ {
			if n > 7 && n < len(full)-1 && n%step != 0 {
				continue
			}
			data := slices.Concat(packets[0], []byte{0xc0 | tag, byte(len(full) + 1)}, []byte(full[:n]))
			require.NoError(t, os.WriteFile(ring, data, 0o644))
			theirs, _ := believes(home, ring, 0)
			assert.Equal(t, theirs, used(keyring.ReadRings([][]byte{data}, keyring.At{Now: at.AddDate(0, 2, 0)})[0].Keys), "gpgv: %s, %d of %q", what, n, full)
			if n%(3*step) != 0 || keyforms.Lenient() {
				continue
			}
			got := keyring.ReadAll([][]byte{data}, keyring.At{Now: at.AddDate(0, 1, 0), Imports: true})[0].Keys
			ours := slices.ContainsFunc(got, func(k source.Key) bool { return k.Used && k.Fingerprint == signers[0].Fingerprint() })
			assert.Equal(t, imports(t, home, data, signers[0].Fingerprint()), ours, "gpg imports: %s, %d of %q", what, n, full)
		}
	}
	for i, end := range keyforms.PrivateEnds() {
		ask(fmt.Sprint("private ", i), 5+byte(i%2)*2, third+end, 19)
	}
	ask("public", 6, third, 5)
	ask("subkey", 14, third, 5)
	ask("signature", 2, string(packets[0][104:293-4]), 5)
	for _, tag := range []byte{1, 3, 4, 8, 9, 10, 11, 12, 13, 15, 17, 18, 19, 20, 21, 60, 61, 63} {
		version := "\x04"
		if tag == 1 || tag == 4 {
			version = "\x03"
		}
		ask(fmt.Sprintf("tag %d", tag), tag, version+"\x00\x00\x00abcdefghijklmnopqrstuvw", 9)
	}
}
