package survey_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/standin"
)

// ringForms are what may stand where gpg looks for keys, made of a key and of its keybox.
var ringForms = []string{"nothing", "an empty file", "no keyring", "keys", "a keybox", "a keybox of another kind", "a keybox, cut", "the head of a keybox"}

func ringOf(form string, bin, box []byte) []byte {
	switch form {
	case "keys":
		return bin
	case "a keybox":
		return box
	case "a keybox of another kind":
		other := slices.Clone(box)
		other[7] = 0
		return other
	case "a keybox, cut":
		return box[:len(box)/2]
	case "the head of a keybox":
		return box[:32]
	case "no keyring":
		return []byte("no keyring\n")
	}
	return nil
}

// Of two keyrings in pacman's folder we call used what stands in the one that gpg reads.
func TestPacmansKeyringIsTheOneThatGPGReads(t *testing.T) {
	var bins, boxes [2][]byte
	for i, name := range []string{"tern", "gull"} {
		k, err := standin.NewKey(name, name+" <"+name+"@saltmarsh.example>", time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC), 0)
		require.NoError(t, err)
		bins[i], err = k.Binary()
		require.NoError(t, err)
		home := t.TempDir()
		cmd := exec.Command("gpg", "--batch", "--no-autostart", "--homedir", home, "--import")
		cmd.Stdin = strings.NewReader(string(bins[i]))
		require.NoError(t, cmd.Run())
		boxes[i], err = os.ReadFile(filepath.Join(home, "pubring.kbx"))
		require.NoError(t, err)
	}
	asked := cell.Share(3)
	for _, box := range ringForms {
		for _, ring := range ringForms {
			if !asked() {
				continue
			}
			root := t.TempDir()
			home := filepath.Join(root, "etc/pacman.d/gnupg")
			require.NoError(t, os.MkdirAll(home, 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(root, "etc/pacman.conf"),
				[]byte("[options]\nSigLevel = Required TrustAll\n[core]\nServer = http://h.example/\n"), 0o644))
			for name, text := range map[string][]byte{"pubring.kbx": ringOf(box, bins[0], boxes[0]), "pubring.gpg": ringOf(ring, bins[1], boxes[1])} {
				if name == "pubring.kbx" && box == "nothing" || name == "pubring.gpg" && ring == "nothing" {
					continue
				}
				require.NoError(t, os.WriteFile(filepath.Join(home, name), text, 0o600))
			}
			var ours []string
			dir, err := os.OpenRoot(root)
			require.NoError(t, err)
			for _, k := range survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()}).Survey.Keys {
				if k.Used {
					ours = append(ours, k.Fingerprint)
				}
			}
			dir.Close()
			out, _ := exec.Command("gpg", "--batch", "--no-autostart", "--homedir", home, "--with-colons", "--list-keys").Output() // what it lists counts
			var theirs []string
			kind := ""
			for line := range strings.Lines(string(out)) {
				switch fields := strings.Split(line, ":"); {
				case fields[0] == "fpr" && kind == "pub":
					theirs = append(theirs, fields[9])
				case fields[0] == "pub" || fields[0] == "sub":
					kind = fields[0]
				}
			}
			assert.ElementsMatch(t, theirs, ours, "pubring.kbx is %s, pubring.gpg is %s", box, ring)
		}
	}
}
