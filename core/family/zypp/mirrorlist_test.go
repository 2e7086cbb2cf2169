package zypp_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// A list of mirrors is one to zypper whatever its repository is called: by what stands in its URL zypper tells metalinks.
func TestAListOfMirrorsOfAnyName(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	for _, name := range []string{"fulmar", "metalink", "metalinks-of-fulmar", "a-metalink"} {
		d := family.Definition{Repository: name, Enabled: true, Mirrors: []string{"https://north.fulmar.example/zypp"}, Signatures: source.CheckRequired}
		files, src, _, err := zypp.Render(d)
		require.NoError(t, err)
		tree := map[string]string{"etc/zypp/zypp.conf": "[main]\n"}
		for _, f := range files {
			tree[f.Path[1:]] = f.Text
		}
		root := t.TempDir()
		require.NoError(t, cell.Write(root, tree))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return zypp.Read(root, family.Host{Arch: "x86_64"}) })
		require.NoError(t, err)
		require.Len(t, r.Sources, 1, name)
		assert.Equal(t, src.Mirrorlist, r.Sources[0].Mirrorlist, name)
		assert.Empty(t, r.Sources[0].Metalink, name)
		said, err := theirs(c, root)
		require.NoError(t, err)
		assert.False(t, said.Refused, name)
		a, err := c.Run(root, "/usr/bin/zypper", "--xmlout", "--no-refresh", "lr", "-d")
		require.NoError(t, err)
		assert.Contains(t, a.Out, `mirrorlist="file:`, name)
		assert.NotContains(t, a.Out, `metalink="file:`, name)
	}
}
