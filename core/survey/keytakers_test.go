package survey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

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

// taker is a package manager that is asked to refresh what a key has signed.
type taker struct {
	name   string
	served map[string][]byte
	tree   map[string]string
	key    string
	ask    []string
}

// takers are those that can be asked of one key file at a time, and the key in both of its forms.
func takers(t *testing.T) (list []taker, fingerprint string, bin []byte, armour string) {
	at := time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	k, err := standin.NewKey("takers", "Saltmarsh Packages <packages@saltmarsh.example>", at, 0)
	require.NoError(t, err)
	bin, err = k.Binary()
	require.NoError(t, err)
	armour, err = k.Public()
	require.NoError(t, err)
	rpmmd, err := standin.RpmRepository{
		Base: "/srv/rpm", Arch: "x86_64", Key: k, Packages: []standin.Package{{Name: "tern", Version: "1-1", Summary: "a bird"}},
	}.Build(at.AddDate(0, 1, 0))
	require.NoError(t, err)
	remote, err := standin.FlatpakRemote{Base: "/srv/flatpak", Key: k}.Build(at.AddDate(0, 1, 0))
	require.NoError(t, err)
	return []taker{
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
	}, k.Fingerprint(), bin, armour
}

// takes asks whether a key file lets a package manager believe what stands behind its source, and whether we say so.
func (x *taker) takes(t *testing.T, c *cell.Cell, root, file, fingerprint string) (theirs, ours bool, said string) {
	require.NoError(t, cell.Write(root, x.tree))
	require.NoError(t, cell.Write(root, map[string]string{x.key: file}))
	for name, data := range x.served {
		require.NoError(t, cell.Write(root, map[string]string{strings.TrimPrefix(name, "/"): string(data)}))
	}
	ours = usedIn(t, root, fingerprint)
	a, err := c.Run(root, x.ask...)
	require.NoError(t, err)
	return a.Code == 0, ours, a.Out + a.Err
}

// A key file in any form is taken by zypper and by flatpak where we call its key used: each
// is asked to refresh what the key has signed.
func TestKeyFilesAreTakenAsZypperAndFlatpakTakeThem(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	list, fingerprint, bin, armour := takers(t)
	for _, x := range list {
		t.Run(x.name, func(t *testing.T) {
			asked := cell.Share(4)
			for i, form := range keyforms.Names() {
				told := strings.Contains(form, "private") && (strings.Contains(form, "stub") || strings.Contains(form, "block")) && cell.Rounds(1) == 1
				if asked() && !keyforms.Differs(form) && !(told && x.name == "zypper") { // by hand alone: dnf is asked of those
					theirs, ours, said := x.takes(t, c, filepath.Join(t.TempDir(), fmt.Sprint(i)), keyforms.Write(form, bin, armour), fingerprint)
					assert.Equal(t, theirs, ours, "%s: %s", form, said)
				}
			}
		})
	}
}

// The same holds of files in which a few bytes came, went or changed places.
func TestSpoiltKeyFilesAreTakenAsZypperAndFlatpakTakeThem(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	list, fingerprint, bin, armour := takers(t)
	forms := slices.DeleteFunc(slices.Clone(keyforms.Names()), keyforms.Differs)
	for _, x := range list {
		t.Run(x.name, func(t *testing.T) {
			base, n, most := t.TempDir(), 0, cell.Rounds(2)
			rapid.Check(t, func(rt *rapid.T) {
				if n++; n > most {
					return
				}
				file := cell.Slips(rt, keyforms.Write(rapid.SampledFrom(forms).Draw(rt, "form"), bin, armour))
				theirs, ours, said := x.takes(t, c, filepath.Join(base, fmt.Sprint(n)), file, fingerprint)
				if theirs != ours {
					rt.Fatalf("%s takes it: %v, we say %v, of %q: %s", x.name, theirs, ours, file, said)
				}
			})
		})
	}
}
