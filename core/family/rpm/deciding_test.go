package rpm_test

import (
	"strings"
	"testing"

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
