package deb_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// words are values of switches as people write them, and as a stranger would so that a reader takes them for something else.
var words = rapid.OneOf(
	rapid.SampledFrom([]string{
		"yes", "No", "TRUE", "false", "with", "without", "On", "off", "enable", "Disable", "0", "1", "00", "01", "0x0", "0x1", "+0", "-0", "+1",
		"2", "-1", "4294967296", "4294967297", "x", "y", "n", "none", "0b1", "0o0", "1_0", "0_0", " 0", "0 ", "never", "always",
	}),
	rapid.StringMatching(`[ +-]?0?[xX]?[0-9]{1,3}`),
)

// A switch is read as apt reads it: apt-config says what a word is to it, once asked for what holds where nothing is said.
func TestASwitchIsReadAsAptReadsIt(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	root, asked := t.TempDir(), 0
	rapid.Check(t, func(t *rapid.T) {
		if asked >= cell.Rounds(100) {
			return
		}
		list := rapid.SliceOfN(words, 20, 20).Draw(t, "words")
		var conf strings.Builder
		for i, w := range list {
			conf.WriteString(fmt.Sprintf("Own::W%d %q;\n", i, w))
		}
		require.NoError(t, cell.Write(root, map[string]string{"etc/apt/apt.conf": conf.String()}))
		ask := []string{"/usr/bin/apt-config", "shell"}
		for i := range list {
			ask = append(ask, fmt.Sprintf("W%d", i), fmt.Sprintf("Own::W%d/b", i))
		}
		a, err := c.Run(root, ask...)
		require.NoError(t, err)
		for i, w := range list {
			want := strings.Contains(a.Out, fmt.Sprintf("W%d='true'", i))
			if got := source.IsOn(source.FamilyDeb, w); got != want {
				t.Fatalf("%q is on: %v; to apt: %v; %s%s", w, got, want, a.Out, a.Err)
			}
		}
		asked += len(list)
	})
}

// Whether the age of metadata is checked is said as apt does it: an entry's own word, whatever it is, goes before the setting.
func TestWhetherAgeIsCheckedIsSaidAsAptDoesIt(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	base, asked, n := t.TempDir(), 0, 0
	const release = "Origin: x\nSuite: s\nDate: Sat, 01 Mar 2025 12:00:00 UTC\nValid-Until: Sun, 02 Mar 2025 12:00:00 UTC\n" +
		"SHA256:\n e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855 0 Packages\n"
	rapid.Check(t, func(t *rapid.T) {
		if asked >= cell.Rounds(20) {
			return
		}
		own, global, stanza := words.Draw(t, "own"), words.Draw(t, "global"), rapid.Bool().Draw(t, "stanza")
		n++
		says, root := rapid.Bool().Draw(t, "says"), filepath.Join(base, fmt.Sprint(n))
		tree := map[string]string{
			"srv/repo/Release": release, "srv/repo/Packages": "", "etc/apt/apt.conf": fmt.Sprintf("Acquire::Check-Valid-Until %q;\n", global),
			"var/lib/dpkg/status": "", "var/lib/apt/lists/partial/": "", "var/cache/apt/archives/partial/": "",
		}
		option, field := "", ""
		if own = strings.TrimSpace(own); says {
			option, field = " check-valid-until="+own, "Check-Valid-Until: "+own+"\n"
		}
		tree["etc/apt/sources.list.d/a.list"] = "deb [trusted=yes" + option + "] file:/srv/repo ./\n"
		if stanza {
			delete(tree, "etc/apt/sources.list.d/a.list")
			tree["etc/apt/sources.list.d/a.sources"] = "Types: deb\nURIs: file:/srv/repo\nSuites: ./\nTrusted: yes\n" + field
		}
		require.NoError(t, cell.Write(root, tree))
		a, err := c.Run(root, "/usr/bin/apt-get", "-o", "APT::Sandbox::User=root", "update")
		require.NoError(t, err)
		read := deb.Read(rootfs.New(os.DirFS(root)), []string{"amd64"})
		require.Len(t, read.Sources, 1)
		unchecked := read.Sources[0].Weakened(read.Settings)
		said := len(unchecked) > 0 && unchecked[0] == "age NOT checked"
		if refused := strings.Contains(a.Err, "is expired"); refused == said {
			t.Fatalf("own %q (%v), for all %q: refused %v; we say %v; %s", own, says, global, refused, unchecked, a.Err)
		}
		asked++
	})
}
