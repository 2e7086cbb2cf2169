package keyring_test

import (
	"bytes"
	"fmt"
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

// signersIn makes keys, and in a folder a text that each has signed; packets are the certificates.
func signersIn(t *testing.T, home string, at time.Time, names ...string) (signers []*standin.Key, packets [][]byte) {
	for i, name := range names {
		k, err := standin.NewKey("ring-"+name, "Saltmarsh "+name+" <packages@saltmarsh.example>", at, 0)
		require.NoError(t, err)
		b, err := k.Binary()
		require.NoError(t, err)
		text, err := k.ClearSign([]byte("Suite: mussel\n"), at.AddDate(0, 1, 0))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(home, fmt.Sprint(i)), text, 0o644))
		signers, packets = append(signers, k), append(packets, b)
	}
	return signers, packets
}

// believes asks gpgv whether it believes by a keyring what one of them has signed. apt goes by what it says of the
// signature, and not by its exit status, which tells of whatever else it saw in the keyring.
func believes(home, ring string, signer int) (good bool, said []byte) {
	cmd := exec.Command("gpgv", "--homedir", home, "--status-fd", "1", "--keyring", ring, filepath.Join(home, fmt.Sprint(signer)))
	said, _ = cmd.Output()
	return bytes.Contains(said, []byte("[GNUPG:] GOODSIG ")), said
}

// What stands behind a certificate in a keyring, packets of every kind, whole and cut off, keeps gpgv from believing it
// where we say so, and hides those behind it.
func TestWhatStandsBehindACertificateKeepsGpgvFromBelievingIt(t *testing.T) {
	home, at := t.TempDir(), time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	signers, packets := signersIn(t, home, at, "first", "second")
	_, others := signersIn(t, t.TempDir(), at, "third")
	public, sig, third := string(packets[0][2:53]), string(packets[0][104:293]), string(others[0][2:53])
	ring, asked := filepath.Join(home, "ring.gpg"), cell.Share(6)
	for tag := range 64 {
		bodies := []string{"", "abc", "\x80bcdefghijklmnopqrstuvwxyz", "\x04bcdefghijklmnopqrstuvwxyz", "PGP"}
		if tag == 2 || tag == 6 || tag == 14 {
			for _, body := range []string{public, sig} {
				bodies = append(bodies, body[:5], body[:12], body[:40], body[:len(body)-1], body)
			}
		}
		if tag == 5 || tag == 7 {
			for _, end := range keyforms.PrivateEnds() {
				for _, cut := range []int{0, 10} {
					bodies = append(bodies, third+end[:max(0, len(end)-cut)])
				}
			}
		}
		for n, body := range bodies {
			for _, said := range []int{len(body), max(100, len(body)+1)} {
				for _, old := range []bool{false, true} {
					head := []byte{0xc0 | byte(tag), byte(said)}
					if old && tag > 15 || said > 191 || !asked() {
						continue
					}
					if old {
						head = []byte{0x80 | byte(tag)<<2, byte(said)}
					}
					data := slices.Concat(packets[0], head, []byte(body))
					switch {
					case (tag+n)%2 == 0 && said == len(body):
						data = append(data, packets[1]...)
					case (tag+n)%4 == 1 && said == len(body):
						data = slices.Concat(head, []byte(body), packets[0])
					}
					require.NoError(t, os.WriteFile(ring, data, 0o644))
					r := keyring.ReadRings([][]byte{data}, keyring.At{Now: at.AddDate(0, 2, 0)})[0]
					for i, k := range signers {
						theirs, _ := believes(home, ring, i)
						ours := slices.ContainsFunc(r.Keys, func(key keyring.Placed) bool { return key.Used && key.Fingerprint == k.Fingerprint() })
						assert.Equal(t, theirs, ours, "key %d: tag %d, says %d, %q, old %v, gpgv %v, followed %v", i, tag, said, body, old, theirs, len(data) > len(packets[0])+len(head)+len(body))
					}
				}
			}
		}
	}
}
