package keyring_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/keyforms"
	"patientlantern.example/lantern/standin"
)

// What stands behind a certificate, packets of every kind, whole and cut off, keeps gpg from importing it where we say so.
func TestWhatStandsBehindACertificateKeepsGpgFromImportingIt(t *testing.T) {
	at := time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	k, err := standin.NewKey("behind", "Saltmarsh Packages <packages@saltmarsh.example>", at, 0)
	require.NoError(t, err)
	good, err := k.Binary()
	require.NoError(t, err)
	k2, err := standin.NewKey("other", "Gannet Packages <packages@gannet.example>", at, 0)
	require.NoError(t, err)
	other, err := k2.Binary()
	require.NoError(t, err)
	home := t.TempDir()
	_, others := signersIn(t, home, at, "third")
	third := string(others[0][2:53])
	public, sig := string(good[2:53]), string(good[104:293])
	asked := cell.Share(6)
	for tag := range 64 {
		bodies := []string{"abc", "\x80bcdefghijklmnopqrstuvwxyz", "\x04bcdefghijklmnopqrstuvwxyz", "\x01bcdefghijklmnopqrstuvwxyz", "PGP"}
		if tag == 2 || tag == 6 || tag == 14 {
			for _, body := range []string{public, sig} {
				for _, n := range []int{0, 1, 5, 6, 7, 11, 12, 13, 20, 30, 40, 48, len(body) - 1, len(body)} {
					bodies = append(bodies, body[:n])
				}
			}
		}
		if tag == 5 || tag == 7 {
			for i, end := range keyforms.PrivateEnds() {
				if (i+tag/2)%2 == 0 {
					bodies = append(bodies, third+end)
				}
			}
		}
		for _, body := range bodies {
			for _, said := range []int{len(body), max(100, len(body)+1)} {
				for _, old := range []bool{false, true} {
					head := []byte{0xc0 | byte(tag), byte(said)}
					if old && tag > 15 || said > 191 {
						continue
					}
					if old {
						head = []byte{0x80 | byte(tag)<<2, byte(said)}
					}
					for where, file := range map[string][]byte{
						"behind": slices.Concat(good, head, []byte(body)), "in front": slices.Concat(head, []byte(body), good),
						"between": slices.Concat(good, head, []byte(body), other),
					} {
						if where != "behind" && (tag+len(body))%3 != 0 || !asked() {
							continue // gpg takes its time
						}
						theirs, ours := imports(t, home, file, k.Fingerprint()), false
						for _, key := range keyring.ReadAll([][]byte{file}, keyring.At{Now: at.AddDate(0, 1, 0), Imports: true})[0].Keys {
							ours = ours || key.Used && key.Fingerprint == k.Fingerprint()
						}
						if keyforms.Lenient() && (tag == 5 || tag == 6) && ours {
							continue // at a key of a version that it does not know, gpg 2.3 and later give up
						}
						assert.Equal(t, theirs, ours, "%s: tag %d, says %d, %q, old %v", where, tag, said, body, old)
					}
				}
			}
		}
	}
}

// imports reports whether gpg imports a certificate of a file.
func imports(t *testing.T, home string, file []byte, fingerprint string) bool {
	require.NoError(t, os.RemoveAll(filepath.Join(home, "pubring.kbx")))
	cmd := exec.Command("gpg", "--homedir", home, "--batch", "--no-autostart", "--import-options", "import-show", "--status-fd", "1", "--import")
	cmd.Stdin = bytes.NewReader(file)
	out, _ := cmd.Output() // its status is another question
	return bytes.Contains(out, []byte("[GNUPG:] IMPORT_OK 1 "+fingerprint))
}
