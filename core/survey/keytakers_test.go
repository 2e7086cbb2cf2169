package survey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/keyforms"
	"patientlantern.example/lantern/standin"
)

// usedIn reports whether a survey of a root says that a key is used.
func usedIn(t *testing.T, root, fingerprint string) bool {
	dir, err := os.OpenRoot(root)
	require.NoError(t, err)
	defer dir.Close()
	for _, k := range survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()}).Survey.Keys {
		if k.Fingerprint == fingerprint && k.Used {
			return true
		}
	}
	return false
}

// A key file in any form is taken by zypper and by flatpak where we call its key used: each
// is asked to refresh what the key has signed.
func TestKeyFilesAreTakenAsZypperAndFlatpakTakeThem(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	at := time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	k, err := standin.NewKey("takers", "Saltmarsh Packages <packages@saltmarsh.example>", at, 0)
	require.NoError(t, err)
	bin, err := k.Binary()
	require.NoError(t, err)
	armour, err := k.Public()
	require.NoError(t, err)
	rpmmd, err := standin.RpmRepository{Base: "/srv/rpm", Arch: "x86_64", Key: k, Packages: []standin.Package{{Name: "tern", Version: "1-1", Summary: "a bird"}}}.Build(at.AddDate(0, 1, 0))
	require.NoError(t, err)
	remote, err := standin.FlatpakRemote{Base: "/srv/flatpak", Key: k}.Build(at.AddDate(0, 1, 0))
	require.NoError(t, err)
	for _, taker := range []struct {
		name   string
		served map[string][]byte
		tree   map[string]string
		key    string
		ask    []string
	}{
		{"zypper", rpmmd, map[string]string{
			"etc/zypp/zypp.conf":      "[main]\n",
			"etc/zypp/repos.d/a.repo": "[a]\nbaseurl=dir:/srv/rpm\nenabled=1\nautorefresh=0\ngpgcheck=1\nrepo_gpgcheck=1\ngpgkey=file:///keys/k\n",
			"etc/products.d/x.prod":   "<product><name>x</name><version>1</version></product>",
			"etc/alternatives/awk":    "-> /usr/bin/mawk",
			"var/lib/rpm/":            "",
		}, "keys/k", []string{"/usr/bin/zypper", "--non-interactive", "--gpg-auto-import-keys", "refresh", "a"}},
		{"flatpak", remote, map[string]string{
			"var/lib/flatpak/repo/config":   "[core]\nrepo_version=1\nmode=bare-user-only\n\n[remote \"x\"]\nurl=file:///srv/flatpak\ngpg-verify=true\ngpg-verify-summary=true\n",
			"var/lib/flatpak/repo/objects/": "", "var/lib/flatpak/repo/tmp/": "", "var/lib/flatpak/repo/refs/heads/": "", "var/lib/flatpak/repo/refs/remotes/": "",
			"var/lib/flatpak/repo/refs/mirrors/": "", "var/lib/flatpak/repo/state/": "", "var/lib/flatpak/repo/extensions/": "",
		}, "var/lib/flatpak/repo/x.trustedkeys.gpg", []string{"/usr/bin/flatpak", "--system", "remote-ls", "x"}},
	} {
		t.Run(taker.name, func(t *testing.T) {
			for i, form := range keyforms.Names() {
				if keyforms.Differs(form) {
					continue
				}
				root := filepath.Join(t.TempDir(), fmt.Sprint(i))
				require.NoError(t, cell.Write(root, taker.tree))
				require.NoError(t, cell.Write(root, map[string]string{taker.key: keyforms.Write(form, bin, armour)}))
				for name, data := range taker.served {
					require.NoError(t, cell.Write(root, map[string]string{strings.TrimPrefix(name, "/"): string(data)}))
				}
				got := usedIn(t, root, k.Fingerprint())
				a, err := c.Run(root, taker.ask...)
				require.NoError(t, err)
				assert.Equal(t, a.Code == 0, got, "%s: %s %s", form, a.Out, a.Err)
			}
		})
	}
}
