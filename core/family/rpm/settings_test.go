package rpm_test

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

type mainSaid struct {
	Main             map[string]string
	Exclude, Include []string
	Repos            []struct {
		ID               string
		Exclude, Include []string
	}
}

func askMain(t require.TestingT, c *cell.Cell, root string) (said mainSaid, refused bool) {
	a, err := c.DNF(root)
	require.NoError(t, err)
	if a.Code != 0 {
		return said, true
	}
	require.NoError(t, json.Unmarshal([]byte(a.Out), &said))
	return said, false
}

// settingsOf are those of [main] that we read off a root, by name.
func settingsOf(t require.TestingT, root string) map[string]string {
	r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return rpm.Read(root, family.Host{Arch: "x86_64", Release: "8"}) })
	require.NoError(t, err)
	got := map[string]string{}
	for _, s := range r.Settings {
		got[strings.TrimPrefix(s.Name, "main.")] = s.Value
	}
	return got
}

// mainKeys are settings that matter, with values to draw.
var mainKeys = map[string][]string{
	"sslverify": {"0", "no", "False", "1", "yes", "maybe"}, "gpgcheck": {"1", "0", "true"}, "repo_gpgcheck": {"1", "off"}, "localpkg_gpgcheck": {"on", "0"},
	"proxy": {"http://proxy.saltmarsh.example:3128", "None", ""}, "excludepkgs": {"tern*", "tern, gannet", "tern  plover,knot", ""}, "exclude": {"gull", "gull*,skua"},
	"includepkgs": {"tern", "tern gull"}, "plugins": {"0", "1"}, "pluginpath": {"/opt/plugins", "/opt/a, /opt/b"}, "sslcacert": {"/etc/pki/own.pem"},
	"multilib_policy": {"all", "best"}, "best": {"1", "0"}, "tsflags": {"nocrypto", "nodocs, nocrypto"}, "obsoletes": {"0"}, "skip_if_unavailable": {"1", "True"},
	"username": {"gannet"}, "disable_excludes": {"all", "main"}, "allow_vendor_change": {"0", "1"}, "enabled": {"1", "0"},
}

// mainValues are tried with every setting of [main] that decides something.
var mainValues = []string{
	"", "0", "1", "yes", "No", "TRUE", "maybe", "best", "ALL", "all", "legacy", "-1", "-2", "never", "3600", "2d", "1.5H", "1x", "1e3", "0x10", "0.5",
	"99999999999", "1e999", "nan", "inf", "/p/q", "p/q", "a, b", "None", "digest", "NTLM", "metadata", "x y", "http://h.example/",
}

// secretSettings are those that are masked, and those that holds tell.
var secretSettings = []string{"username", "password", "proxy_username", "proxy_password", "includepkgs"}

// Each setting of [main] has, with whatever value, what dnf's own configuration object has.
func TestEachSettingIsThatOfTheRealDNF(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	base := t.TempDir()
	read := func(name, text string) (map[string]string, mainSaid) {
		root := filepath.Join(base, name)
		require.NoError(t, cell.Write(root, map[string]string{"etc/dnf/dnf.conf": text, "etc/dnf-releasever-of-the-test": "8"}))
		got := settingsOf(t, root)
		said, refused := askMain(t, c, root)
		require.False(t, refused)
		return got, said
	}
	_, bare := read("bare", "[main]\n")
	for i, value := range mainValues {
		got, said := read(fmt.Sprint(i), everySetting(value))
		for _, key := range rpm.SettingsThatDecide() {
			want, known := said.Main[key]
			if !known || slices.Contains(secretSettings, key) {
				continue // no setting of dnf 4
			}
			have, set := got[key]
			if !set {
				have = bare.Main[key]
			}
			if want == "" && !set { // emptied: nobody can tell it from not set, and by itself it is None or a folder of this Python
				have = ""
			}
			assert.Equal(t, want, have, "%s=%s (%q by itself)", key, value, bare.Main[key])
		}
	}
}

var idleKeys = []string{"keepcache=1", "debuglevel=4", "color=never", "installonly_limit=5", "# sslverify=0", "nonsense=1"}

// What [main] decides has the names and values of dnf's own configuration object.
func TestSettingsAreThoseOfTheRealDNF(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	names := make([]string, 0, len(mainKeys))
	for name := range mainKeys {
		names = append(names, name)
	}
	slices.Sort(names)
	base, n, most := t.TempDir(), 0, cell.Rounds(50)
	empty := filepath.Join(base, "empty")
	require.NoError(t, cell.Write(empty, map[string]string{"etc/dnf/dnf.conf": "[main]\n", "etc/dnf-releasever-of-the-test": "8"}))
	bare, _ := askMain(t, c, empty)
	rapid.Check(t, func(rt *rapid.T) {
		if n == most {
			return
		}
		text := "[main]\n"
		for range rapid.IntRange(1, 5).Draw(rt, "lines") {
			if rapid.IntRange(0, 4).Draw(rt, "idle") == 0 {
				text += rapid.SampledFrom(idleKeys).Draw(rt, "line") + "\n"
				continue
			}
			name := rapid.SampledFrom(names).Draw(rt, "name")
			text += name + rapid.SampledFrom([]string{"=", " = "}).Draw(rt, "sign") + rapid.SampledFrom(mainKeys[name]).Draw(rt, "value") + "\n"
		}
		text = strings.ReplaceAll(cell.Slips(rt, text), "\r", "")
		repo := "[tern]\nbaseurl=http://saltmarsh.example/x\n" + rapid.SampledFrom([]string{"", "excludepkgs=a b\n", "exclude=c,d\nincludepkgs=e\n"}).Draw(rt, "repo")
		n++
		root := filepath.Join(base, fmt.Sprint(n))
		require.NoError(rt, cell.Write(root, map[string]string{"etc/dnf/dnf.conf": text, "etc/yum.repos.d/tern.repo": repo, "etc/dnf-releasever-of-the-test": "8"}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return rpm.Read(root, family.Host{Arch: "x86_64", Release: "8"}) })
		require.NoError(rt, err)
		said, refused := askMain(rt, c, root)
		if refused {
			return
		}
		got := map[string]string{}
		for _, s := range r.Settings {
			got[strings.TrimPrefix(s.Name, "main.")] = s.Value
		}
		for _, name := range names {
			if name == "exclude" { // another name of excludepkgs
				continue
			}
			want, differs := said.Main[name], said.Main[name] != bare.Main[name]
			if have, ok := got[name]; ok != differs || ok && have != want {
				rt.Fatalf("%s: dnf has %q (%q by itself), we have %q %v\n%q", name, want, bare.Main[name], have, ok, text)
			}
		}
		var holds []string
		for _, h := range r.Holds {
			holds = append(holds, h.Source+" "+h.Kind+" "+h.What)
		}
		var want []string
		add := func(id, kind string, list []string) {
			for _, what := range list {
				want = append(want, id+" "+kind+" "+what)
			}
		}
		add("", source.HoldExclude, said.Exclude)
		add("", source.HoldInclude, said.Include)
		for _, x := range said.Repos {
			add(x.ID, source.HoldExclude, x.Exclude)
			add(x.ID, source.HoldInclude, x.Include)
		}
		slices.Sort(holds)
		slices.Sort(want)
		if !slices.Equal(slices.Compact(holds), slices.Compact(want)) {
			rt.Fatalf("dnf keeps %q\nwe say    %q\n%s%s", want, holds, text, repo)
		}
	})
}

func TestVersionLocksAreRead(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, cell.Write(root, map[string]string{"etc/dnf/plugins/versionlock.conf": "[main]\nenabled = 1\nlocklist = /etc/dnf/locks\n", "etc/dnf/locks": "# why\n\ntern-0:1.2-3.*\n!gull-0:2-1.*\n"}))
	r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return rpm.Read(root, family.Host{}) })
	require.NoError(t, err)
	assert.Equal(t, []source.Hold{
		{Family: "rpm", Kind: "lock", What: "tern-0:1.2-3.*", File: "/etc/dnf/locks", Line: 3},
		{Family: "rpm", Kind: "lock", What: "!gull-0:2-1.*", File: "/etc/dnf/locks", Line: 4},
	}, r.Holds)

	root = t.TempDir()
	require.NoError(t, cell.Write(root, map[string]string{"etc/dnf/plugins/versionlock.list/": ""}))
	r, err = cell.Inside(root, func(root *rootfs.FS) family.Reading { return rpm.Read(root, family.Host{}) })
	require.NoError(t, err)
	require.Len(t, r.Problems, 1)
	assert.Contains(t, r.Problems[0].Message, "which versions are locked is not known")
}
