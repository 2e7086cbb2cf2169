package deb_test

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// preferences draws a file of preferences, odd on purpose.
func preferences(t *rapid.T) string {
	record := rapid.Custom(func(t *rapid.T) string {
		lines := []string{
			rapid.SampledFrom([]string{"Package: *", "Package: *", "Package: *", "Package: tern", "Package: tern gannet", "Package: /^ter/", "package: *", "Package:", "Explanation: why"}).Draw(t, "package"),
			rapid.SampledFrom([]string{"Pin: release o=Saltmarsh", "Pin: release n=mussel", "Pin: release a=limpet,l=Salt", "Pin: origin \"\"", "pin: Release o=Heron", "Pin: release  n=limpet", "Pin: version 1*", "Pin: nonsense x", "Pin: release o=Salt*"}).Draw(t, "pin"),
			rapid.SampledFrom([]string{"Pin-Priority: 900", "Pin-Priority: 100", "Pin-Priority: -1", "Pin-Priority: 1001", "Pin-Priority: 1001 ", "Pin-Priority: 77x", "Pin-Priority: 0", "Pin-Priority: x", "Pin-Priority: 40000", "Pin-Priority: -32768", "# comment"}).Draw(t, "priority"),
		}
		if rapid.IntRange(0, 9).Draw(t, "short") == 0 {
			lines = lines[:rapid.IntRange(1, 2).Draw(t, "lines")]
		}
		return strings.Join(lines, "\n") + "\n"
	})
	return strings.Join(rapid.SliceOfN(record, 1, 3).Draw(t, "records"), "\n")
}

var policyRow = regexp.MustCompile(`^ *(-?\d+) file:/repo/(\w+) (\w+)/main`)

// What apt-cache policy says of each suite follows from the pins that we read, the first
// that matches; and it refuses what we say that it refuses.
func TestPinsAreThoseOfTheRealPolicy(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	releases := []source.Release{
		{URL: "file:/repo/one/", Suite: "mussel", Origin: "Saltmarsh", Label: "Salt", Archive: "mussel", Codename: "mussel"},
		{URL: "file:/repo/two/", Suite: "limpet", Origin: "Heron", Label: "Salt", Archive: "limpet", Codename: "limpet"},
	}
	base, n := t.TempDir(), 0
	rapid.Check(t, func(rt *rapid.T) {
		tree := map[string]string{"etc/apt/apt.conf.d/00arch": "APT::Architecture \"amd64\"; APT::Architectures {\"amd64\";};\n", "var/lib/dpkg/status": ""}
		for _, r := range releases {
			name := strings.ReplaceAll(strings.TrimPrefix(r.URL, "file:"), "/", "_") + "dists_" + r.Suite
			tree["etc/apt/sources.list"] += fmt.Sprintf("deb [trusted=yes] %s %s main\n", strings.TrimSuffix(r.URL, "/"), r.Suite)
			tree["var/lib/apt/lists/"+name+"_Release"] = fmt.Sprintf("Origin: %s\nLabel: %s\nSuite: %s\nCodename: %s\nDate: Wed, 25 Nov 2026 00:00:00 UTC\nComponents: main\nArchitectures: amd64\n", r.Origin, r.Label, r.Archive, r.Codename)
			tree["var/lib/apt/lists/"+name+"_main_binary-amd64_Packages"] = "Package: tern\nVersion: 1\nArchitecture: amd64\nFilename: x\nSize: 1\nDescription: x\n\n"
		}
		var drawn strings.Builder
		for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"preferences", "preferences.d/10x", "preferences.d/20y.pref", "preferences.d/30z.bak", "preferences.d/.hidden"}), 1, 3, rapid.ID[string]).Draw(rt, "files") {
			tree["etc/apt/"+name] = cell.Slips(rt, preferences(rt))
			fmt.Fprintf(&drawn, "%s: %q\n", name, tree["etc/apt/"+name])
		}
		n++
		root := filepath.Join(base, fmt.Sprint(n))
		require.NoError(rt, cell.Write(root, tree))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return deb.Read(root, []string{"amd64"}) })
		require.NoError(rt, err)
		a, err := c.Run(root, "/usr/bin/apt-cache", "policy")
		require.NoError(rt, err)
		if refused := a.Code != 0; refused != r.Refused() {
			rt.Fatalf("apt refuses: %v %s\nwe say: %v %v\n%s", refused, a.Err, r.Refused(), r.Problems, drawn.String())
		} else if refused {
			return
		}
		for _, rel := range releases {
			want := deb.Natural(rel)
			for _, p := range r.Pins {
				local := p.Pin == `origin ""` // what stands on this host
				if p.Valid && len(p.Packages) == 1 && p.Packages[0] == "*" && (local || deb.PinMatches(p.Pin, rel)) {
					want = p.Priority
					break
				}
			}
			for line := range strings.Lines(a.Out) {
				if m := policyRow.FindStringSubmatch(line); m != nil && m[3] == rel.Suite && strings.Contains(rel.URL, m[2]) {
					if got, _ := strconv.Atoi(m[1]); got != want {
						rt.Fatalf("%s: apt-cache policy says %d, by the pins it is %d\npins %+v\n%s\n%s", rel.Suite, got, want, r.Pins, drawn.String(), a.Out)
					}
				}
			}
		}
	})
}
