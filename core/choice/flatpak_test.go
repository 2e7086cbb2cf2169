package choice_test

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/survey"
)

// refs are what the remotes of the test offer, by their names.
var refs = map[string][]string{
	"one": {
		"app/test.brinewick.Sonar/x86_64/stable", "app/test.brinewick.Sonar/x86_64/beta", "app/test.brinewick.Charts/x86_64/stable",
		"app/test.brinewick.Tide/aarch64/stable", "app/test.brinewick.Tide/i386/stable", "runtime/test.brinewick.Base/x86_64/1",
		"runtime/test.brinewick.Base/x86_64/2", "app/test.brinewick.Buoy/x86_64/beta",
	},
	"two": {
		"app/test.brinewick.Sonar/x86_64/stable", "app/test.brinewick.Charts/x86_64/beta", "app/test.brinewick.Tide/x86_64/stable",
		"runtime/test.brinewick.Base/x86_64/2",
	},
	"three": {"app/test.brinewick.Charts/x86_64/stable", "app/test.brinewick.Charts/x86_64/beta", "app/test.brinewick.Buoy/i386/stable"},
}

// export writes a repository of refs.
func (h *host) export(name string, refs []string) {
	for _, ref := range refs {
		p := strings.Split(ref, "/")
		kind, more := "Application", fmt.Sprintf("sdk=test.brinewick.Base/%s/1\nruntime=test.brinewick.Base/%[1]s/1\n", p[2])
		args := []string{"build-export", "--no-update-summary", "--arch=" + p[2]}
		if p[0] == "runtime" {
			kind, more, args = "Runtime", "", append(args, "--runtime")
		}
		from := strings.ReplaceAll(ref, "/", "_")
		h.write(fmt.Sprintf("[%s]\nname=%s\n%s", kind, p[1], more), h.site, from, "metadata")
		for _, folder := range []string{"files", "export", "usr"} {
			h.write("", h.site, from, folder, ".keep")
		}
		h.run(nil, "flatpak", append(args, filepath.Join(h.site, name), filepath.Join(h.site, from), p[3])...)
	}
	h.run(nil, "flatpak", "build-update-repo", filepath.Join(h.site, name))
}

var proposed = regexp.MustCompile(`(?m)^ 1\..*\s(\S+)\s+(\S+)\s+i\s+(\S+)\s+`)

// installs asks flatpak what it would install by a name: BRANCH REMOTE, "asks", or nothing.
func (h *host) installs(t *rapid.T, name string) string {
	c := exec.Command("flatpak", "install", "--system", "--no-deps", "--no-related", name)
	c.Env = append(h.flatpak(), "PATH=/usr/bin:/bin", "LC_ALL=C")
	c.Stdin = strings.NewReader("n\n")
	out, err := c.CombinedOutput()
	text := string(out)
	switch m := proposed.FindStringSubmatch(text); {
	case m != nil && m[1] == name:
		return m[2] + " " + m[3]
	case strings.Contains(text, "Which do you want to use"):
		return "asks"
	case strings.Contains(text, "No remote refs found"):
		return ""
	}
	t.Fatalf("flatpak says of %s (%v): %s", name, err, text)
	return ""
}

func (h *host) flatpak() []string {
	return []string{
		"FLATPAK_SYSTEM_DIR=" + filepath.Join(h.root, "var/lib/flatpak"), "FLATPAK_SYSTEM_CACHE_DIR=" + filepath.Join(h.site, "cache"),
		"FLATPAK_CONFIG_DIR=" + filepath.Join(h.root, "etc/flatpak"), "HOME=" + h.site, "XDG_DATA_HOME=" + filepath.Join(h.site, "data"),
	}
}

// What flatpak would install by a name is what we say is taken.
func TestFlatpaksChoice(t *testing.T) {
	h := newHost(t, "etc/flatpak/remotes.d", "var/lib/flatpak/repo/objects")
	h.write("ID=skerry\nID_LIKE=debian\n", h.root, "etc/os-release")
	for name, list := range refs {
		h.export(name, list)
	}
	glob := rapid.SampledFrom([]string{
		"*", "test.brinewick.*", "test.brinewick.Sonar", "app/test.brinewick.Charts", "runtime/*", "*//beta", "*/x86_64", "*/*/stable", "*/i386/*",
		"test.brinewick.Tide/x86_64/stable", "*Buoy*", "*/", "TEST.*",
	})
	few(t, func(rt *rapid.T) {
		conf := "[core]\nrepo_version=1\nmode=bare-user-only\n"
		if rapid.Bool().Draw(rt, "mask") {
			conf += "xa.masked=" + glob.Draw(rt, "masked") + ";\n"
		}
		for name := range refs {
			if rapid.IntRange(0, 3).Draw(rt, name) == 0 {
				continue
			}
			conf += fmt.Sprintf("\n[remote %q]\nurl=file://%s\ngpg-verify=false\ngpg-verify-summary=false\n", name, filepath.Join(h.site, name))
			conf += rapid.SampledFrom([]string{"", "", "", "xa.prio=2\n", "xa.prio=0\n", "xa.disable=true\n", "xa.noenumerate=true\n", "xa.nodeps=true\n"}).
				Draw(rt, "option")
			conf += rapid.SampledFrom([]string{"", "", "xa.default-branch=stable\n", "xa.default-branch=beta\n", "xa.default-branch=2\n"}).Draw(rt, "branch")
			if rapid.IntRange(0, 2).Draw(rt, "filtered") > 0 {
				continue
			}
			filter := filepath.Join(h.site, name+".filter")
			text := "# what is let through\n"
			for range rapid.IntRange(0, 3).Draw(rt, "lines") {
				text += rapid.SampledFrom([]string{"deny ", "deny ", "allow "}).Draw(rt, "word") + glob.Draw(rt, "glob") + "\n"
			}
			h.write(text, filter)
			h.write(text, h.root, filter)
			conf += "xa.filter=" + filter + "\n"
		}
		h.write(conf, h.root, "var/lib/flatpak/repo/config")
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		for _, app := range []string{"Sonar", "Charts", "Tide", "Buoy", "Base", "Gone"} {
			name := "test.brinewick." + app
			c := us.Choose("flatpak", name, offers[name], "")
			got := ""
			switch {
			case c.Taken != nil:
				got = c.Taken.Version + " " + us.Uses[c.Taken.Use].ID
			case strings.HasPrefix(c.Why, "flatpak asks"):
				got = "asks"
			}
			if want := h.installs(rt, name); want != got {
				rt.Fatalf("%s: flatpak takes %q, we say %q (%s)\n%s\n%+v", name, want, got, c.Why, conf, c.Offers)
			}
		}
	})
}
