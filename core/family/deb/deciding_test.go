package deb_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

// The files of dpkg's folder that we read are those that dpkg reads: it names the one in which
// it meets an option that it does not know.
func TestTheFilesThatDpkgReads(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	rapid.Check(t, func(rt *rapid.T) {
		name := rapid.StringMatching(`[a-zA-Z0-9._~+-]{1,8}`).Draw(rt, "name")
		if name == "." || name == ".." {
			return
		}
		root := t.TempDir()
		require.NoError(t, cell.Write(root, map[string]string{
			"etc/dpkg/dpkg.cfg.d/" + name: "force-overwrite\nno-such-option\n", "var/lib/dpkg/status": "", "etc/apt/sources.list": "",
		}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return deb.Read(root, []string{"amd64"}) })
		require.NoError(t, err)
		a, err := c.Run(root, "/usr/bin/dpkg", "--force-help")
		require.NoError(t, err)
		if read := strings.Contains(a.Err, name+":2:"); read != (len(r.Deciding) == 1) {
			rt.Fatalf("dpkg reads %q: %v (%s), we say %v", name, read, a.Err, r.Deciding)
		}
	})
}
