package choice_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/series"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/core/version"
)

// close draws a version that is near a series, or of it.
func closeTo(t *rapid.T, label string, s series.Series) string {
	v := s.Version[:rapid.IntRange(1, len(s.Version)).Draw(t, label+"cut")] + rapid.SampledFrom([]string{"", ".2", "0", ".44", "9", ".4.1"}).Draw(t, label+"tail")
	return strings.TrimSuffix(strings.ReplaceAll(v, "..", "."), ".") + "-" + rapid.SampledFrom([]string{"1", "2"}).Draw(t, label+"release")
}

// near are versions of each name, some of them of the series.
func near(t *rapid.T, s series.Series) (out []index.Package) {
	for i, name := range packages {
		for j := range rapid.IntRange(1, 3).Draw(t, fmt.Sprint("n", i)) {
			v := closeTo(t, fmt.Sprint(i, " ", j), s)
			if len(out) == 0 || out[len(out)-1].Name != name || out[len(out)-1].Version != v {
				out = append(out, index.Package{Name: name, Version: v, Arch: "x86_64"})
			}
		}
	}
	return out
}

var someSeries = rapid.SampledFrom([]series.Series{{Version: "1.44"}, {Version: "9"}, {Version: "2.0"}, {Version: "10.4.1"}})

// expected checks that a held package is taken from its series or not at all, and that we
// say the same as the real program.
func expected(t *rapid.T, s series.Series, held []string, list []index.Package, theirs map[string]string) {
	for _, name := range held {
		of := false
		for _, p := range list {
			of = of || p.Name == name && s.Holds(p.Version)
		}
		taken, _, _ := strings.Cut(theirs[name], " ")
		require.True(t, taken == "" && !of || taken != "" && s.Holds(taken), "%s is held at %s: %q of %v", name, s.Version, taken, list)
	}
}

// asAptSpells are the versions that an apt knows which looks at no sums: of two that compare as equal, as 2.00-1 and
// 2.0-1, the one that it reads first.
func asAptSpells(list []index.Package) (out []index.Package) {
	for _, p := range list {
		if !slices.ContainsFunc(out, func(q index.Package) bool { return p.Name == q.Name && version.Deb(p.Version, q.Version) == 0 }) {
			out = append(out, p)
		}
	}
	return out
}

// What the policy writes to hold packages at a series is what apt goes by.
func TestAptHoldsASeries(t *testing.T) {
	h := newHost(t, "etc/apt/sources.list.d", "etc/apt/preferences.d", "var/lib/apt/lists/partial", "var/cache/apt/archives/partial", "var/lib/dpkg")
	h.write("ID=skerry\nID_LIKE=debian\n", h.root, "etc/os-release")
	h.write("amd64\n", h.root, "var/lib/dpkg/arch")
	status, apt := h.apt()
	h.write(status, h.root, "var/lib/dpkg/status")
	h.write(fmt.Sprintf("Dir %q;\nAPT::Architecture \"amd64\";\nAPT::Architectures { \"amd64\"; };\nAPT::Sandbox::User \"root\";\n"+
		"Acquire::Languages \"none\";\nDir::State::status \"%s/var/lib/dpkg/status\";\n", h.root, h.root), h.root, "apt.conf")
	env := []string{"APT_CONFIG=" + filepath.Join(h.root, "apt.conf")}
	few(t, func(rt *rapid.T) {
		s := someSeries.Draw(rt, "series")
		list := near(rt, s)
		dir, text := filepath.Join(h.site, "held"), ""
		for i, p := range list {
			text += fmt.Sprintf("Package: %s\nVersion: %s\nArchitecture: amd64\nMaintainer: x\nFilename: ./x\nSize: 1\nSHA256: %s\nDescription: x\n\n",
				p.Name, p.Version, strings.Repeat(fmt.Sprintf("%02x", i), 32))
		}
		h.write(text, dir, "dists/stable/main/binary-amd64/Packages")
		sum := strings.Fields(h.run(nil, "sha256sum", filepath.Join(dir, "dists/stable/main/binary-amd64/Packages")))[0]
		h.write(fmt.Sprintf("Origin: Saltmarsh\nSuite: stable\nDate: %s\nArchitectures: amd64\nComponents: main\nSHA256:\n %s %d main/binary-amd64/Packages\n",
			time.Now().Add(-time.Hour).UTC().Format(time.RFC1123), sum, len(text)), dir, "dists/stable/Release")
		h.write("deb [trusted=yes] file:"+dir+" stable main\n", h.root, "etc/apt/sources.list")
		held := packages[:rapid.IntRange(1, len(packages)).Draw(rt, "held")]
		files, _, _ := deb.Render(deb.Definition{
			Repository: "tide", Enabled: true, URL: "https://packages.saltmarsh.example", Suites: []string{"stable"}, Components: []string{"main"},
			Hold: &family.Hold{Packages: held, Series: s},
		})
		for _, f := range files {
			if strings.HasSuffix(f.Path, ".pref") {
				h.write(f.Text, h.root, f.Path)
			}
		}
		require.NoError(rt, os.RemoveAll(filepath.Join(h.root, "var/lib/apt/lists")))
		require.NoError(rt, os.MkdirAll(filepath.Join(h.root, "var/lib/apt/lists/partial"), 0o755))
		_ = os.Remove(filepath.Join(h.root, "var/cache/apt/pkgcache.bin"))
		_ = os.Remove(filepath.Join(h.root, "var/cache/apt/srcpkgcache.bin"))
		h.run(env, "apt-get", "update")
		theirs := candidates(h.run(env, "apt-cache", append([]string{"policy"}, packages...)...))
		known := list
		if version.Deb(apt, "2.7.3") < 0 {
			known = asAptSpells(list)
		}
		expected(rt, s, held, known, theirs)
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		for _, name := range packages {
			c := us.Choose("deb", name, offers[name], "")
			taken := ""
			if c.Taken != nil {
				taken = c.Taken.Version
			}
			require.Equal(rt, theirs[name], taken, "%s: %v", name, list)
		}
	})
}

// Likewise dnf.
func TestDNFHoldsASeries(t *testing.T) {
	h := newHost(t, "etc/yum.repos.d", "etc/dnf", "usr/lib/sysimage/rpm")
	h.write("ID=foreland\nID_LIKE=\"rhel fedora\"\nVERSION_ID=9\n", h.root, "etc/os-release")
	script := filepath.Join(h.site, "ask.py")
	h.write(dnfScript, script)
	few(t, func(rt *rapid.T) {
		s := someSeries.Draw(rt, "series")
		list := near(rt, s)
		dir := filepath.Join(h.site, "held")
		h.primary(dir, list)
		held := packages[:rapid.IntRange(1, len(packages)).Draw(rt, "held")]
		files, _, _ := rpm.Render(family.Definition{
			Repository: "tide", Enabled: true, URL: "file://" + dir, Signatures: source.CheckOff, Hold: &family.Hold{Packages: held, Series: s},
		})
		for _, f := range files {
			h.write(f.Text+"metadata_expire=1\n", h.root, f.Path)
		}
		h.write("[main]\ngpgcheck=0\nreposdir="+h.root+"/etc/yum.repos.d\n", h.root, "etc/dnf/dnf.conf")
		require.NoError(rt, os.RemoveAll(filepath.Join(h.root, "cache")))
		theirs := parsed(rt, h.run(nil, "/usr/bin/python3", append([]string{script, h.root}, packages...)...))
		expected(rt, s, held, list, theirs)
		h.write("[main]\ngpgcheck=0\n", h.root, "etc/dnf/dnf.conf")
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		takes(rt, us, "rpm", offers, theirs, fmt.Sprint(list))
	})
}

// Likewise zypper, which is told by its own list of locks: nothing above the series comes, and of what is left
// the highest.
func TestZypperHoldsASeries(t *testing.T) {
	h := newHost(t, "etc/zypp/repos.d", "usr/lib/sysimage/rpm", "var/cache/zypp")
	h.write("ID=halyard\nID_LIKE=suse\nVERSION_ID=15.3\n", h.root, "etc/os-release")
	dir := filepath.Join(h.site, "held")
	h.write("[r]\nname=r\nenabled=1\nbaseurl=file://"+dir+"\ngpgcheck=0\nautorefresh=1\n", h.root, "etc/zypp/repos.d/x.repo")
	const theirLock = "type: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: sedge\n"
	few(t, func(rt *rapid.T) {
		s := someSeries.Draw(rt, "series")
		list := near(rt, s)
		h.primary(dir, list)
		held := packages[:rapid.IntRange(1, len(packages)).Draw(rt, "held")]
		var locks []source.SheetLock
		for _, name := range held {
			locks = append(locks, source.SheetLock{Repository: "tide", Package: name, Criteria: "version: >= " + s.Beyond()})
		}
		h.write(string(zypp.Arrange([]byte(theirLock), locks)), h.root, zypp.Locks)
		require.NoError(rt, os.RemoveAll(filepath.Join(h.root, "var/cache/zypp")))
		h.run(nil, "zypper", "--root", h.root, "-n", "--no-gpg-checks", "refresh")
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		name := rapid.SampledFrom(held).Draw(rt, "asked")
		taken := h.zypperTakes(t, name)
		best, of := "", false
		for _, p := range list {
			if p.Name == name && version.Compare("zypp", p.Version, s.Beyond()) < 0 && (best == "" || version.Compare("zypp", p.Version, best) > 0) {
				best = p.Version
			}
			of = of || p.Name == name && s.Holds(p.Version)
		}
		require.Equal(rt, best, taken, "%s of %v", name, list)
		require.True(rt, !of || version.Compare("zypp", taken, s.Version) >= 0, "%s is held at %s: %q of %v", name, s.Version, taken, list)
		c := us.Choose("zypp", name, offers[name], "")
		require.True(rt, best == "" && c.Taken == nil || c.Taken != nil && c.Taken.Version == best, "%+v", c)

		h.run(nil, "zypper", "--root", h.root, "-n", "addlock", "tern") // writes the whole list anew
		text := fileText(h, zypp.Locks)
		require.Equal(rt, text, string(zypp.Arrange([]byte(text), locks)), "what zypper has written is known again")
		rest := string(zypp.Arrange([]byte(text), nil))
		for _, name := range held {
			require.NotContains(rt, rest, "solvable_name: "+name+"\n")
		}
		require.Contains(rt, rest, "solvable_name: sedge\n")
		require.Contains(rt, rest, "solvable_name: tern\n")
	})
}

// pacman knows no versions there: what is held stays as it is installed.
func TestPacmanIgnoresWhatIsHeld(t *testing.T) {
	h := newHost(t, "etc/pacman.d")
	files, _, _ := arch.Render(family.Definition{
		Repository: "tide", Enabled: true, URL: "http://127.0.0.1/tide", Signatures: source.CheckOff,
		Hold: &family.Hold{Packages: []string{"tide-model", "tide-tools"}, Series: series.Series{Version: "1.44"}},
	})
	h.write(files[0].Text, h.root, "tide.conf")
	h.write("[options]\nArchitecture = x86_64\n\n[driftwood]\nServer = http://127.0.0.1/driftwood\n\nInclude = "+h.root+"/tide.conf\n", h.root, "pacman.conf")
	says := h.run(nil, "pacman-conf", "-c", filepath.Join(h.root, "pacman.conf"))
	require.Equal(t, []string{"tide-model", "tide-tools"}, words(`(?m)^IgnorePkg = (.*)$`, says))
	require.Equal(t, []string{"options", "driftwood", "tide"}, words(`(?m)^\[(.*)\]$`, says))
}

func words(pattern, text string) (out []string) {
	for _, m := range regexp.MustCompile(pattern).FindAllStringSubmatch(text, -1) {
		out = append(out, m[1])
	}
	return out
}
