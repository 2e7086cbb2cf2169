package survey_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// outline writes sources on one line each: where, what, whether it is in force
// and at which place, what is checked.
func outline(list []source.Source) string {
	var out strings.Builder
	for _, s := range list {
		state := fmt.Sprintf("no. %d", s.Position)
		if !s.Enabled {
			state = s.DisabledBy
		}
		priority := "-"
		if s.Priority != nil {
			priority = fmt.Sprint(*s.Priority)
		}
		fmt.Fprintf(&out, "%s %s:%d %s (%s) %s; %s; %s/%s; %s\n", s.Family, s.File[strings.LastIndexByte(s.File, '/')+1:], s.Line, s.ID, s.Name, strings.Join(s.EffURLs, " "), state, s.Checks.Packages, s.Checks.Metadata, priority)
	}
	return out.String()
}

func TestWhatStandsInTheFilesOfEachFamily(t *testing.T) {
	for _, c := range []struct {
		name     string
		files    map[string]string
		want     string
		problems []string
	}{
		{"dnf sorts by priority and cost, and keeps the first of two", map[string]string{
			"etc/dnf/dnf.conf":          "[main]\ngpgcheck=1\n[inconf]\nbaseurl=/srv/x\ncost=5\n",
			"etc/yum.repos.d/b.repo":    "[b]\nname=B $arch\nbaseurl=http://b/$releasever\npriority=5\n[inconf]\nbaseurl=http://again/\n",
			"etc/yum.repos.d/a.repo":    "[a]\nbaseurl=http://a/\n[off]\nbaseurl=http://off/\nenabled=no\ngpgcheck=0\nrepo_gpgcheck=1\n#[old]\n#baseurl=http://old/\n",
			"etc/yum.repos.d/z.repo.bk": "[z]\nbaseurl=http://z/\n",
			"etc/yum.repos.d/bad.repo":  "[c]\nbaseurl=http://c/\n[broken\n",
			"etc/yum/vars/releasever":   "9\n",
		}, `rpm dnf.conf:3 inconf (inconf) file:///srv/x; no. 2; required/off; 99
rpm a.repo:1 a (a) http://a/; no. 3; required/off; 99
rpm a.repo:3 off (off) http://off/; flag; off/required; 99
rpm a.repo:8 old (old) http://old/; comment; required/off; 99
rpm b.repo:1 b (B $arch) http://b/9; no. 1; required/off; 5
rpm b.repo:5 inconf (inconf) http://again/; duplicate; required/off; 99
rpm bad.repo:1 c (c) http://c/; invalid; required/off; 99
rpm z.repo.bk:1 z (z) http://z/; filename; required/off; 99
`, []string{"/etc/yum.repos.d/b.repo:5 false", "/etc/yum.repos.d/bad.repo:3 false"}},
		{"zypper sorts by alias, and zypp.conf speaks where the repository does not", map[string]string{
			"etc/zypp/zypp.conf":       "[main]\ngpgcheck = off\npkg_gpgcheck = on\n",
			"etc/zypp/repos.d/x.repo":  "[b]\nbaseurl=HTTP://B.Example\n  http://c.example/${series}\n[a]\nname=A $series\nbaseurl=dir:///srv\ngpgcheck=1\npriority=0x10\nenabled=never\n[lost]\nservice=gone\nbaseurl=http://lost/\n",
			"etc/zypp/vars.d/series":   "9.x\nmore\n",
			"etc/zypp/repos.d/y.repo~": "[y]\nbaseurl=http://y/\n",
		}, `zypp x.repo:4 a (A 9.x) dir:/srv; flag; required/required; 16
zypp x.repo:1 b (b) http://b.example/ http://c.example/9.x; no. 1; required/off; 99
zypp x.repo:10 lost (lost) http://lost/; invalid; required/off; 99
zypp y.repo~:1 y (y) http://y/; filename; required/off; 99
`, []string{"/etc/zypp/repos.d/x.repo:10 false"}},
		{"pacman goes on through includes", map[string]string{
			"etc/pacman.conf":     "[options]\nSigLevel = Never\n[core]\nInclude = /etc/pacman.d/*.conf\nServer = http://behind/\n[core]\nServer = http://twice/\n[options]\nArchitecture = x86_64_v3 x86_64\n",
			"etc/pacman.d/1.conf": "Server = http://m/$repo/$arch/\n[extra]\nSigLevel = DatabaseRequired\n",
		}, `arch pacman.conf:3 core (core) http://m/core/x86_64_v3; no. 1; off/off; -
arch 1.conf:2 extra (extra) http://behind; no. 2; off/required; -
arch pacman.conf:6 core (core) http://twice; duplicate; off/off; -
`, []string{"/etc/pacman.conf:6 false"}},
		{"flatpak looks at definitions that it has not taken over yet", map[string]string{
			"var/lib/flatpak/repo/config":            "[core]\nrepo_version=1\nxa.applied-remotes=gone;\n[remote \"low\"]\nurl=https://low/\nxa.prio=0\n[remote \"off\"]\nurl=\ngpg-verify=false\n",
			"etc/flatpak/remotes.d/new.flatpakrepo":  "[Flatpak Repo]\nUrl=https://new/\nTitle=New\n",
			"etc/flatpak/remotes.d/low.flatpakrepo":  "[Flatpak Repo]\nUrl=https://other/\n",
			"etc/flatpak/remotes.d/gone.flatpakrepo": "[Flatpak Repo]\nUrl=https://gone/\n",
		}, `flatpak config:4 low () https://low/; no. 2; required/off; 0
flatpak config:7 off () ; flag; off/off; 1
flatpak gone.flatpakrepo:1 gone () https://gone/; invalid; off/off; 1
flatpak low.flatpakrepo:1 low () https://other/; duplicate; off/off; 1
flatpak new.flatpakrepo:1 new (New) https://new/; no. 1; off/off; 1
`, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := fstest.MapFS{}
			for name, text := range c.files {
				root[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
			}
			s := survey.Read(rootfs.New(root), survey.Machine{}).Survey
			assert.Equal(t, c.want, outline(s.Sources))
			var problems []string
			for _, p := range s.Problems {
				problems = append(problems, fmt.Sprintf("%s:%d %v", p.File, p.Line, p.Fatal))
			}
			assert.Equal(t, c.problems, problems)
		})
	}
}

func TestOwnersAndToolsComeFromTheDatabaseThatIsThere(t *testing.T) {
	root := fstest.MapFS{}
	for name, text := range map[string]string{
		"etc/os-release":                       "ID=driftwood\nID_LIKE=arch\nBUILD_ID=rolling\n",
		"etc/pacman.conf":                      "[options]\nArchitecture = x86_64_v3 x86_64\nDBPath = /srv/db\n[core]\nInclude = /etc/pacman.d/mirrorlist\n[own]\nServer = http://own/\n",
		"etc/pacman.d/mirrorlist":              "Server = http://m/\n",
		"srv/db/local/pacman-6.0.2-8/files":    "%FILES%\netc/\netc/pacman.conf\n",
		"srv/db/local/flatpak-1.14.10-1/files": "%FILES%\nusr/\n",
		"proc/cpuinfo":                         "vendor_id\t: AuthenticAMD\nflags\t: fpu\n",
	} {
		root[name] = &fstest.MapFile{Data: []byte(text)}
	}
	s := survey.Read(rootfs.New(root), survey.Machine{}).Survey
	assert.Equal(t, "arch", s.Traits.Family)
	assert.Equal(t, "", s.Traits.OS.Version)
	assert.Equal(t, "x86_64", s.Traits.Arch)
	assert.Equal(t, []string{"x86_64_v3", "x86_64"}, s.Traits.Architectures)
	assert.Equal(t, map[string]string{"pacman": "6.0.2-8", "flatpak": "1.14.10-1"}, s.Traits.Tools)
	assert.Equal(t, source.CPU{Vendor: "AuthenticAMD"}, s.Traits.CPU)
	for _, src := range s.Sources {
		assert.Equal(t, "pacman", *src.Owner, src.ID)
	}
	delete(root, "srv/db/local/pacman-6.0.2-8/files")
	delete(root, "srv/db/local/flatpak-1.14.10-1/files")
	s = survey.Read(rootfs.New(root), survey.Machine{}).Survey
	assert.Nil(t, s.Sources[0].Owner, "no database can tell")
}
