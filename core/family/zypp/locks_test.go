package zypp_test

import (
	"encoding/xml"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

// Locks and services are those that the real zypper lists.
func TestLocksAndServicesAreThoseOfTheRealZypper(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	base, n := t.TempDir(), 0
	rapid.Check(t, func(rt *rapid.T) {
		var locks, services strings.Builder
		for i := range rapid.IntRange(0, 3).Draw(rt, "locks") {
			fmt.Fprintf(&locks, "%s\ntype: %s\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: %s%d\n%s", rapid.SampledFrom([]string{"", "\n# why\n", ""}).Draw(rt, "lead"),
				rapid.SampledFrom([]string{"package", "patch", "pattern"}).Draw(rt, "type"), rapid.SampledFrom([]string{"tern*", "gull", "skua-"}).Draw(rt, "what"), i,
				rapid.SampledFrom([]string{"", "repo: a\n"}).Draw(rt, "repo"))
		}
		for i := range rapid.IntRange(0, 3).Draw(rt, "services") {
			fmt.Fprintf(&services, "[s%d]\nname=S\nurl=%s\n%s%s\n", i, rapid.SampledFrom([]string{"http://Saltmarsh.example/svc", "https://h.example/x/", "plugin:ours"}).Draw(rt, "url"),
				rapid.SampledFrom([]string{"", "enabled=1\n", "enabled=0\n", "enabled=yes\n", "enabled=maybe\n"}).Draw(rt, "enabled"), rapid.SampledFrom([]string{"", "type=ris\n", "type=RIS\n", "type=none\n", "type=plugin\n", "type=\n"}).Draw(rt, "kind"))
		}
		n++
		root := filepath.Join(base, fmt.Sprint(n))
		require.NoError(rt, cell.Write(root, map[string]string{"etc/zypp/zypp.conf": "[main]\n", "etc/zypp/locks": locks.String(), "etc/zypp/services.d/s.service": services.String(),
			"etc/zypp/repos.d/a.repo": "[a]\nbaseurl=http://h.example/x\n"}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return zypp.Read(root, family.Host{Arch: "x86_64"}) })
		require.NoError(rt, err)
		if strings.Contains(services.String(), "type=\n") {
			a, err := c.Run(root, "/usr/bin/zypper", "--no-refresh", "ls")
			require.NoError(rt, err)
			assert.NotZero(rt, a.Code)
			assert.True(rt, r.Refused())
			return
		}
		a, err := c.Run(root, "/usr/bin/zypper", "--xmlout", "ll")
		require.NoError(rt, err)
		var said struct {
			Locks []struct {
				Name string `xml:"name"`
				Repo string `xml:"repo"`
			} `xml:"locks>lock"`
			Services []struct {
				Alias   string `xml:"alias,attr"`
				Enabled int    `xml:"enabled,attr"`
				URL     string `xml:"url,attr"`
				Type    string `xml:"type,attr"`
			} `xml:"service-list>service"`
		}
		require.NoError(rt, xml.Unmarshal([]byte(a.Out), &said), a.Out)
		a, err = c.Run(root, "/usr/bin/zypper", "--no-refresh", "--xmlout", "ls")
		require.NoError(rt, err)
		if a.Code == 0 {
			require.NoError(rt, xml.Unmarshal([]byte(a.Out), &said), a.Out)
		}
		var want, got []string
		for _, l := range said.Locks {
			want = append(want, "lock "+l.Name+" "+l.Repo)
		}
		for _, s := range said.Services {
			want = append(want, fmt.Sprintf("service %s %d %s %s", s.Alias, s.Enabled, s.URL, strings.Replace(s.Type, "N/A", "NONE", 1))) // newer ones say it otherwise
		}
		for _, h := range r.Holds {
			got = append(got, "lock "+h.What+" "+h.Source)
		}
		for _, s := range r.Services {
			got = append(got, fmt.Sprintf("service %s %d %s %s", s.ID, flag(s.Enabled), s.URL, s.Type))
		}
		slices.Sort(want)
		slices.Sort(got)
		assert.Equal(rt, want, got, "%s\n%s", locks.String(), services.String())
	})
}

// What an empty name comes to beside others, as zypper was asked: nothing beside a name of every kind, and everything beside
// those that say a kind or a version.
func TestAnEmptyNameInALock(t *testing.T) {
	for text, want := range map[string][]string{
		"solvable_name: \nsolvable_name: tide-b\n":                              {"tide-b"},
		"solvable_name: \nsolvable_name: pattern:tide\n":                        {"tide", "*"},
		"solvable_name: \nsolvable_name: tide >= 1.45\n":                        {"tide", "*"},
		"solvable_name: \nsolvable_name: pattern:tide\nsolvable_name: tide-b\n": {"tide", "tide-b"},
		"solvable_name: \n":                                                              {"*"},
		"solvable_name: pattern:tide\n":                                                  {"tide"},
		"query_string: tide-b\nsolvable_name: pattern:tide\n":                            {"tide"},
		"query_string: tide-b\nsolvable_name: \nsolvable_name: pattern:tide\n":           {"tide", "tide-b"},
		"solvable_provides: tide-b\nsolvable_name: \nsolvable_name: pattern:tide\n":      {"*", "*"},
		"type: pattern\nmatch_type: exact\nsolvable_name: \nsolvable_name: patch:tide\n": {"tide", "*"},
		// A line without a key ends a lock, a remark at the front does not.
		"solvable_name: tide-a\nx=y\nversion: > 1\n":                 {"tide-a", "*"},
		"solvable_name: tide-a\n # why\nsolvable_name: tide-b\n":     {"tide-a", "tide-b"},
		"solvable_name: tide-a\n# why\nsolvable_provides: tide-b\n":  {"*"},
		"solvable_name: tide-a\n# so: why\nsolvable_name: tide-b\n":  {"tide-a", "tide-b"},
		"solvable_name: tide-a\n # so: why\nsolvable_name: tide-b\n": {"tide-a", "tide-b"},
		": tide-a\n": {"*"},
	} {
		root := rootfs.New(fstest.MapFS{
			"etc/zypp/zypp.conf": {Data: []byte("[main]\n")}, "etc/zypp/locks": {Data: []byte("match_type: glob\n" + text)},
			"etc/zypp/repos.d/a.repo": {Data: []byte("[a]\nbaseurl=http://h.example/x\n")},
		})
		var got []string
		for _, h := range zypp.Read(root, family.Host{Arch: "x86_64"}).Holds {
			got = append(got, h.What)
		}
		assert.Equal(t, want, got, text)
	}
}
