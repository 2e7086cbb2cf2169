package arch_test

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

var directives = map[string][]string{
	"RootDir": {"/", "/srv/root"}, "DBPath": {"/var/lib/pacman", "/var/lib/other/", "/x"}, "GPGDir": {"/etc/own", "/etc/pacman.d/gnupg"},
	"HookDir": {"/etc/hooks", "/opt/a hook/"}, "CacheDir": {"/srv/a cache/", "/var/cache/pacman/pkg", "/x"}, "Architecture": {"x86_64", "x86_64 i686", "auto"}, "IgnorePkg": {"tern", "tern gull*", "skua"}, "IgnoreGroup": {"sea", "sea shore"},
	"XferCommand": {"/usr/bin/curl -o %o %u", "/usr/bin/fetch %u"}, "SigLevel": {"Never", "Required", "Optional TrustAll", "PackageRequired DatabaseNever", "TrustedOnly", "Optional TrustedOnly"},
	"LocalFileSigLevel": {"Optional", "Never", "Required TrustAll", "DatabaseNever"}, "RemoteFileSigLevel": {"Required", "PackageTrustAll"},
	"Color": {""}, "ParallelDownloads": {"5"}, "NoUpgrade": {"etc/x"}, "HoldPkg": {"pacman"},
}

// settled lists what the real pacman-conf says of [options], several values joined.
func settled(t require.TestingT, c *cell.Cell, root string) map[string]string {
	a, err := c.Run(root, "/usr/bin/pacman-conf")
	require.NoError(t, err)
	require.Zero(t, a.Code, a.Err)
	out := map[string]string{}
	for line := range strings.Lines(a.Out) {
		if line[0] == '[' && line != "[options]\n" {
			break
		}
		key, value, ok := strings.Cut(strings.TrimRight(line, "\n"), " = ")
		if !ok {
			continue
		}
		if old, twice := out[key]; twice {
			value = old + " " + value
		}
		out[key] = value
	}
	return out
}

// folders is a value without the slashes at the end of its folders, which 7.1 takes off.
func folders(value string) string { return path.Clean(strings.ReplaceAll(value, "/ ", " ")) }

// What [options] decides has the names and values that pacman-conf gives.
func TestSettingsAreThoseOfTheRealPacmanConf(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	names := make([]string, 0, len(directives))
	for name := range directives {
		names = append(names, name)
	}
	slices.Sort(names)
	mattering := []string{"RootDir", "DBPath", "GPGDir", "HookDir", "CacheDir", "Architecture", "IgnorePkg", "IgnoreGroup", "XferCommand", "SigLevel", "LocalFileSigLevel", "RemoteFileSigLevel"}
	base, n := t.TempDir(), 0
	empty := filepath.Join(base, "empty")
	require.NoError(t, cell.Write(empty, map[string]string{"etc/pacman.conf": "[options]\n", "var/lib/pacman/": "", "etc/pacman.d/gnupg/": ""}))
	bare := settled(t, c, empty)
	rapid.Check(t, func(rt *rapid.T) {
		text := "[options]\n"
		for range rapid.IntRange(1, 6).Draw(rt, "lines") {
			name := rapid.SampledFrom(names).Draw(rt, "name")
			text += name + " = " + rapid.SampledFrom(directives[name]).Draw(rt, "value") + "\n"
		}
		text = cell.Slips(rt, text)
		n++
		root := filepath.Join(base, fmt.Sprint(n))
		require.NoError(rt, cell.Write(root, map[string]string{
			"etc/pacman.conf": text, "var/lib/pacman/": "", "var/lib/other/": "", "x/": "", "srv/root/var/lib/pacman/": "", // 7.1 wants them
			"etc/own/": "", "etc/pacman.d/gnupg/": "", "etc/hooks/": "", "opt/a hook/": "", "srv/a cache/": "", "var/cache/pacman/pkg/": "",
		}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading {
			r := arch.Read(root, family.Host{Arch: "x86_64"})
			return r
		})
		require.NoError(rt, err)
		a, err := c.Run(root, "/usr/bin/pacman-conf")
		require.NoError(rt, err)
		if strings.Contains(a.Err, "failed to resolve path") {
			return // 7.1 wants the folders that a slip has named
		}
		if refused := a.Code != 0; refused != r.Refused() {
			rt.Fatalf("pacman refuses: %v %s\nwe say: %v %v\n%q", refused, a.Err, r.Refused(), r.Problems, text)
		} else if refused {
			return
		}
		got := map[string]string{}
		for _, s := range r.Settings {
			got[strings.TrimPrefix(s.Name, "options.")] = s.Value
		}
		said := settled(rt, c, root)
		for _, name := range mattering {
			want := said[name]
			if want == "" && bare[name] != "" {
				continue // a slip emptied it
			}
			if name == "DBPath" && said["RootDir"] != "/" && got["DBPath"] == "" {
				want = bare[name] // it moves with the root
			}
			differs := path.Clean(want) != path.Clean(bare[name]) // a folder is one with and without its slash
			if have, ok := got[name]; ok != differs || ok && folders(have) != folders(want) {
				rt.Fatalf("%s: pacman-conf has %q (%q by itself), we have %q %v\n%q", name, want, bare[name], have, ok, text)
			}
		}
		var holds []string
		for _, h := range r.Holds {
			holds = append(holds, h.What)
		}
		blank := func(c rune) bool { return c == ' ' } // a name may hold any other
		want := append(strings.FieldsFunc(said["IgnorePkg"], blank), strings.FieldsFunc(said["IgnoreGroup"], blank)...)
		slices.Sort(holds)
		slices.Sort(want)
		require.Equal(rt, want, append([]string{}, holds...), text)
	})
}

// What stands in [options] says nothing in the section of a repository: pacman-conf answers as without it.
func TestOptionsOfAllSayNothingInASection(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	conf := func(more string) string {
		root := t.TempDir()
		require.NoError(t, cell.Write(root, map[string]string{"etc/pacman.conf": "[core]\n" + more + "Server = http://archive.driftwood.example/core\n"}))
		a, err := c.Run(root, "/usr/bin/pacman-conf")
		require.NoError(t, err)
		require.Zero(t, a.Code, a.Err)
		return a.Out
	}
	plain := conf("")
	for name, values := range directives {
		if name == "SigLevel" {
			continue
		}
		require.Equal(t, plain, conf(name+" = "+values[len(values)-1]+"\n"), name)
		require.Empty(t, source.OptionTouches(source.FamilyArch, name), name)
	}
	require.NotEqual(t, plain, conf("Usage = Sync\n"))
	usage := func(value string) []string {
		out := slices.DeleteFunc(strings.Split(conf("Usage = "+value+"\n"), "\n"), func(l string) bool { return !strings.HasPrefix(l, "Usage") })
		slices.Sort(out)
		return out
	}
	for _, words := range []string{"All", "Sync Search Install Upgrade", "Upgrade Install Search Sync", "Sync", "Search Sync", "Install"} {
		same := source.SameOption(source.FamilyArch, "usage", nil, map[string]string{"usage": words}, nil)
		require.Equal(t, slices.Equal(usage("All"), usage(words)), same, words)
	}
}
