package survey_test

import (
	"encoding/json"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/keyforms"
	"patientlantern.example/lantern/standin"
)

// keyPlaces are trees in which a key file, or what is called one, stands at a place of each family.
var keyPlaces = map[string]map[string]string{
	"etc/apt/trusted.gpg":         {},
	"etc/apt/trusted.gpg.d/a.gpg": {},
	"etc/apt/trusted.gpg.d/a.asc": {},
	"etc/apt/keyrings/a.asc":      {"etc/apt/sources.list": "deb [signed-by=/etc/apt/keyrings/a.asc] http://h.example/ s main\n"},
	"srv/a.gpg":                   {"etc/apt/sources.list": "deb [signed-by=/srv/a.gpg] http://h.example/ s main\n"},
	"srv/dnf":                     {"etc/yum.repos.d/a.repo": "[a]\nbaseurl=http://h.example/\ngpgkey=file:///srv/dnf\n"},
	"srv/authority":               {"etc/yum.repos.d/a.repo": "[a]\nbaseurl=http://h.example/\nsslcacert=/srv/authority\n"},
	"srv/zypper":                  {"etc/zypp/repos.d/a.repo": "[a]\nbaseurl=http://h.example/\ngpgkey=file:///srv/zypper\n"},
	"var/lib/flatpak/repo/x.trustedkeys.gpg": {
		"var/lib/flatpak/repo/config": "[core]\nrepo_version=1\n[remote \"x\"]\nurl=http://h.example/\ngpg-verify=true\n",
	},
	"etc/pacman.d/gnupg/pubring.gpg": {"etc/pacman.conf": "[options]\n[core]\nServer = http://h.example/\n"},
}

// What a source calls a list of mirrors, or pacman.conf a file of its own, may be any file on the host: what does not say
// what such a file says stays there.
func TestNoFileLeavesTheHostForBeingCalledSomething(t *testing.T) {
	const shadow = "root:$6$MARK:20000:0:99999:7:::\nbin:*:20000:0:99999:7:::\n"
	for place, tree := range map[string]map[string]string{
		"dnf":         {"etc/yum.repos.d/a.repo": "[a]\nmirrorlist=file:///etc/shadow\n"},
		"dnf's other": {"etc/yum.repos.d/a.repo": "[a]\nmetalink=file:///etc/shadow\n"},
		"zypper":      {"etc/zypp/repos.d/a.repo": "[a]\nenabled=1\nmirrorlist=file:///etc/shadow\n"},
		"apt":         {"etc/apt/sources.list": "deb mirror+file:/etc/shadow s main\n"},
		"pacman":      {"etc/pacman.conf": "[options]\nInclude = /etc/shadow\n[core]\nServer = http://h.example/\n"},
		"pacman's":    {"etc/pacman.conf": "[options]\n[core]\nInclude = /etc/shadow\n"},
		"authority":   {"etc/yum.repos.d/a.repo": "[a]\nbaseurl=http://h.example/\nsslcacert=/etc/shadow\n"},
		"key":         {"etc/yum.repos.d/a.repo": "[a]\nbaseurl=http://h.example/\ngpgkey=file:///etc/shadow\n"},
		"apt's key":   {"etc/apt/sources.list": "deb [signed-by=/etc/shadow] http://h.example/ s main\n"},
		"apt's conf":  {"etc/apt/apt.conf.d/1": "#include \"/etc/shadow\";\n"},
	} {
		root := fstest.MapFS{"etc/shadow": {Data: []byte(shadow), Mode: 0o600}}
		for name, data := range tree {
			root[name] = &fstest.MapFile{Data: []byte(data), Mode: 0o644}
		}
		got := survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64", Now: time.Now()})
		for name, kept := range got.Masked() {
			require.NotContains(t, string(kept), "MARK", "%s: %s", place, name)
		}
		printed, err := json.Marshal(got.Survey)
		require.NoError(t, err)
		require.NotContains(t, string(printed), "MARK", place)
	}
}

// A private key in a key file, whatever its form and its place, comes out in nothing that is read of a root; nor does
// what is no key at all and is only called one.
func TestNothingPrivateComesOutOfKeyFiles(t *testing.T) {
	k, err := standin.NewKey("private", "Saltmarsh Packages <packages@saltmarsh.example>", time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC), 0)
	require.NoError(t, err)
	bin, err := k.Binary()
	require.NoError(t, err)
	armour, err := k.Public()
	require.NoError(t, err)
	files := map[string]string{
		"no key":          "root:$6$kkkkkkkkkkkk:20000:0:::::\n",
		"words and a key": "password=kkkkkkkkkkkk\n" + armour,
	}
	for _, form := range keyforms.Names() {
		if strings.Contains(form, "private") {
			files[form] = keyforms.Write(form, bin, armour)
		}
	}
	require.Greater(t, len(files), 10)
	found := 0
	for place, tree := range keyPlaces {
		for form, text := range files {
			root := fstest.MapFS{place: {Data: []byte(text), Mode: 0o644}}
			for name, data := range tree {
				root[name] = &fstest.MapFile{Data: []byte(data), Mode: 0o644}
			}
			got := survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64", Now: time.Now()})
			printed, err := json.Marshal(got.Survey)
			require.NoError(t, err)
			said := []string{string(printed)}
			for _, kept := range got.Masked() {
				said = append(said, string(kept))
			}
			for _, one := range said {
				for _, secret := range keyforms.PrivateBytes {
					require.NotContains(t, one, secret, "%s at %s", form, place)
				}
			}
			found += len(got.Survey.Keys)
		}
	}
	require.Greater(t, found, 50, "the keys beside it are told all the same")
}
