package deb_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/keyforms"
)

// What apt 3.0 with sqv and apt 3.2 with gpgv have said of a key file in each form, under each name,
// in the folder of trusted keys and where a source names it: they are not on the machine that tests.
func TestKeysAreUsedAsAptsWithoutAptKeyUsedThem(t *testing.T) {
	t.Parallel()
	said, err := os.ReadFile("testdata/keyways.txt")
	require.NoError(t, err)
	line := regexp.MustCompile(`^(sqv|gpgv) by=(true|false) name="(.*)" form=(.*): (true|false)$`)
	bin, err := signers()[0].key.Binary()
	require.NoError(t, err)
	armour, err := signers()[0].key.Public()
	require.NoError(t, err)
	n := 0
	for text := range strings.Lines(string(said)) {
		f := line.FindStringSubmatch(strings.TrimSpace(text))
		require.NotNil(t, f, text)
		way, named, ext, form := f[1], f[2] == "true", f[3], f[4]
		at, source := "etc/apt/trusted.gpg.d/0"+ext, "deb file:/repo/0 mussel main\n"
		if named {
			at, source = "etc/apt/keyrings/0"+ext, "deb [signed-by=/etc/apt/keyrings/0"+ext+"] file:/repo/0 mussel main\n"
		}
		root := t.TempDir()
		require.NoError(t, cell.Write(root, map[string]string{
			at: keyforms.Write(form, bin, armour), "etc/apt/sources.list": source, "usr/lib/apt/methods/gpgv": "", "var/lib/dpkg/status": "",
		}))
		if way == "sqv" {
			require.NoError(t, cell.Write(root, map[string]string{"usr/lib/apt/methods/sqv": ""}))
		}
		used := false
		for _, k := range deb.Read(rootfs.New(os.DirFS(root)), []string{"amd64"}).Keys {
			used = used || k.Used
		}
		assert.Equal(t, f[5] == "true", used, text)
		n++
	}
	assert.Greater(t, n, 300)
}

// One file that cannot be read takes others along, where sqv is asked for them together.
func TestAKeyFileThatSQVCannotReadTakesOthersAlong(t *testing.T) {
	t.Parallel()
	good := func(i int) string {
		armour, err := signers()[i].key.Public()
		require.NoError(t, err)
		return armour
	}
	const key, folder = "etc/apt/keyrings/", "etc/apt/trusted.gpg.d/"
	for does, x := range map[string]struct {
		tree map[string]string
		used int
	}{
		"none is broken":               {map[string]string{folder + "a.asc": good(0), folder + "b.asc": good(1)}, 2},
		"one of the folder is broken":  {map[string]string{folder + "a.asc": good(0), folder + "b.gpg": "\x99nonsense"}, 0},
		"one of the folder is no key":  {map[string]string{folder + "a.asc": good(0), folder + "b.gpg": "nonsense"}, 1},
		"one that a source names":      {map[string]string{key + "a": good(0), key + "b": "nonsense", "etc/apt/sources.list": "deb [signed-by=/etc/apt/keyrings/a,/etc/apt/keyrings/b] http://h.example/ x y\n"}, 0},
		"one that a source names lost": {map[string]string{key + "a": good(0), "etc/apt/sources.list": "deb [signed-by=/etc/apt/keyrings/a,/etc/apt/keyrings/b] http://h.example/ x y\n"}, 0},
		"another source names it alone": {map[string]string{key + "a": good(0), key + "b": "nonsense",
			"etc/apt/sources.list": "deb [signed-by=/etc/apt/keyrings/a,/etc/apt/keyrings/b] http://h.example/ x y\ndeb [signed-by=/etc/apt/keyrings/a] http://g.example/ x y\n"}, 1},
		"one of the folder that a source names is read alone": {map[string]string{folder + "a.asc": good(0), folder + "b.gpg": "\x99nonsense",
			"etc/apt/sources.list": "deb [signed-by=/etc/apt/trusted.gpg.d/a.asc] http://h.example/ x y\n"}, 1},
		"one of the folder in another form, which a source names": {map[string]string{folder + "a.gpg": good(0),
			"etc/apt/sources.list": "deb [signed-by=/etc/apt/trusted.gpg.d/a.gpg] http://h.example/ x y\n"}, 1},
		"trusted.gpg is not asked": {map[string]string{"etc/apt/trusted.gpg": good(0)}, 0},
	} {
		root := t.TempDir()
		require.NoError(t, cell.Write(root, x.tree))
		require.NoError(t, cell.Write(root, map[string]string{"usr/lib/apt/methods/sqv": "", "var/lib/dpkg/status": ""}))
		used := 0
		for _, k := range deb.Read(rootfs.New(os.DirFS(root)), []string{"amd64"}).Keys {
			if k.Used {
				used++
			} else {
				assert.NotEmpty(t, k.UnusedBecause, does)
			}
		}
		assert.Equal(t, x.used, used, does)
	}
}

// Where apt calls gpgv itself, a file of the folder that only a source can use is not used where the
// source's other file is missing; one that the folder uses too stays.
func TestAMissingKeyFileTakesOthersAlongForGPGV(t *testing.T) {
	t.Parallel()
	armour, err := signers()[0].key.Public()
	require.NoError(t, err)
	for name, used := range map[string]bool{"etc/apt/trusted.gpg.d/a@b.asc": false, "etc/apt/trusted.gpg.d/a.asc": true} {
		root := t.TempDir()
		require.NoError(t, cell.Write(root, map[string]string{
			name: armour, "usr/lib/apt/methods/gpgv": "", "var/lib/dpkg/status": "",
			"etc/apt/sources.list": "deb [signed-by=/" + name + ",/etc/apt/keyrings/lost.asc] http://h.example/ x y\n",
		}))
		keys := deb.Read(rootfs.New(os.DirFS(root)), []string{"amd64"}).Keys
		require.Len(t, keys, 1, name)
		assert.Equal(t, used, keys[0].Used, name)
	}
}
