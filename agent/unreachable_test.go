package agent

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// nobody is an address at which nobody listens.
const nobody = "http://127.0.0.1:9/"

// quieting are a host whose one source cannot be had, by family: where TEXT stands, one of the lines is
// put that may keep its package manager from saying so; where ALL stands, or in the main file, one for all.
var quieting = map[string]struct {
	files map[string]string
	file  string // that holds the source
	lines []string
	main  string   // where settings for all sources stand
	above string   // stands before them there
	all   []string // such settings
}{
	source.FamilyRpm: {
		map[string]string{"etc/os-release": "ID=foreland\nID_LIKE=fedora\nVERSION_ID=9\n", "etc/yum.repos.d/tern.repo": "[tern]\nname=Tern\nbaseurl=" + nobody + "tern\nTEXT\n"},
		"/etc/yum.repos.d/tern.repo",
		[]string{"", "skip_if_unavailable=1", "skip_if_unavailable=True", "metadata_expire=never", "enabled_metadata=0", "retries=0", "timeout=1", "cost=5", "type=rpm-md"},
		"etc/dnf/dnf.conf", "[main]\n",
		[]string{"skip_if_unavailable=1", "cacheonly=1", "metadata_timer_sync=0", "strict=0", "errorlevel=0", "debuglevel=0"},
	},
	source.FamilyZypp: {
		map[string]string{"etc/os-release": "ID=halyard\nID_LIKE=suse\nVERSION_ID=15.3\n", "etc/zypp/repos.d/tern.repo": "[tern]\nname=Tern\nbaseurl=" + nobody + "tern\nenabled=1\nTEXT\n"},
		"/etc/zypp/repos.d/tern.repo",
		[]string{"", "autorefresh=0", "autorefresh=1", "keeppackages=1", "type=rpm-md", "type=plaindir", "priority=200", "skip_if_unavailable=1"},
		"etc/zypp/zypp.conf", "[main]\n",
		[]string{"repo.refresh.delay = 9999", "download.connect_timeout = 1", "commit.downloadMode = DownloadOnly"},
	},
	source.FamilyArch: {
		map[string]string{"etc/os-release": "ID=driftwood\nID_LIKE=arch\n", "etc/pacman.conf": "[options]\nArchitecture = x86_64\nSigLevel = Never\nALL\n[tern]\nServer = " + nobody + "tern\nTEXT\n"},
		"/etc/pacman.conf",
		[]string{"", "Usage = All", "Usage = Sync", "Usage = Search", "Usage = Install Upgrade", "SigLevel = Optional"},
		"", "", []string{"ParallelDownloads = 3", "IgnorePkg = tern"},
	},
	source.FamilyDeb: {
		map[string]string{"etc/os-release": "ID=skerry\nID_LIKE=debian\n", "etc/apt/sources.list.d/tern.sources": "Types: deb\nURIs: " + nobody + "tern\nSuites: mussel\nComponents: main\nTEXT\n", "var/lib/dpkg/status": ""},
		"/etc/apt/sources.list.d/tern.sources",
		[]string{"", "Trusted: yes", "Allow-Insecure: yes", "Check-Valid-Until: no", "By-Hash: force", "PDiffs: no", "Languages: none", "Targets: Sources", "Targets: none"},
		"etc/apt/apt.conf", "",
		[]string{`Acquire::Languages "none";`, `Acquire::AllowInsecureRepositories "1";`, `APT::Update::Error-Mode "persistent";`, `Acquire::Queue-Mode "access";`},
	},
}

// A source that cannot be had is never told of as one that was refreshed, whatever else its package
// manager is told.
func TestASourceThatCannotBeHadIsNotRefreshed(t *testing.T) {
	for family, c := range quieting {
		var cases [][2]string
		for _, line := range c.lines {
			cases = append(cases, [2]string{line, ""})
		}
		for _, line := range c.all {
			cases = append(cases, [2]string{"", line})
		}
		for i, lines := range cases {
			t.Run(fmt.Sprintf("%s %d", family, i), func(t *testing.T) { // the name is one of the root, and dnf takes no comma there
				t.Parallel()
				root := t.TempDir()
				tree := map[string]string{}
				for name, text := range c.files {
					tree[name] = strings.NewReplacer("TEXT\n", lines[0]+"\n", "ALL\n", lines[1]+"\n").Replace(text)
				}
				if c.main != "" && lines[1] != "" {
					tree[c.main] = c.above + lines[1] + "\n"
				}
				require.NoError(t, cell.Write(root, tree))
				h, err := OpenHost(root)
				require.NoError(t, err)
				defer h.Close()
				sheet := &source.Sheet{Family: family, Files: []source.SheetFile{{Path: c.file}}}
				is := h.surveyFor(sheet)
				m, err := h.manager(family)
				require.NoError(t, err)
				_, out, err := m.refresh(context.Background(), asked{sheet: sheet, survey: &is, at: time.Now(), scratch: h.statePath("watch")})
				if err != nil {
					return // which is told
				}
				quiet := family == source.FamilyArch && (strings.Contains(lines[0], "Search") || strings.Contains(lines[0], "Install"))
				assert.Equal(t, quiet, len(out) == 0, "what pacman does not fetch is told of as not looked at, and nothing else is")
				for _, o := range out {
					assert.False(t, o.OK, "with %q it is told of as %+v", lines, o)
				}
			})
		}
	}
}

// dnf takes a comma for the end of a path, and goes on with the repositories of the machine.
func TestARootThatDnfCannotBeLedToIsSaid(t *testing.T) {
	root := filepath.Join(t.TempDir(), "gw-01,gw-02")
	require.NoError(t, cell.Write(root, quieting[source.FamilyRpm].files))
	h, err := OpenHost(root)
	require.NoError(t, err)
	defer h.Close()
	sheet := &source.Sheet{Family: source.FamilyRpm, Files: []source.SheetFile{{Path: "/etc/yum.repos.d/tern.repo"}}}
	is := h.surveyFor(sheet)
	_, _, err = dnf{h}.refresh(context.Background(), asked{sheet: sheet, survey: &is, at: time.Now(), scratch: h.statePath("watch")})
	require.ErrorContains(t, err, "it takes a comma for the end of a path")
}

func TestARemoteThatCannotBeHadIsNotRefreshed(t *testing.T) {
	for _, line := range []string{
		"", "xa.noenumerate=true", "xa.nodeps=true", "xa.prio=0", "gpg-verify=false", "xa.title=Tern", "xa.default-branch=stable", "xa.main-ref=app/a/x86_64/b",
	} {
		t.Run(line, func(t *testing.T) {
			t.Parallel()
			h, err := OpenHost(t.TempDir())
			require.NoError(t, err)
			defer h.Close()
			sheet := &source.Sheet{Sources: []source.SheetSource{{Family: source.FamilyFlatpak, ID: "tern", URLs: []string{nobody}, Enabled: true}}}
			text := "[core]\nrepo_version=1\nmode=bare-user-only\n\n[remote \"tern\"]\nurl=" + nobody + "\n" + line + "\n"
			out, err := flatpakTool{h}.ask(context.Background(), []byte(text), sheet, true)
			require.NoError(t, err)
			require.Len(t, out, 1)
			assert.False(t, out[0].OK, "%+v", out)
		})
	}
}
