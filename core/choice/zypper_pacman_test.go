package choice_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
)

// few checks a property that starts a slow program each time, 12 times unless more is asked for.
func few(t *testing.T, check func(*rapid.T)) {
	n := 0
	most := cell.Rounds(12)
	rapid.Check(t, func(rt *rapid.T) {
		if n++; n <= most || t.Failed() {
			check(rt)
		}
	})
}

func fileText(h *host, name string) string {
	b, err := os.ReadFile(filepath.Join(h.root, name))
	require.NoError(h, err)
	return string(b)
}

func parsed(t *rapid.T, out string) (m map[string]string) {
	require.NoError(t, json.Unmarshal([]byte(out[strings.LastIndex(out, "{"):]), &m), out)
	return m
}

// held draws what is kept away, as dnf's options say it.
func held(t *rapid.T) string {
	switch rapid.IntRange(0, 9).Draw(t, "held") {
	case 0:
		return "excludepkgs=" + rapid.SampledFrom([]string{"tide-a", "tide-[b-e]", "tide-f-1.0*", "tide-*.noarch", "*"}).
			Draw(t, "exclude") +
			"\n"
	case 1:
		return "includepkgs=" + rapid.SampledFrom([]string{"tide-a,tide-b", "tide-[b-k]"}).Draw(t, "include") + "\n"
	}
	return ""
}

// tie reports whether a source offers the same as the one that is taken, with equal weight:
// which of them it comes from is left open.
func tie(c *choice.Choice, h *choice.Host, id string) bool {
	for _, o := range c.Offers {
		if h.Uses[o.Use].ID == id && o.Version == c.Taken.Version && o.Out == "" && o.Priority != nil &&
			*o.Priority == *c.Taken.Priority {
			return true
		}
	}
	return false
}

// takes holds what we say is taken of each package against what the program takes, as VERSION
// SOURCE.
func takes(t *rapid.T, us *choice.Host, family string, offers map[string][]choice.Offered, theirs map[string]string, context string) {
	for _, name := range packages {
		c := us.Choose(family, name, offers[name], "")
		got, where := "", ""
		if c.Taken != nil {
			got, where = c.Taken.Version, us.Uses[c.Taken.Use].ID
		}
		want, from, _ := strings.Cut(theirs[name], " ")
		if want != got || from != where && !tie(&c, us, from) {
			t.Fatalf(
				"%s: the program takes %q of %q, we say %q of %q (%s)\n%s\n%+v",
				name,
				want,
				from,
				got,
				where,
				c.Why,
				context,
				c.Offers,
			)
		}
	}
}

var zypperField = regexp.MustCompile(`(?m)^(Name|Version|Repository) +: (.*)$`)

// What zypper info shows is what we say is taken.
func TestZyppersChoice(t *testing.T) {
	h := newHost(t, "etc/zypp/repos.d", "usr/lib/sysimage/rpm", "var/cache/zypp")
	h.write("ID=halyard\nID_LIKE=suse\nVERSION_ID=15.3\n", h.root, "etc/os-release")
	few(t, func(rt *rapid.T) {
		repos := ""
		of := rapid.SampledFrom([][]string{{"x86_64", "noarch", "aarch64"}, {"x86_64", "i686", "i586"}}).Draw(rt, "architectures")
		for i := range rapid.IntRange(1, 3).Draw(rt, "repositories") {
			dir := filepath.Join(h.site, fmt.Sprint("rpm", i))
			h.primary(dir, architectures(rt, fmt.Sprint("r", i), offered(rt, fmt.Sprint("r", i)), of))
			repos += fmt.Sprintf("[r%d]\nname=r%[1]d\nenabled=1\nbaseurl=file://%s\ngpgcheck=0\nautorefresh=1\n", i, dir)
			if p := rapid.SampledFrom([]int{0, 10, 50, 99, 99}).Draw(rt, "priority"); p > 0 {
				repos += fmt.Sprintf("priority=%d\n", p)
			}
		}
		h.write(repos, h.root, "etc/zypp/repos.d/x.repo")
		require.NoError(rt, os.RemoveAll(filepath.Join(h.root, "var/cache/zypp")))
		h.run(nil, "zypper", "--root", h.root, "-n", "--no-gpg-checks", "refresh")
		theirs := map[string]string{}
		name, version := "", ""
		for _, m := range zypperField.FindAllStringSubmatch(h.run(nil, "zypper", append([]string{"--root", h.root, "-n", "--no-gpg-checks", "--no-refresh", "info"}, packages...)...), -1) {
			switch value := strings.TrimSpace(m[2]); m[1] {
			case "Name":
				name = value
			case "Version":
				version = value
				theirs[name] = version + " " + theirs[name]
			case "Repository":
				theirs["next"] = value
			}
			if m[1] == "Version" {
				theirs[name] = version + " " + theirs["next"]
			}
		}
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		takes(rt, us, "zypp", offers, theirs, repos)
	})
}

// pacman runs it on the host, and returns what it says.
func (h *host) pacman(args ...string) string {
	return h.run(nil, "pacman", append([]string{
		"--root", h.root, "--dbpath", filepath.Join(h.root, "var/lib/pacman"), "--config", filepath.Join(h.root, "etc/pacman.conf"),
		"--logfile", "/dev/null", "--noconfirm",
	}, args...)...)
}

// What pacman would fetch is what we say is taken.
func TestPacmansChoice(t *testing.T) {
	h := newHost(t, "etc/pacman.d", "var/lib/pacman/local", "var/lib/pacman/sync")
	h.write("ID=driftwood\nID_LIKE=arch\n", h.root, "etc/os-release")
	h.write("9\n", h.root, "var/lib/pacman/local/ALPM_DB_VERSION")
	few(t, func(rt *rapid.T) {
		conf := "[options]\nArchitecture = x86_64\nSigLevel = Never\n"
		for i := range rapid.IntRange(1, 3).Draw(rt, "repositories") {
			dir := filepath.Join(h.site, fmt.Sprint("db", i))
			require.NoError(rt, os.RemoveAll(dir))
			args := []string{"-C", filepath.Join(dir, "tree"), "-czf", filepath.Join(dir, fmt.Sprintf("r%d.db", i)), "-T", "/dev/null"}
			h.write("", dir, "tree/.keep")
			for _, p := range offered(rt, fmt.Sprint("r", i)) {
				h.write(
					fmt.Sprintf(
						"%%FILENAME%%\n%[1]s-%[2]s.pkg.tar.gz\n\n%%NAME%%\n%[1]s\n\n%%VERSION%%\n%[2]s\n\n%%ARCH%%\nany\n\n%%CSIZE%%\n1\n\n",
						p.Name,
						p.Version,
					),
					dir,
					"tree",
					p.Name+"-"+p.Version,
					"desc",
				)
				args = append(args, p.Name+"-"+p.Version)
			}
			h.run(nil, "tar", args...)
			conf += fmt.Sprintf("[r%d]\nServer = file://%s\n", i, dir)
		}
		h.write(conf, h.root, "etc/pacman.conf")
		require.NoError(rt, os.RemoveAll(filepath.Join(h.root, "var/lib/pacman/sync")))
		h.pacman("-Sy")
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		var there []string
		for _, name := range packages {
			if len(offers[name]) > 0 {
				there = append(there, name)
			}
		}
		if len(there) == 0 {
			return
		}
		theirs := map[string]string{}
		for line := range strings.Lines(h.pacman(append([]string{"-Sp", "--print-format", "%n %v %r"}, there...)...)) {
			if w := strings.Fields(line); len(w) == 3 {
				theirs[w[0]] = w[1] + " " + w[2]
			}
		}
		for _, name := range packages {
			c := us.Choose("arch", name, offers[name], "")
			got := ""
			if c.Taken != nil {
				got = c.Taken.Version + " " + us.Uses[c.Taken.Use].ID
			}
			if theirs[name] != got {
				rt.Fatalf("%s: pacman takes %q, we say %q (%s)\n%s\n%+v", name, theirs[name], got, c.Why, conf, c.Offers)
			}
		}
	})
}

// A group that pacman ignores is no package of that name, and what it keeps is not said to be replaced.
func TestPacmanIgnoresGroups(t *testing.T) {
	h := newHost(t, "etc/pacman.d", "var/lib/pacman/local", "var/lib/pacman/sync")
	h.write("ID=driftwood\nID_LIKE=arch\n", h.root, "etc/os-release")
	h.write("9\n", h.root, "var/lib/pacman/local/ALPM_DB_VERSION")
	desc := func(name, version, groups string) string {
		return fmt.Sprintf(
			"%%FILENAME%%\n%[1]s-%[2]s.pkg.tar.gz\n\n%%NAME%%\n%[1]s\n\n%%VERSION%%\n%[2]s\n\n%%ARCH%%\nany\n\n%%CSIZE%%\n1\n\n%[3]s",
			name,
			version,
			groups,
		)
	}
	of := map[string]string{"tide-a": "%GROUPS%\nsea\n\n", "tide-b": "", "sea": ""}
	dir := filepath.Join(h.site, "db")
	args := []string{"-C", filepath.Join(dir, "tree"), "-czf", filepath.Join(dir, "r.db")}
	for name, groups := range of {
		h.write(desc(name, "2.0-1", groups), dir, "tree", name+"-2.0-1", "desc")
		h.write(desc(name, "1.0-1", groups), h.root, "var/lib/pacman/local", name+"-1.0-1", "desc")
		args = append(args, name+"-2.0-1")
	}
	h.run(nil, "tar", args...)
	for _, c := range []struct{ conf, ignored, doubted string }{
		{"", "", ""},
		{"IgnoreGroup = sea\n", "tide-a", "sea tide-a tide-b"},
		{"IgnorePkg = sea\n", "sea", ""},
		{"IgnorePkg = tide-b\nIgnoreGroup = sea\n", "tide-a tide-b", "sea tide-a"},
	} {
		conf := "[options]\nArchitecture = x86_64\nSigLevel = Never\n" + c.conf + "[r]\nServer = file://" + dir + "\n"
		h.write(conf, h.root, "etc/pacman.conf")
		h.pacman("-Sy")
		said := h.pacman("-Qu")
		us, offers := h.read(t, survey.Machine{Arch: "x86_64"})
		require.Equal(t, c.doubted != "", us.Untold() != "", "%s: %s", c.conf, us.Untold())
		for name := range of {
			require.Contains(t, said, name+" 1.0-1 -> 2.0-1")
			ignored := strings.Contains(said, name+" 1.0-1 -> 2.0-1 [ignored]")
			require.Equal(t, slices.Contains(strings.Fields(c.ignored), name), ignored, "%s\n%s", c.conf, said)
			got := us.Choose("arch", name, offers[name], "1.0-1")
			doubted := strings.Contains(got.Why, "is not known")
			require.Equal(t, slices.Contains(strings.Fields(c.doubted), name), doubted, "%s: %s", name, got.Why)
			require.Equal(t, doubted, got.Untold != "", name)
			require.Equal(t, ignored && !doubted, got.Stays, "%s: %s", name, got.Why)
			fresh := us.Choose("arch", name, offers[name], "")
			require.Empty(t, fresh.Untold, "what is asked for by its name is taken")
		}
	}
}

// What is installed stays where something holds it, and is said to get no more where nothing
// offers it.
func TestWhatIsInstalled(t *testing.T) {
	p := func(n int) *int { return &n }
	s := &source.Survey{
		Traits:  source.Traits{Architectures: []string{"x86_64"}},
		Sources: []source.Source{{Family: "rpm", ID: "a", Enabled: true, EffURLs: []string{"http://a/"}, Priority: p(99), Position: 1}},
		Holds:   []source.Hold{{Family: "rpm", Kind: source.HoldLock, What: "held-0:1-1.*", File: "/etc/dnf/plugins/versionlock.list"}},
	}
	h := choice.Of(s)
	offer := func(name, version string) []choice.Offered {
		o := choice.Offered{}
		o.Name, o.Version, o.Arch = name, version, "x86_64"
		return []choice.Offered{o}
	}
	for _, x := range []struct {
		name, offered, installed string
		stays                    bool
		why                      string
	}{
		{"free", "2-1", "", false, "the highest version of the sources of priority 99"},
		{"free", "2-1", "1-1", false, "the highest version of the sources of priority 99"},
		{"free", "2-1", "2-1", true, "what is installed is as new, or newer"},
		{"free", "2-1", "3-1", true, "what is installed is newer than what the sources of priority 99 offer, and is not put back by an upgrade"},
		{"held", "2-1", "1-1", true, "every version that is offered is locked away by /etc/dnf/plugins/versionlock.list, and the installed one gets no more updates"},
		{"held", "1-1", "0-1", false, "the highest version of the sources of priority 99"},
		{"held", "1-1", "", false, "the highest version of the sources of priority 99"},
		{"gone", "", "1-1", true, "no source that counts offers it, and the installed one gets no more updates"},
		{"gone", "", "", false, "no source that counts offers it"},
	} {
		var offers []choice.Offered
		if x.offered != "" {
			offers = offer(x.name, x.offered)
		}
		c := h.Choose("rpm", x.name, offers, x.installed)
		require.Equal(t, []any{x.stays, x.why}, []any{c.Stays, c.Why}, x)
	}
}
