package choice_test

import (
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/core/upstream"
)

// host is a root and the repositories that its sources name, as folders.
type host struct {
	*testing.T
	root string
	site string
}

func newHost(t *testing.T, folders ...string) *host {
	h := &host{t, t.TempDir(), t.TempDir()}
	for _, f := range folders {
		require.NoError(t, os.MkdirAll(filepath.Join(h.root, f), 0o755))
	}
	return h
}

func (h *host) write(text string, parts ...string) {
	p := filepath.Join(parts...)
	require.NoError(h, os.MkdirAll(filepath.Dir(p), 0o755))
	require.NoError(h, os.WriteFile(p, []byte(text), 0o644))
}

func (h *host) run(env []string, program string, args ...string) string {
	c := exec.Command(program, args...)
	c.Env = append([]string{"PATH=/usr/bin:/bin:/usr/sbin:/sbin", "LC_ALL=C", "HOME=" + h.site}, env...)
	out, err := c.CombinedOutput()
	require.NoError(h, err, "%s %v: %s", program, args, out)
	return string(out)
}

// apt is what stands in dpkg's status of this machine's apt, which is asked, and its version.
func (h *host) apt() (status, version string) {
	_, version, _ = strings.Cut(strings.TrimSpace(h.run(nil, "dpkg-query", "-W", "apt")), "\t")
	return "Package: apt\nStatus: install ok installed\nVersion: " + version + "\nArchitecture: amd64\nMaintainer: x\nDescription: x\n\n", version
}

// read is what we know of the host: its survey, and what each of its sources offers.
func (h *host) read(t rapid.TB, m survey.Machine) (*choice.Host, map[string][]choice.Offered) {
	dir, err := os.OpenRoot(h.root)
	require.NoError(t, err)
	defer dir.Close()
	read := survey.Read(rootfs.New(dir.FS()), m)
	s := &read.Survey
	out := choice.Of(s).With(map[string]*upstream.ReleaseFile{})
	offers := map[string][]choice.Offered{}
	open := func(url string) (io.ReadCloser, error) {
		f, err := os.Open("/" + strings.TrimLeft(strings.TrimPrefix(url, "file:"), "/"))
		if err != nil {
			return nil, &upstream.Refused{Kind: cause.Missing, Why: err.Error()}
		}
		return f, nil
	}
	for i, u := range out.Uses {
		found, err := upstream.Look(u.Source(), open, time.Now())
		require.NoError(t, err, u.Address())
		out.Releases[u.Key] = found.Release
		for _, p := range found.Packages {
			offers[p.Name] = append(offers[p.Name], choice.Offered{Package: p, Use: i})
		}
	}
	return out, offers
}

// packages are the names that are asked for together, so that a program starts once.
var packages = func() (out []string) {
	for i := range 16 {
		out = append(out, fmt.Sprintf("tide-%c", 'a'+i))
	}
	return out
}()

var versions = rapid.SampledFrom([]string{"1.0-1", "1.0-2", "1.1-1", "2.0-1", "2.0-1", "10.0-1"})

// offered draws what a repository offers of each name.
func offered(t *rapid.T, label string) (out []index.Package) {
	for i, name := range packages {
		if rapid.IntRange(0, 2).Draw(t, fmt.Sprint(label, i)) > 0 {
			out = append(out, index.Package{Name: name, Version: versions.Draw(t, fmt.Sprint(label, "v", i))})
		}
	}
	return out
}

// installed draws what the host has.
func installed(t *rapid.T) map[string]string {
	out := map[string]string{}
	for i, name := range packages {
		if rapid.IntRange(0, 2).Draw(t, fmt.Sprint("installed", i)) == 0 {
			out[name] = versions.Draw(t, fmt.Sprint("iv", i))
		}
	}
	return out
}

// What apt-cache policy says is the candidate is what we say is taken.
func TestAptsCandidate(t *testing.T) {
	h := newHost(
		t,
		"etc/apt/sources.list.d",
		"etc/apt/preferences.d",
		"etc/apt/apt.conf.d",
		"var/lib/apt/lists/partial",
		"var/cache/apt/archives/partial",
		"var/lib/dpkg",
	)
	h.write("ID=skerry\nID_LIKE=debian\n", h.root, "etc/os-release")
	h.write("amd64\n", h.root, "var/lib/dpkg/arch")
	h.write(fmt.Sprintf("Dir %q;\nAPT::Architecture \"amd64\";\nAPT::Architectures { \"amd64\"; };\nAPT::Sandbox::User \"root\";\n"+
		"Acquire::Languages \"none\";\nDir::State::status \"%s/var/lib/dpkg/status\";\n", h.root, h.root), h.root, "apt.conf")
	env := []string{"APT_CONFIG=" + filepath.Join(h.root, "apt.conf")}
	word := rapid.SampledFrom([]string{"Skerry", "Saltmarsh", "stable", "mussel"})
	apt, _ := h.apt()
	number := rapid.SampledFrom([]int{-1, 1, 100, 101, 400, 500, 500, 501, 900, 990, 999, 1000, 1001})
	few(t, func(rt *rapid.T) {
		sources := ""
		first := map[string]string{} // what the first source that offers a package in a version says of it
		for i := range rapid.IntRange(1, 3).Draw(rt, "repositories") {
			dir := filepath.Join(h.site, fmt.Sprint("apt", i))
			list := ""
			for _, p := range offered(rt, fmt.Sprint("r", i)) {
				relations := rapid.SampledFrom([]string{"", "", "", "Breaks: libc6 (<= 2)\n", "Breaks: libc6 (< 2 )\n", "Multi-Arch: same\n", "Suggests: tern\n"}).
					Draw(rt, "relations")
				if _, met := first[p.Name+p.Version]; !met {
					first[p.Name+p.Version] = relations
				}
				list += fmt.Sprintf(
					"Package: %s\nVersion: %s\nArchitecture: amd64\nSource: %s\nMaintainer: x\nFilename: ./%d/%s\nSize: %d\n%sSHA256: %s\nDescription: x\n\n",
					p.Name,
					p.Version,
					[]string{p.Name, "harbour", "harbour (7)"}[i],
					i,
					p.Name,
					rapid.SampledFrom([]int{1, 1, 1, 2}).Draw(rt, "size"),
					relations,
					strings.Repeat(rapid.SampledFrom([]string{"0", "1"}).Draw(rt, "sum"), 64),
				)
			}
			h.write(list, dir, "dists/stable/main/binary-amd64/Packages")
			release := fmt.Sprintf(
				"Origin: %s\nLabel: %s\nSuite: %s\nCodename: %s\nDate: %s\n",
				word.Draw(rt, "o"),
				word.Draw(rt, "l"),
				word.Draw(rt, "a"),
				word.Draw(rt, "n"),
				time.Now().Add(-time.Hour).UTC().Format(time.RFC1123),
			)
			switch rapid.IntRange(0, 5).Draw(rt, "kind") {
			case 0:
				release += "NotAutomatic: yes\n"
			case 1:
				release += "NotAutomatic: yes\nButAutomaticUpgrades: yes\n"
			}
			sum := strings.Fields(h.run(nil, "sha256sum", filepath.Join(dir, "dists/stable/main/binary-amd64/Packages")))[0]
			h.write(
				fmt.Sprintf(
					"%sArchitectures: amd64\nComponents: main\nSHA256:\n %s %d main/binary-amd64/Packages\n",
					release,
					sum,
					len(list),
				),
				dir,
				"dists/stable/Release",
			)
			sources += "deb [trusted=yes] file:" + dir + " stable main\n"
		}
		h.write(sources, h.root, "etc/apt/sources.list")
		have := installed(rt)
		status := apt
		for _, name := range packages {
			if v := have[name]; v != "" {
				status += fmt.Sprintf(
					"Package: %s\nStatus: install ok installed\nVersion: %s\nArchitecture: amd64\nMaintainer: x\n%sDescription: x\n\n",
					name,
					v,
					first[name+v],
				)
			}
		}
		h.write(status, h.root, "var/lib/dpkg/status")
		pins := ""
		for range rapid.IntRange(0, 4).Draw(rt, "pins") {
			pins += fmt.Sprintf(
				"Package: %s\nPin: %s\nPin-Priority: %d\n\n",
				rapid.SampledFrom([]string{"*", "*", "tide-a tide-b", "tide-[a-d]", "tide-*", "/tide-[e-h]/", "tide-c:amd64", "tide-c:any", "src:tide-a", "Tide-D", "src:harbour"}).
					Draw(rt, "package"),
				rapid.SampledFrom([]string{"release o=Skerry", "release l=Saltmarsh", "release a=stable", "release n=mussel", "release o=Skerry,a=stable", "version 1.*", "version 2.0-1", `origin ""`, "release a=now"}).
					Draw(rt, "pin"),
				number.Draw(rt, "priority"),
			)
		}
		h.write(pins, h.root, "etc/apt/preferences")
		conf := ""
		if rapid.IntRange(0, 3).Draw(rt, "default") == 0 {
			conf = "APT::Default-Release \"" + word.Draw(rt, "release") + "\";\n"
		}
		h.write(conf, h.root, "etc/apt/apt.conf.d/10default")
		require.NoError(rt, os.RemoveAll(filepath.Join(h.root, "var/lib/apt/lists")))
		require.NoError(rt, os.MkdirAll(filepath.Join(h.root, "var/lib/apt/lists/partial"), 0o755))
		_ = os.Remove(filepath.Join(h.root, "var/cache/apt/pkgcache.bin"))
		_ = os.Remove(filepath.Join(h.root, "var/cache/apt/srcpkgcache.bin"))
		h.run(env, "apt-get", "-o", "APT::Default-Release=", "update")
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		if c := us.Choose("deb", packages[0], offers[packages[0]], ""); strings.HasPrefix(c.Why, "apt refuses") {
			ask := exec.Command("apt-cache", "policy", packages[0])
			ask.Env = append(env, "PATH=/usr/bin:/bin", "LC_ALL=C")
			out, err := ask.CombinedOutput()
			require.Error(rt, err, "%s: %s", c.Why, out)
			return
		}
		theirs := candidates(h.run(env, "apt-cache", append([]string{"policy"}, packages...)...))
		places := fetched(h.run(env, "apt-get", append([]string{"install", "--print-uris", "-y", "-qq", "--allow-downgrades"}, slices.Sorted(maps.Keys(theirs))...)...))
		for _, name := range packages {
			c := us.Choose("deb", name, offers[name], have[name])
			got := have[name]
			if c.Taken != nil {
				got = c.Taken.Version
			}
			if c.Taken == nil && !c.Stays || strings.HasPrefix(c.Why, "no version has") {
				got = ""
			}
			from := ""
			if c.Taken != nil && !c.Stays {
				from = c.Taken.From
			}
			another := from == "" && strings.Contains(c.Why, "is installed is not known")
			if want := theirs[name]; want != got || !another && !strings.HasPrefix(places[name], from) || from == "" && places[name] != "" && !another {
				rt.Fatalf(
					"%s: apt takes %q from %q, we say %q from %q (%s)\nhas %q\npins:\n%s\n%s%s\n%+v\n%s",
					name,
					want,
					places[name],
					got,
					from,
					c.Why,
					have[name],
					pins,
					conf,
					sources,
					c.Offers,
					h.run(env, "apt-cache", "policy", name),
				)
			}
		}
	})
}

func candidates(out string) map[string]string {
	found, name := map[string]string{}, ""
	for line := range strings.Lines(out) {
		if !strings.HasPrefix(line, " ") {
			name = strings.TrimSuffix(strings.TrimSpace(line), ":")
		}
		if v, ok := strings.CutPrefix(line, "  Candidate: "); ok && strings.TrimSpace(v) != "(none)" {
			found[name] = strings.TrimSpace(v)
		}
	}
	return found
}

// fetched are the addresses that apt would get packages from, by their names.
func fetched(out string) map[string]string {
	found := map[string]string{}
	for line := range strings.Lines(out) {
		if url, _, ok := strings.Cut(strings.TrimPrefix(line, "'"), "' "); ok {
			found[path.Base(url)] = url
		}
	}
	return found
}

// primary writes an rpm-md repository.
func (h *host) primary(dir string, list []index.Package) {
	text := fmt.Sprintf(
		`<metadata xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm" packages="%d">`,
		len(list),
	)
	for _, p := range list {
		v, r, _ := strings.Cut(p.Version, "-")
		text += fmt.Sprintf(
			`<package type="rpm"><name>%s</name><arch>%s</arch><version epoch="0" ver="%s" rel="%s"/><checksum type="sha256" pkgid="YES">%064x</checksum>`+
				`<summary>x</summary><description>x</description><packager/><url/><time file="1" build="1"/><size package="1" installed="0" archive="0"/>`+
				`<location href="%s.rpm"/><format><rpm:license>x</rpm:license><rpm:provides><rpm:entry name="%s" flags="EQ" epoch="0" ver="%s" rel="%s"/>`+
				`</rpm:provides></format></package>`,
			p.Name,
			p.Arch,
			v,
			r,
			len(text),
			p.Name+p.Version+p.Arch,
			p.Name,
			v,
			r,
		)
	}
	text += "</metadata>"
	require.NoError(h, os.RemoveAll(dir))
	h.write(text, dir, "repodata/primary.xml")
	sum := strings.Fields(h.run(nil, "sha256sum", filepath.Join(dir, "repodata/primary.xml")))[0]
	h.write(
		fmt.Sprintf(
			`<repomd xmlns="http://linux.duke.edu/metadata/repo"><revision>%d</revision><data type="primary"><checksum type="sha256">%s</checksum>`+
				`<location href="repodata/primary.xml"/><size>%d</size></data></repomd>`,
			time.Now().UnixNano(),
			sum,
			len(text),
		),
		dir,
		"repodata/repomd.xml",
	)
}

// architectures gives each package one. Of noarch, i686 and x86_64 together zypper's order is a
// circle, and which of them it shows is left open.
func architectures(t *rapid.T, label string, list []index.Package, of []string) []index.Package {
	for i := range list {
		list[i].Arch = rapid.SampledFrom(of).Draw(t, fmt.Sprint(label, "arch", i))
	}
	return list
}

const dnfScript = `
import json, os, sys
lib = "/usr/local/lib/lantern-tests/dnf-plugins-core/usr/lib/python3/dist-packages" # scripts/need unpacks it
sys.path.append(lib)
import dnf
root, names = sys.argv[1], sys.argv[2:]
base = dnf.Base()
c = base.conf
c.read(filename=root + "/etc/dnf/dnf.conf")
c.installroot, c.cachedir, c.persistdir, c.reposdir, c.gpgcheck = root, root + "/cache", root + "/persist", [root + "/etc/yum.repos.d"], False
c.substitutions["releasever"], c.substitutions["basearch"], c.substitutions["arch"] = "9", "x86_64", "x86_64"
c.pluginconfpath, c.pluginpath = [root + "/etc/dnf/plugins"], [lib + "/dnf-plugins"]
locks = c.plugins and os.path.exists(root + "/etc/dnf/plugins/versionlock.conf")
base.init_plugins(disabled_glob=["*"], enable_plugins=["versionlock"] if locks else [])
base.pre_configure_plugins()
base.read_all_repos()
base.configure_plugins()
assert not locks or [p.name for p in base._plugins.plugins] == ["versionlock"], "scripts/need brings dnf's plugin for version locks"
base.fill_sack()
out = {}
for n in names:
    base.reset(goal=True)
    try:
        base.install(n)
        base.resolve()
        for t in base.transaction.install_set:
            if t.name == n:
                out[n] = "%s-%s %s" % (t.version, t.release, t.reponame)
    except Exception as e:
        out[n] = ""
print(json.dumps(out))
`

// What dnf would install is what we say is taken.
func TestDNFsChoice(t *testing.T) {
	h := newHost(t, "etc/yum.repos.d", "etc/dnf", "usr/lib/sysimage/rpm")
	h.write("ID=foreland\nID_LIKE=\"rhel fedora\"\nVERSION_ID=9\n", h.root, "etc/os-release")
	script := filepath.Join(h.site, "ask.py")
	h.write(dnfScript, script)
	few(t, func(rt *rapid.T) {
		repos := ""
		for i := range rapid.IntRange(1, 3).Draw(rt, "repositories") {
			dir := filepath.Join(h.site, fmt.Sprint("rpm", i))
			h.primary(
				dir,
				architectures(
					rt,
					fmt.Sprint("r", i),
					offered(rt, fmt.Sprint("r", i)),
					[]string{"x86_64", "noarch", "x86_64", "i686", "aarch64"},
				),
			)
			repos += fmt.Sprintf("[r%d]\nname=x\nbaseurl=file://%s\ngpgcheck=0\nmetadata_expire=1\n", i, dir)
			if p := rapid.SampledFrom([]int{0, 10, 50, 99, 99}).Draw(rt, "priority"); p > 0 {
				repos += fmt.Sprintf("priority=%d\n", p)
			}
			repos += held(rt)
		}
		h.write(repos, h.root, "etc/yum.repos.d/x.repo")
		plugins := rapid.SampledFrom([]string{"", "", "", "", "plugins=1\n", "plugins=0\n", "plugins = False\n"}).Draw(rt, "plugins")
		h.write("[main]\ngpgcheck=0\nreposdir="+h.root+"/etc/yum.repos.d\n"+plugins+held(rt), h.root, "etc/dnf/dnf.conf")
		require.NoError(rt, os.RemoveAll(filepath.Join(h.root, "cache")))
		locks := ""
		for range rapid.IntRange(0, 4).Draw(rt, "locks") {
			locks += versionLock(rt) + "\n"
		}
		h.write(locks, h.root, "etc/dnf/plugins/versionlock.list")
		h.write("[main]\nenabled=1\nlocklist="+h.root+"/etc/dnf/plugins/versionlock.list\n", h.root, "etc/dnf/plugins/versionlock.conf")
		theirs := parsed(rt, h.run(nil, "/usr/bin/python3", append([]string{script, h.root}, packages...)...))
		h.write("[main]\nenabled=1\n", h.root, "etc/dnf/plugins/versionlock.conf")
		h.write(
			"[main]\ngpgcheck=0\n"+strings.TrimPrefix(
				fileText(h, "etc/dnf/dnf.conf"),
				"[main]\ngpgcheck=0\nreposdir="+h.root+"/etc/yum.repos.d\n",
			),
			h.root,
			"etc/dnf/dnf.conf",
		)
		us, offers := h.read(rt, survey.Machine{Arch: "x86_64"})
		takes(rt, us, "rpm", offers, theirs, repos+fileText(h, "etc/dnf/dnf.conf")+locks)
	})
}

// versionLock draws a line of dnf's version locks, as the plugin writes it or as somebody may have written it.
func versionLock(t *rapid.T) string {
	name := rapid.SampledFrom([]string{"tide-a", "tide-b", "tide-c", "tide-[a-e]", "tide-*", "tide", "other"}).Draw(t, "name")
	rest := rapid.SampledFrom([]string{
		"-0:1.0-1.*", "-0:1.0-1.x86_64", "-1:1.0-1.*", "-1.0-1", "-1.0", "-1.0*", "-2*", "-0:2.0-*.*", "-*-1.noarch", "", ".noarch", "-1.0-2.i686", "-00:1.0-1", "-1.*-*",
	}).Draw(t, "version")
	return rapid.SampledFrom([]string{"", "", "", "!", "# "}).Draw(t, "sign") + name + rest
}
