package origin_test

import (
	"crypto/sha256"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// stage is a folder with a vendor's packages and hosts' roots.
type stage struct {
	*testing.T
	dir string
}

func newStage(t *testing.T) *stage { return &stage{t, t.TempDir()} }

func (s *stage) path(parts ...string) string {
	return filepath.Join(append([]string{s.dir}, parts...)...)
}

func (s *stage) write(text string, parts ...string) string {
	p := s.path(parts...)
	require.NoError(s, os.MkdirAll(filepath.Dir(p), 0o755))
	require.NoError(s, os.WriteFile(p, []byte(text), 0o644))
	return p
}

func (s *stage) run(program string, args ...string) {
	s.Helper()
	c := exec.Command(program, args...)
	c.Dir = s.dir
	c.Env = append(os.Environ(), "HOME="+s.dir, "LC_ALL=C", "FLATPAK_SYSTEM_DIR="+s.path("root", "var/lib/flatpak"))
	out, err := c.CombinedOutput()
	require.NoError(s, err, "%s %v: %s", program, args, out)
}

func (s *stage) look(sources []source.Source, asked ...string) map[string]origin.Came {
	return origin.Look(rootfs.New(os.DirFS(s.path("root"))), sources, asked)
}

// rpmRepository makes a repository of two packages, and returns its folder.
func (s *stage) rpmRepository() string {
	text := `<metadata xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm" packages="2">`
	for _, name := range []string{"sonar-tools", "tide-model"} {
		spec := s.write(
			"Name: "+name+"\nEpoch: 2\nVersion: 1.2\nRelease: 3\nSummary: x\nLicense: x\nBuildArch: noarch\n%description\nx\n%files\n",
			name+".spec",
		)
		s.run("rpmbuild", "--define", "_topdir "+s.path("build"), "-bb", spec)
		file := name + "-1.2-3.noarch.rpm"
		b, err := os.ReadFile(s.path("build/RPMS/noarch", file))
		require.NoError(s, err)
		s.write(string(b), "repo", file)
		text += fmt.Sprintf(`<package type="rpm"><name>%s</name><arch>noarch</arch><version epoch="2" ver="1.2" rel="3"/>`+
			`<checksum type="sha256" pkgid="YES">%x</checksum><summary>x</summary><description>x</description><packager/><url/><time file="1" build="1"/>`+
			`<size package="%d" installed="0" archive="0"/><location href="%s"/><format><rpm:license>x</rpm:license><rpm:provides>`+
			`<rpm:entry name="%s" flags="EQ" epoch="2" ver="1.2" rel="3"/></rpm:provides></format></package>`, name, sha256.Sum256(b), len(b), file, name)
	}
	text += "</metadata>"
	s.write(text, "repo/repodata/primary.xml")
	s.write(fmt.Sprintf(`<repomd xmlns="http://linux.duke.edu/metadata/repo"><revision>1</revision><data type="primary">`+
		`<checksum type="sha256">%x</checksum><location href="repodata/primary.xml"/><size>%d</size></data></repomd>`,
		sha256.Sum256([]byte(text)), len(text)), "repo/repodata/repomd.xml")
	return s.path("repo")
}

// database puts rpm's database where distributions of the family keep it.
func (s *stage) database() {
	for _, name := range []string{"rpmdb.sqlite", "rpmdb.sqlite-wal"} {
		found, err := filepath.Glob(s.path("root", "*", ".rpmdb", name))
		require.NoError(s, err)
		more, err := filepath.Glob(s.path("root") + s.dir + "/.rpmdb/" + name) // below the home folder
		require.NoError(s, err)
		for _, f := range append(found, more...) {
			b, err := os.ReadFile(f)
			require.NoError(s, err)
			s.write(string(b), "root/usr/lib/sysimage/rpm", name)
		}
	}
}

func recent(t *testing.T, c origin.Came) {
	t.Helper()
	require.NotNil(t, c.Newest)
	assert.WithinDuration(t, time.Now(), *c.Newest, 5*time.Minute)
}

func TestDNFsHistory(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	repo := "file://" + s.rpmRepository()
	dnf := func(id string, args ...string) {
		s.run("dnf", append([]string{"-q", "-y", "--installroot=" + s.path("root"), "--setopt=reposdir=/nowhere", "--noplugins",
			"--repofrompath=" + id + "," + repo, "--nogpgcheck", "--releasever=9"}, args...)...)
	}
	dnf("plover", "install", "sonar-tools", "tide-model")
	dnf("fulmar", "reinstall", "tide-model")
	s.database()
	sources := []source.Source{{Family: "rpm", ID: "plover"}, {Family: "rpm", ID: "fulmar"}, {Family: "rpm", ID: "gannet"}}
	got := s.look(sources, "rpm plover", "rpm fulmar", "rpm gannet", "rpm saltmarsh")
	assert.Equal(t, []string{"sonar-tools"}, got["rpm plover"].Names)
	assert.Equal(t, []string{"tide-model"}, got["rpm fulmar"].Names, "what dnf did last counts")
	recent(t, got["rpm plover"])
	assert.Equal(t, origin.Came{}, got["rpm gannet"], "nothing came from there")
	assert.NotContains(t, got, "rpm saltmarsh", "the host has no such source")

	dnf("plover", "remove", "sonar-tools")
	s.database()
	assert.Equal(t, 0, s.look(sources, "rpm plover")["rpm plover"].Packages, "what is not installed any more does not count")
	require.NoError(t, os.RemoveAll(s.path("root/var/lib/dnf")))
	assert.Equal(t, "dnf keeps no history in /var/lib/dnf/history.sqlite and nothing in /usr/lib/sysimage/libdnf5/nevras.toml, and yum nothing in /var/lib/yum/yumdb", s.look(sources, "rpm plover")["rpm plover"].Unknown)
}

func TestZyppersLog(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	repo := s.rpmRepository()
	s.run("zypper", "--root", s.path("root"), "-n", "ar", "-G", "file://"+repo, "plover")
	s.run("zypper", "--root", s.path("root"), "-n", "--no-gpg-checks", "in", "sonar-tools", "tide-model")
	s.database()
	got := s.look([]source.Source{{Family: "zypp", ID: "plover"}}, "zypp plover")["zypp plover"]
	assert.Equal(t, []string{"sonar-tools", "tide-model"}, got.Names, got.Unknown)
	recent(t, got)
}

func TestAptsLists(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	require.NoError(t, os.MkdirAll(s.path("vendor"), 0o755))
	for _, name := range []string{"sonar-tools", "tide-model"} {
		s.write(
			"Package: "+name+"\nVersion: 1:1.2-3\nArchitecture: all\nMaintainer: Tide <x@brinewick.test>\nDescription: x\n",
			name,
			"DEBIAN/control",
		)
		s.run("dpkg-deb", "-b", s.path(name), s.path("vendor", name+".deb"))
		s.write(
			"Package: "+name+"\nVersion: 1:1.2-3\nArchitecture: all\nFilename: ./"+name+".deb\nSize: 1\nDescription: x\n\n",
			"vendor",
			name+".stanza",
		)
	}
	for _, d := range []string{"var/lib/dpkg/info", "var/lib/dpkg/updates", "var/lib/apt/lists/partial", "var/cache/apt/archives/partial", "etc/apt/apt.conf.d", "etc/apt/preferences.d"} {
		require.NoError(t, os.MkdirAll(s.path("root", d), 0o755))
	}
	for folder, names := range map[string][]string{"flat/": {"sonar-tools"}, "dists/stable/main/binary-amd64/": {"sonar-tools", "tide-model"}} {
		text := ""
		for _, n := range names {
			b, err := os.ReadFile(s.path("vendor", n+".stanza"))
			require.NoError(t, err)
			text += string(b)
		}
		s.write(text, "site", folder, "Packages")
	}
	s.write("", "site/dists/stable/Release")
	text, err := os.ReadFile(s.path("site/dists/stable/main/binary-amd64/Packages"))
	require.NoError(t, err)
	s.write(
		fmt.Sprintf(
			"Suite: stable\nComponents: main\nArchitectures: amd64\nSHA256:\n %x %d main/binary-amd64/Packages\n",
			sha256.Sum256(text),
			len(text),
		),
		"site/dists/stable/Release",
	)
	srv := httptest.NewServer(http.FileServer(http.Dir(s.path("site"))))
	defer srv.Close()
	url := srv.URL + "/"
	s.write("deb [trusted=yes] "+url+" stable main\ndeb [trusted=yes] "+url+" flat/\n", "root/etc/apt/sources.list")
	s.write("", "root/var/lib/dpkg/status")
	s.run("dpkg", "--root="+s.path("root"), "--force-all", "--log=/dev/null", "-i", s.path("vendor/sonar-tools.deb"))
	sources := []source.Source{{Family: "deb", EffURLs: []string{url}, EffSuites: []string{"stable", "flat/"}}}
	stable, flat := "deb "+url+" stable", "deb "+url+" flat/"
	assert.Equal(t, "apt keeps no list of it", s.look(sources, stable)[stable].Unknown, "what has never been fetched is not known")
	for _, packing := range []string{"false", "true"} {
		s.run(
			"apt-get",
			"-o",
			"Dir="+s.path("root"),
			"-o",
			"Dir::State::status="+s.path("root/var/lib/dpkg/status"),
			"-o",
			"APT::Architecture=amd64",
			"-o",
			"APT::Sandbox::User=root",
			"-o",
			"Acquire::GzipIndexes="+packing,
			"-o",
			"Acquire::AllowInsecureRepositories=true",
			"update",
		)
		got := s.look(sources, stable, flat)
		assert.Equal(t, []string{"sonar-tools"}, got[stable].Names, got[stable].Unknown)
		recent(t, got[stable])
		assert.Equal(t, []string{"sonar-tools"}, got[flat].Names, got[flat].Unknown)
		require.NoError(t, os.RemoveAll(s.path("root/var/lib/apt/lists")))
		require.NoError(t, os.MkdirAll(s.path("root/var/lib/apt/lists/partial"), 0o755))
	}
}

func TestPacmansDatabases(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	require.NoError(t, os.MkdirAll(s.path("site"), 0o755))
	require.NoError(t, os.MkdirAll(s.path("root/var/lib/pacman"), 0o755))
	for _, name := range []string{"sonar-tools", "tide-model"} {
		s.write(
			"pkgname = "+name+"\npkgbase = "+name+"\npkgver = 1:1.2-3\npkgdesc = x\nurl = x\nbuilddate = 1\npackager = x\nsize = 0\narch = any\n",
			name,
			".PKGINFO",
		)
		s.run("tar", "-C", s.path(name), "-czf", s.path("site", name+"-1:1.2-3-any.pkg.tar.gz"), ".PKGINFO")
		s.write(
			"%FILENAME%\n"+name+"-1:1.2-3-any.pkg.tar.gz\n\n%NAME%\n"+name+"\n\n%VERSION%\n1:1.2-3\n\n%ARCH%\nany\n\n",
			"db",
			name+"-1:1.2-3",
			"desc",
		)
	}
	s.run("tar", "-C", s.path("db"), "-czf", s.path("site/plover.db"), "sonar-tools-1:1.2-3", "tide-model-1:1.2-3")
	conf := s.write("[options]\nArchitecture = auto\nSigLevel = Never\n[plover]\nServer = file://"+s.path("site")+"\n", "pacman.conf")
	s.run(
		"pacman",
		"--root",
		s.path("root"),
		"--dbpath",
		s.path("root/var/lib/pacman"),
		"--cachedir",
		s.path("cache"),
		"--config",
		conf,
		"--noconfirm",
		"--logfile",
		s.path("log"),
		"-Sy",
		"sonar-tools",
	)
	sources := []source.Source{{Family: "arch", ID: "plover"}, {Family: "arch", ID: "fulmar"}}
	got := s.look(sources, "arch plover", "arch fulmar")
	assert.Equal(t, []string{"sonar-tools"}, got["arch plover"].Names, got["arch plover"].Unknown)
	recent(t, got["arch plover"])
	assert.Equal(t, "pacman keeps no database of it", got["arch fulmar"].Unknown)
}

func TestFlatpaksDeployments(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	for _, vendor := range []string{"curlew", "plover"} {
		app := "test.brinewick." + vendor
		s.write(
			"[Application]\nname="+app+"\nruntime=test.brinewick.Base/x86_64/1\nsdk=test.brinewick.Base/x86_64/1\n",
			vendor,
			"metadata",
		)
		require.NoError(t, os.MkdirAll(s.path(vendor, "files"), 0o755))
		require.NoError(t, os.MkdirAll(s.path(vendor, "export"), 0o755))
		s.run("flatpak", "build-export", s.path("repo-"+vendor), s.path(vendor), "stable")
		require.NoError(t, os.MkdirAll(s.path("root/var/lib/flatpak"), 0o755))
		s.run("flatpak", "--system", "remote-add", "--no-gpg-verify", vendor, s.path("repo-"+vendor))
		s.run("flatpak", "--system", "install", "-y", "--noninteractive", "--no-deps", vendor, app)
	}
	got := s.look([]source.Source{{Family: "flatpak", ID: "curlew"}}, "flatpak curlew", "flatpak plover")
	assert.Equal(t, []string{"test.brinewick.curlew"}, got["flatpak curlew"].Names, got["flatpak curlew"].Unknown)
	recent(t, got["flatpak curlew"])
	assert.Len(t, got, 1)
}
