package families_test

import (
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
)

// Each family reads what is its own under its own name, from a root on which all of them stand.
func TestEveryFamilyReadsItsOwn(t *testing.T) {
	root := rootfs.New(fstest.MapFS{
		"etc/apt/sources.list":             {Data: []byte("deb http://archive.skerry.example/skerry mussel main\n")},
		"etc/yum.repos.d/base.repo":        {Data: []byte("[foreland-base]\nname=x\nbaseurl=http://archive.foreland.example/base\n")},
		"etc/zypp/repos.d/oss.repo":        {Data: []byte("[halyard-oss]\nname=x\nenabled=1\nbaseurl=http://archive.halyard.example/oss\n")},
		"etc/pacman.conf":                  {Data: []byte("[options]\n[driftwood]\nServer = http://archive.driftwood.example/$repo/os/$arch\n")},
		"var/lib/flatpak/repo/config":      {Data: []byte("[core]\nrepo_version=1\n\n[remote \"curlew\"]\nurl=http://apps.curlew.example/repo\n")},
		"var/lib/flatpak/repo/objects/.is": {Data: nil},
	})
	host := family.Host{Arch: "x86_64", Architectures: []string{"amd64"}, Release: "9", OSRelease: "9"}
	var names []string
	for r := range families.Readings(root, host) {
		names = append(names, r.Family)
		require.NotEmpty(t, r.Sources, r.Family)
		for _, s := range r.Sources {
			assert.Equal(t, r.Family, s.Family, s.File)
		}
	}
	assert.Equal(t, []string{"deb", "rpm", "zypp", "arch", "flatpak"}, names)
	for _, f := range families.All() {
		again, known := families.Of(f.Name())
		require.True(t, known)
		assert.Equal(t, f.Program(), again.Program())
		assert.NotEmpty(t, f.Watched(), f.Name())
		assert.Equal(t, f.Name() != "flatpak", f.Owns())
		assert.Equal(t, f.Name() == "rpm" || f.Name() == "zypp", families.FirstOfName(f.Name()))
		for _, dir := range f.Watched() {
			assert.True(t, slices.Contains(families.Watched(), dir), dir)
		}
	}
}

func TestWhatIsUnknownIsCalledByItsName(t *testing.T) {
	_, known := families.Of("apk")
	assert.False(t, known)
	assert.Equal(t, []string{"apt", "dnf", "apk", "the package manager"},
		[]string{families.Program("deb"), families.Program("rpm"), families.Program("apk"), families.Program("")})
	bare := slices.Collect(families.Readings(rootfs.New(fstest.MapFS{}), family.Host{}))
	require.Len(t, bare, 1, "of an empty root only apt's form is looked for")
	assert.Empty(t, bare[0].Sources)
}
