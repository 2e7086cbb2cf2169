package rpm_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

// rpm takes macros from files of these names and in these forms; so do we.
func TestTheMacrosThatRpmReads(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	for _, x := range []struct{ name, text string }{
		{"etc/rpm/macros", "%_pkgverify_level none\n"},
		{"etc/rpm/macros.local", "%_pkgverify_level none\n"},
		{"etc/rpm/macros.local", "  %_pkgverify_level\tnone\n"},
		{"etc/rpm/macros.local", "# %_pkgverify_level none\n"},
		{"etc/rpm/macros.local.disabled", "%_pkgverify_level none\n"},
		{"etc/rpm/macros.d/local", "%_pkgverify_level none\n"},
		{"etc/rpm/local.macros", "%_pkgverify_level none\n"},
		{"root/.rpmmacros", "%_pkgverify_level none\n"},
	} {
		root := t.TempDir()
		require.NoError(t, cell.Write(root, map[string]string{x.name: x.text, "etc/dnf/dnf.conf": "[main]\n"}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return rpm.Read(root, family.Host{}) })
		require.NoError(t, err)
		a, err := c.Run(root, "/usr/bin/rpm", "--eval", "%_pkgverify_level")
		require.NoError(t, err)
		took := strings.TrimSpace(a.Out) == "none"
		assert.Equal(t, took, len(r.Deciding) == 1 && len(r.Deciding[0].Weakening()) == 1, "%s: rpm says %q, we say %v", x.name, a.Out, r.Deciding)
	}
}

// What dnf makes of other words for its commands is what stands in the files that we read.
func TestTheAliasesThatDnfReads(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	for _, name := range []string{"own.conf", "USER.conf", "own.CONF", ".own.conf", "own.conf.disabled", "own"} {
		root := t.TempDir()
		require.NoError(t, cell.Write(root, map[string]string{
			"etc/dnf/aliases.d/" + name: "[aliases]\nin = install --nogpgcheck\n", "etc/dnf/dnf.conf": "[main]\n", "etc/os-release": "ID=foreland\nVERSION_ID=9\n",
		}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return rpm.Read(root, family.Host{}) })
		require.NoError(t, err)
		a, err := c.Run(root, "/usr/bin/dnf", "--releasever=9", "alias", "list")
		require.NoError(t, err)
		assert.Equal(t, strings.Contains(a.Out, "--nogpgcheck"), len(r.Deciding) == 1, "%s: dnf says %q %q, we say %v", name, a.Out, a.Err, r.Deciding)
	}
}

// Much that says nothing hides no line that takes a check away.
func TestTooMuchHidesNoDanger(t *testing.T) {
	root := fstest.MapFS{
		"etc/dnf/dnf.conf": {Data: []byte("[main]\n")},
		"etc/rpm/macros.x": {Data: []byte(strings.Repeat("%_dbpath /srv/x\n", 5_000) + "%_pkgverify_level none\n")},
	}
	for i := range 500 {
		root[fmt.Sprintf("etc/dnf/modules.d/%d.module", i)] = &fstest.MapFile{Data: []byte(strings.Repeat("stream=1\n", 150))}
	}
	r := rpm.Read(rootfs.New(root), family.Host{})
	told, weak := 0, []string(nil)
	for i := range r.Deciding {
		weak = append(weak, r.Deciding[i].Weakening()...)
		for _, l := range r.Deciding[i].Lines {
			told += len(l)
		}
	}
	assert.Equal(t, []string{"%_pkgverify_level none"}, weak)
	assert.Less(t, told, 512<<10)
	assert.Contains(t, fmt.Sprint(r.Problems), "say more than is told of a root")
}
