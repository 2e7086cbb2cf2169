package survey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
)

// aMirror is the only line of the lists in these tests: nobody answers there.
const aMirror = "http://127.0.0.1:9/mirror"

// lister is a package manager that is asked to refresh a source which has its mirrors from a file.
type lister struct {
	tree func(ref string) map[string]string
	ask  []string
	refs []string
}

var spellings = []string{
	"file:///srv/list", "file:/srv/list", "FILE:///srv/list", "File:///srv/li%73t", "file://localhost/srv/list", "file://LocalHost/srv/list",
	"file://127.0.0.1/srv/list", "file://other/srv/list", "file:////srv/list", "file:///srv//list", "file:///srv/./list", "file:///srv/x/../list",
	"file:///srv/list?x=y", "file:///srv/list#x", "/srv/list", "/srv/li%73t", "/srv/li%2573t", "dir:///srv/list", "dir:/srv/list", "DIR:/srv/list",
	"file:///srv/a%20list", "file:///srv/100%", "file:///srv/%zzlist", "file:///srv/%2e%2e/srv/list", "file:srv/list", "srv/list", "file://srv/list",
}

var listers = map[string]lister{
	"dnf": {
		func(ref string) map[string]string {
			return map[string]string{"etc/yum.repos.d/a.repo": "[a]\nname=a\nenabled=1\nmirrorlist=" + ref + "\n", "etc/dnf/dnf.conf": "[main]\n", "var/lib/rpm/": ""}
		},
		[]string{"/usr/bin/dnf", "--noplugins", "--setopt=retries=1", "--setopt=timeout=3", "--releasever=9", "makecache"}, spellings,
	},
	"zypper": {
		func(ref string) map[string]string {
			return map[string]string{
				"etc/zypp/repos.d/a.repo": "[a]\nname=a\nenabled=1\ntype=rpm-md\nmirrorlist=" + ref + "\n", "etc/zypp/zypp.conf": "[main]\n",
				"etc/products.d/x.prod": "<product><name>x</name><version>1</version></product>", "etc/alternatives/awk": "-> /usr/bin/mawk", "var/lib/rpm/": "",
			}
		},
		[]string{"/usr/bin/zypper", "--non-interactive", "refresh", "a"}, spellings,
	},
	"apt": {
		func(ref string) map[string]string {
			return map[string]string{
				"etc/apt/sources.list": "deb [trusted=yes] " + ref + " ./\n", "var/lib/dpkg/status": "", "var/lib/apt/lists/partial/": "", "var/cache/apt/archives/partial/": "",
			}
		},
		[]string{"/usr/bin/apt-get", "-o", "APT::Sandbox::User=root", "-o", "Acquire::Retries=0", "update"},
		[]string{
			"mirror+file:/srv/list", "mirror+copy:/srv/list", "mirror+file:///srv/list", "mirror+copy:///srv/list", "mirror+file:/srv/li%73t", "mirror+copy:/srv/li%73t",
			"mirror+file:/srv//list/", "mirror+file:/srv/./list", "Mirror+File:/srv/list", "mirror+file://localhost/srv/list", "mirror+file:/srv/list?x", "mirror:/srv/list",
			// apt waits for ever for a list with a blank in its name.
		},
	},
}

// TestWhateverIsReadAsAListOfMirrorsIsToldOf: a list that a package manager finds is one that we find, however the
// source names it.
func TestWhateverIsReadAsAListOfMirrorsIsToldOf(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	read := map[string]int{}
	base, asked, n := t.TempDir(), cell.Share(8), 0
	for program, x := range listers {
		for i, ref := range x.refs {
			if i > 0 && !asked() {
				continue
			}
			n++
			root := filepath.Join(base, fmt.Sprint(n))
			require.NoError(t, cell.Write(root, x.tree(ref)))
			require.NoError(t, cell.Write(root, map[string]string{
				"srv/list": aMirror + "\n", "srv/a list": aMirror + "\n", "srv/100%": aMirror + "\n", "srv/%zzlist": aMirror + "\n", "srv/x/": "",
			}))
			told := tellsOf(t, root)
			a, err := c.Run(root, x.ask...)
			require.NoError(t, err)
			if strings.Contains(a.Out+a.Err, aMirror) {
				read[program]++
				assert.True(t, told, "%s finds its mirrors by %s, and we do not: %s", program, ref, a.Out+a.Err)
			}
		}
		require.Positive(t, read[program], "%s reads none of them", program)
	}
	t.Logf("read: %v", read)
}

// tellsOf reports whether a survey of a root tells of a list with that mirror.
func tellsOf(t *testing.T, root string) bool {
	t.Helper()
	dir, err := os.OpenRoot(root)
	require.NoError(t, err)
	defer dir.Close()
	r := survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()})
	r.Masked()
	for _, f := range r.Survey.Files {
		if strings.Join(f.Mirrors, " ") == aMirror {
			return true
		}
	}
	return false
}
