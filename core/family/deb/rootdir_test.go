package deb_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

// Below RootDir apt looks for all that it reads after its configuration, and for dpkg's table of processors, without which it
// does nothing.
func TestEverythingStandsBelowRootDir(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	const inner, table = "deb http://inner.skerry.example/x mussel main\n", "usr/share/dpkg/cputable"
	for _, conf := range []string{
		`RootDir "/srv";`, `RootDir "/srv/";`, `rootdir "/srv";`, `RootDir "/";`, `RootDir "";`, `RootDir "/srv"; Dir "/d";`, `RootDir "/nowhere";`,
		`RootDir "/srv"; Dir::Etc::sourcelist "/etc/apt/other.list";`, `RootDir "/srv"; Dir::Etc::sourcelist "/dev/null";`,
		`RootDir "/srv"; #clear RootDir;`, `Dir::dpkg::cputable "/nowhere";`, `Dir::dpkg::cputable "tupletable";`, `Dir::dpkg "/nowhere";`,
	} {
		root := t.TempDir()
		require.NoError(t, cell.Write(root, map[string]string{
			"etc/apt/apt.conf.d/50local": conf + "\n", "etc/apt/sources.list": "deb http://outer.skerry.example/x mussel main\n",
			"srv/etc/apt/sources.list": inner, "srv/etc/apt/other.list": strings.Replace(inner, "inner", "other", 1), "srv/d/etc/apt/sources.list": inner,
			"srv/" + table: "amd64 x86_64 (amd64|x86_64) 64 little\n", "srv/usr/share/dpkg/tupletable": "base-gnu-linux-<cpu> <cpu>\n", "srv/var/lib/dpkg/status": "",
			"srv/etc/apt/sources.list.d/": "", "srv/d/etc/apt/sources.list.d/": "", "srv/var/lib/apt/lists/partial/": "", "srv/d/var/lib/apt/lists/partial/": "",
			table: "", // where the machine's own is bound for apt
		}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return deb.Read(root, []string{"amd64"}) })
		require.NoError(t, err)
		a, err := c.Run(root, "/usr/bin/apt-get", "indextargets", "--no-release-info", "--format", "$(IDENTIFIER) $(SITE)")
		require.NoError(t, err)
		require.Equal(t, a.Code != 0, r.Refused(), "%s: %s\n%+v", conf, a.Err, r.Problems)
		if r.Refused() {
			continue
		}
		var sites, asked []string
		for line := range strings.Lines(a.Out) {
			if site, is := strings.CutPrefix(line, "Packages "); is {
				asked = append(asked, site)
			}
		}
		for _, s := range r.Sources {
			if s.Enabled {
				sites = append(sites, strings.TrimSuffix(s.EffURLs[0], "/")+"\n")
			}
		}
		assert.Equal(t, slices.Compact(asked), sites, conf)
	}
}
