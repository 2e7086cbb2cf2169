package choice_test

import (
	"encoding/json"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
)

// What dnf 5.4.6 would install of tide-a under version locks that were drawn at random (testdata/dnf5locks.py).
func TestDNF5LocksVersions(t *testing.T) {
	text, err := os.ReadFile("testdata/dnf5locks.json")
	require.NoError(t, err)
	var said []struct{ Lock, Takes string }
	require.NoError(t, json.Unmarshal(text, &said))
	require.NotEmpty(t, said)
	root := t.TempDir()
	require.NoError(t, cell.Write(root, map[string]string{
		"etc/os-release":                   "ID=foreland\nID_LIKE=\"rhel fedora\"\nVERSION_ID=9\n",
		"usr/bin/dnf5":                     "",
		"etc/yum.repos.d/r.repo":           "[r]\nname=r\nbaseurl=http://packages.saltmarsh.example/r\n",
		"etc/dnf/plugins/versionlock.list": "tide-a-0:1.0-1.*\n", // of older ones alone
	}))
	var offers []choice.Offered
	for _, v := range []string{"1.0-1", "1.0-2", "2.0-1", "1:1.0-1"} {
		for _, arch := range []string{"x86_64", "noarch", "i686"} {
			offers = append(offers, choice.Offered{Package: index.Package{Name: "tide-a", Version: v, Arch: arch}})
		}
	}
	dir, err := os.OpenRoot(root)
	require.NoError(t, err)
	defer dir.Close()
	more := map[string][]byte{"/etc/yum.repos.d/more.repo": []byte("[more]\nname=more\nbaseurl=http://packages.saltmarsh.example/more\n")}
	for _, x := range said {
		require.NoError(t, cell.Write(root, map[string]string{"etc/dnf/versionlock.toml": x.Lock}))
		is := survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()})
		require.Len(t, is.Survey.Sources, 1)
		after, ok := choice.After(&is.Survey, is.Texts, more)
		require.True(t, ok, "its files tell what decides on it")
		for _, h := range []*choice.Host{choice.Of(&is.Survey), after} {
			c := h.Choose("rpm", "tide-a", offers, "")
			got := ""
			if c.Taken != nil {
				got = c.Taken.Version + "." + c.Taken.Arch
			}
			assert.Equal(t, x.Takes, got, "%s\n%s", x.Lock, c.Why)
		}
	}
}
