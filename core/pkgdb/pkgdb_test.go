package pkgdb_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/pkgdb"
	"patientlantern.example/lantern/core/rootfs"
)

const spec = `Name: plover-release
Version: 15.3
Release: 4
Summary: Plover
License: MIT
BuildArch: noarch
Provides: distribution-release = 15.3
Provides: system-release(releasever) = 15.3.9
Provides: plain-thing
%description
The release of Plover.
%install
mkdir -p %{buildroot}/etc/zypp/repos.d %{buildroot}/usr/share/plover
echo > %{buildroot}/etc/zypp/repos.d/plover.repo
echo > %{buildroot}/usr/share/plover/plover.repo
%files
/etc/zypp/repos.d/plover.repo
/usr/share/plover/plover.repo
`

// run runs a program and returns what it says.
func run(t *testing.T, argv ...string) string {
	t.Helper()
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s", argv, out)
	return strings.TrimSpace(string(out))
}

// installed makes a root whose rpm database holds the package of spec.
func installed(t *testing.T) (root, db string) {
	t.Helper()
	dir := t.TempDir()
	root, db = filepath.Join(dir, "root"), filepath.Join(dir, "root", "var/lib/rpm")
	require.NoError(t, os.MkdirAll(db, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.spec"), []byte(spec), 0o644))
	run(t, "rpmbuild", "--quiet", "--define", "_topdir "+dir, "-bb", filepath.Join(dir, "x.spec"))
	run(t, "rpm", "--dbpath", db, "--initdb")
	run(t, "rpm", "--dbpath", db, "--justdb", "--nodeps", "--ignorearch", "-i", filepath.Join(dir, "RPMS/noarch/plover-release-15.3-4.noarch.rpm"))
	return root, db
}

func TestTheDatabaseIsReadAsRPMReadsIt(t *testing.T) {
	dir, db := installed(t)
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	r, err := pkgdb.OpenRPM(rootfs.New(root.FS()))
	require.NoError(t, err)
	defer r.Close()
	list, err := r.Find("Name", "plover-release")
	require.NoError(t, err)
	require.Len(t, list, 1)
	p := list[0]
	assert.Equal(t, run(t, "rpm", "--dbpath", db, "-q", "--qf", "%{NAME} %{VERSION}-%{RELEASE} %{ARCH} %{DESCRIPTION}", "plover-release"), p.Name()+" "+p.Version()+" "+p.Arch()+" "+p.Description())
	for file, want := range map[string]string{"/etc/zypp/repos.d/plover.repo": "plover-release", "/etc/zypp/plover.repo": "", "/etc/zypp/repos.d/other.repo": ""} {
		owner, err := r.Owner(file)
		require.NoError(t, err)
		assert.Equal(t, want, owner, file)
	}
	for capability, want := range map[string]string{"distribution-release": "15.3", "system-release(releasever)": "15.3.9", "plain-thing": "15.3"} {
		list, err := r.Find("Providename", capability)
		require.NoError(t, err)
		require.Len(t, list, 1, capability)
		assert.Equal(t, want, list[0].Provided(capability), capability)
	}
}

func TestPacmansDatabase(t *testing.T) {
	root := rootfs.New(fstest.MapFS{
		"var/lib/pacman/local/pacman-mirrors-2023.1-2/files": {Data: []byte("%FILES%\netc/\netc/pacman.d/mirrorlist\n\n%BACKUP%\n")},
		"var/lib/pacman/local/pacman-6.0.2-3/files":          {Data: []byte("%FILES%\netc/\netc/pacman.conf\n")},
		"var/lib/pacman/local/ALPM_DB_VERSION":               {Data: []byte("9\n")},
	})
	p, err := pkgdb.OpenPacman(root, "/var/lib/pacman")
	require.NoError(t, err)
	assert.Equal(t, "6.0.2-3", p.Version("pacman"))
	assert.Equal(t, "2023.1-2", p.Version("pacman-mirrors"))
	assert.Equal(t, "", p.Version("mirrors"))
	assert.Equal(t, map[string]string{"/etc/pacman.conf": "pacman", "/etc/pacman.d/mirrorlist": "pacman-mirrors", "/etc/pacman.d/own": ""}, p.Owners([]string{"/etc/pacman.conf", "/etc/pacman.d/mirrorlist", "/etc/pacman.d/own"}))
}
