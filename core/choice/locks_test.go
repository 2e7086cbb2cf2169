package choice_test

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/survey"
)

var (
	lockNames = []string{
		"tide-a", "tide-b", "tide-*", "ide-a", "TIDE-a", "tide", "t.*-a$", "", "*", "tide-a >= 1.45", "tide-b=1.44-1", "pattern:tide-a",
		"tide-a tide-b", "tide-[a]", "[",
	}
	lockVersions = []string{"", ">= 1.45", "> 1.45", "<1.45", "<= 1.44.2", "== 1.45", "= 1.44-1", "1.45", "!= 1.45", "=> 1.45", "> ", "junk", ">= 0:1.45-1"}
	zypperTakes  = regexp.MustCompile(`<solvable [^>]*name="([^"]*)"[^>]*edition="([^"]*)"`)
)

// lockText draws a lock as zypper writes it, as somebody may have written it, or of anything.
func lockText(t *rapid.T) string {
	lines := []string{}
	some := func(key string, of ...string) {
		if v := rapid.SampledFrom(of).Draw(t, key); v != "-" {
			lines = append(lines, key+": "+v)
		}
	}
	some("type", "-", "-", "package", "package", "Package", "pattern", "nothing", "")
	some("match_type", "-", "glob", "glob", "exact", "exact", "substring", "regex", "word", "Exact")
	some("case_sensitive", "-", "on", "on", "true", "off", "maybe")
	names := lockNames
	if slices.Contains(lines, "match_type: regex") { // one that cannot be read as an expression takes the whole lock with it
		names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == "*" || n == "[" })
	}
	switch rapid.IntRange(0, 9).Draw(t, "asks for") {
	case 0:
		some("query_string", names...)
	case 1:
		some("solvable_provides", "tide-a", "tide-b")
	case 2: // what no list of packages tells
		some("solvable_summary", "*", "x", "tide*", "nothing")
	default:
		for range rapid.IntRange(0, 2).Draw(t, "names") {
			some("solvable_name", names...)
		}
	}
	some("repo", "-", "-", "-", "r0", "r1", "nowhere")
	text := strings.Join(lines, "\n")
	if strings.Count(text, "solvable_name") < 2 || !strings.ContainsAny(text, "<>=") { // what several names with versions of their own come to is its own riddle
		some("version", append([]string{"-", "-", "-", "-", "-"}, lockVersions...)...)
	}
	some("install_status", "-", "-", "-", "-", "installed", "uninstalled", "all")
	if strings.Contains(text, "solvable_name: t") { // what a comment comes to where no name stands differs between releases
		some("comment", "-", "-", "why")
	}
	lines = rapid.Permutation(lines).Draw(t, "order")
	if !strings.Contains(text, "<") && !strings.Contains(text, ">") && !slices.ContainsFunc(lines, func(l string) bool { return strings.HasPrefix(l, "comment") }) {
		at := rapid.IntRange(0, len(lines)).Draw(t, "at")
		lines = slices.Insert(lines, at, rapid.SampledFrom([][]string{{}, {}, {"x=y"}, {" # why"}, {"\r"}, {"# why"}, {"# so: why"}, {": x"}}).Draw(t, "between")...)
	}
	return strings.Join(lines, "\n") + "\n"
}

// zypperTakes is the version that zypper would install of a package; empty where it would install none.
func (h *host) zypperTakes(t rapid.TB, name string) (version string) {
	cmd := exec.Command("zypper", "--root", h.root, "-n", "--no-gpg-checks", "--no-refresh", "--xmlout", "install", "--dry-run", name)
	cmd.Env = []string{"PATH=/usr/bin:/bin:/usr/sbin:/sbin", "LC_ALL=C", "HOME=" + h.site, "ZYPP_CONF=" + h.root + "/etc/zypp/zypp.conf"}
	out, err := cmd.CombinedOutput() // fails where nothing may be installed
	if text := string(out); !strings.Contains(text, "Resolving package dependencies") && !strings.Contains(text, "Rel parse") {
		t.Fatalf("zypper did not choose: %v\n%s", err, text) // it did not come as far as that
	}
	for _, m := range zypperTakes.FindAllStringSubmatch(string(out), -1) {
		if m[1] == name {
			version = m[2]
		}
	}
	return version
}

// What zypper would install under locks of any kind is what we say is taken.
func TestZyppersChoiceUnderLocks(t *testing.T) {
	h := newHost(t, "etc/zypp/repos.d", "usr/lib/sysimage/rpm", "var/cache/zypp")
	h.write("ID=halyard\nID_LIKE=suse\nVERSION_ID=15.3\n", h.root, "etc/os-release")
	repos := ""
	for i, versions := range [][]string{{"1.44-1", "1.44.2-1", "1.45-1"}, {"1.44-1", "1.44.2-1"}} {
		var list []index.Package
		for _, name := range []string{"tide-a", "tide-b"} {
			for _, v := range versions {
				list = append(list, index.Package{Name: name, Version: v, Arch: "x86_64"})
			}
		}
		dir := filepath.Join(h.site, fmt.Sprint("rpm", i))
		h.primary(dir, list)
		repos += fmt.Sprintf("[r%d]\nname=r%[1]d\nenabled=1\nbaseurl=file://%s\ngpgcheck=0\nautorefresh=1\n", i, dir)
	}
	h.write(repos, h.root, "etc/zypp/repos.d/x.repo")
	h.run(nil, "zypper", "--root", h.root, "-n", "--no-gpg-checks", "refresh")
	few(t, func(rt *rapid.T) {
		text := lockText(rt)
		if rapid.Bool().Draw(rt, "two") {
			text += "\n" + lockText(rt)
		}
		h.write(text, h.root, "etc/zypp/locks")
		apply := rapid.SampledFrom([]string{"", "", "", "locksfile.apply = yes\n", "locksfile.apply=no\n", "locksfile.apply = False\n"}).Draw(rt, "apply")
		h.write("[main]\n"+apply, h.root, "etc/zypp/zypp.conf")
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		for _, name := range []string{"tide-a", "tide-b"} {
			want := h.zypperTakes(rt, name)
			c := us.Choose("zypp", name, offers[name], "")
			got := ""
			if c.Taken != nil {
				got = c.Taken.Version
			}
			if doubted := strings.Contains(text, "solvable_summary") && c.Untold != ""; doubted {
				if us.Untold() == "" || !strings.Contains(c.Why, c.Untold) {
					rt.Fatalf("%s: it is not said that it is not known: %s", name, c.Why)
				}
				if want < got { // an older one, of a repository that the lock is not for, or none
					continue
				}
			}
			if want != got {
				rt.Fatalf("%s: zypper would install %q, we say %q\n%s\n%+v", name, want, got, text, us.Survey.Holds)
			}
		}
	})
}
