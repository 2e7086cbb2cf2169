package survey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/standin"
)

// TestWhatGPGIsToldForAllIsToldOf: where a line in the system's gpg.conf lets zypper or flatpak believe a key that their
// source does not name, the survey calls it a weakening.
func TestWhatGPGIsToldForAllIsToldOf(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	list, fingerprint, bin, _ := takers(t)
	another, err := standin.NewKey("another", "Brinewick <keys@brinewick.test>", time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC), 0)
	require.NoError(t, err)
	named, err := another.Binary()
	require.NoError(t, err)
	asked := cell.Share(3)
	for _, x := range list {
		let := 0
		for i, conf := range []string{
			"keyring /keys/beside\n", "", "# keyring /keys/beside\n", "  keyring\t/keys/beside\n", "--keyring /keys/beside\n", "primary-keyring /keys/beside\n",
			"keyring gnupg-ring:/keys/beside\n", "no-default-keyring\nkeyring /keys/beside\n", "keyring \"/keys/beside\"\n", "keyring=/keys/beside\n", "Keyring /keys/beside\n",
			"quiet\nkeyring /keys/none\n", "trust-model always\n", "keyring /keys/beside", "\r\nkeyring /keys/beside\r\n", "keyring : /keys/beside\n",
		} {
			if i > 1 && !asked() {
				continue
			}
			root := filepath.Join(t.TempDir(), fmt.Sprint(i))
			require.NoError(t, cell.Write(root, map[string]string{family.GPGConf[1:]: conf, "keys/beside": string(bin)}))
			theirs, ours, said := x.takes(t, c, root, string(named), fingerprint)
			require.False(t, ours)
			require.False(t, theirs && i == 1, said)
			if theirs {
				let++
				t.Log(x.name, conf)
				assert.True(t, weakened(t, root), "%s with %q: %s", x.name, conf, said)
			}
		}
		assert.Positive(t, let)
	}
}

// weakened reports whether a survey of a root says that something beside the configuration takes a check away.
func weakened(t *testing.T, root string) bool {
	t.Helper()
	dir, err := os.OpenRoot(root)
	require.NoError(t, err)
	defer dir.Close()
	s := survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()}).Survey
	return slices.ContainsFunc(s.Deciding, func(d source.Deciding) bool { return len(d.Weakening()) > 0 })
}
