package upstream_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
	"patientlantern.example/lantern/standin"
)

// site is a vendor's folder, filled by the tools that vendors use.
type site struct {
	*testing.T
	dir string
	key *standin.Key
}

func newSite(t *testing.T) *site {
	key, err := standin.NewKey("saltmarsh", "Saltmarsh <packages@saltmarsh.example>", time.Now().Add(-time.Hour), 2)
	require.NoError(t, err)
	return &site{t, t.TempDir(), key}
}

func (s *site) run(program string, args ...string) []byte {
	s.Helper()
	c := exec.Command(program, args...)
	c.Dir = s.dir
	c.Env = append(os.Environ(), "HOME="+s.dir, "LC_ALL=C", "FLATPAK_SYSTEM_DIR="+s.dir+"/system", "GNUPGHOME="+s.dir+"/gpg")
	out, err := c.Output()
	var ended *exec.ExitError
	if err != nil {
		if e, ok := err.(*exec.ExitError); ok {
			ended = e
		}
		require.NoError(s, err, "%s %v: %s%s", program, args, out, ended.Stderr)
	}
	return out
}

func (s *site) write(text string, parts ...string) {
	p := filepath.Join(append([]string{s.dir}, parts...)...)
	require.NoError(s, os.MkdirAll(filepath.Dir(p), 0o755))
	require.NoError(s, os.WriteFile(p, []byte(text), 0o644))
}

func (s *site) read(parts ...string) []byte {
	b, err := os.ReadFile(filepath.Join(append([]string{s.dir}, parts...)...))
	require.NoError(s, err)
	return b
}

func (s *site) look(x upstream.Source) (*upstream.Found, error) {
	x.URLs = []string{"file://" + s.dir + "/" + x.URLs[0]}
	if x.Keys == nil {
		x.Keys = openpgp.EntityList{s.key.Entity}
	}
	return upstream.Look(&x, fetch.New().Opener(s.Context(), fetch.Way{Local: true}), time.Now())
}

func offered(f *upstream.Found) (out []string) {
	for _, p := range f.Packages {
		out = append(out, p.Name+" "+p.Version+" "+p.Arch)
	}
	slices.Sort(out)
	return out
}

// apt-ftparchive makes repositories as vendors do, packed in every way that apt reads.
func TestRepositoriesThatAptFtparchiveMakes(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	for _, name := range []string{"sonar-tools", "tide-model"} {
		s.write(
			"Package: "+name+"\nVersion: 1:1.2-3\nArchitecture: all\nMaintainer: Tide <x@brinewick.test>\nDescription: x\n",
			name,
			"DEBIAN/control",
		)
		s.write("", "apt/pool/.keep")
		s.run("dpkg-deb", "-b", name, "apt/pool/"+name+".deb")
	}
	want := []string{"sonar-tools 1:1.2-3 all", "tide-model 1:1.2-3 all"}
	for _, pack := range []string{"", "gzip", "xz", "bzip2", "zstd"} {
		require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "apt/dists")))
		list := s.run("apt-ftparchive", "packages", "apt/pool")
		s.write(string(list), "apt/dists/stable/main/binary-amd64/Packages")
		if pack != "" {
			if _, err := exec.LookPath(pack); err != nil {
				continue
			}
			s.run(pack, "-f", "apt/dists/stable/main/binary-amd64/Packages")
		}
		release := s.run(
			"apt-ftparchive",
			"-o",
			"APT::FTPArchive::Release::Suite=stable",
			"-o",
			"APT::FTPArchive::Release::Architectures=amd64",
			"release",
			"apt/dists/stable",
		)
		signed, err := s.key.ClearSign(release, time.Now())
		require.NoError(t, err)
		s.write(string(signed), "apt/dists/stable/InRelease")
		x := upstream.Source{
			Family:     "deb",
			URLs:       []string{"apt/"},
			Suite:      "stable",
			Components: []string{"main"},
			Archs:      []string{"amd64"},
		}
		found, err := s.look(x)
		if assert.NoError(t, err, pack) {
			assert.Equal(t, want, offered(found), pack)
			assert.Equal(t, "stable", found.Release.Suite)
		}
		detached, err := s.key.DetachSign(release, time.Now())
		require.NoError(t, err)
		require.NoError(t, os.Remove(filepath.Join(s.dir, "apt/dists/stable/InRelease")))
		s.write(string(release), "apt/dists/stable/Release")
		_, err = s.look(x)
		assert.Equal(t, cause.Unsigned, kind(t, err), "a Release file alone")
		s.write(string(detached), "apt/dists/stable/Release.gpg")
		found, err = s.look(x)
		require.NoError(t, err)
		assert.Equal(t, want, offered(found), "signed beside it")
		s.write(string(release)+" \n", "apt/dists/stable/Release")
		_, err = s.look(x)
		assert.Equal(t, cause.BadSignature, kind(t, err))
	}
	s.write("", "apt/pool/.keep")
	s.write(string(s.run("apt-ftparchive", "packages", "apt/pool")), "apt/pool/Packages")
	release := s.run("apt-ftparchive", "release", "apt/pool")
	signed, err := s.key.ClearSign(release, time.Now())
	require.NoError(t, err)
	s.write(string(signed), "apt/pool/InRelease")
	found, err := s.look(upstream.Source{Family: "deb", URLs: []string{"apt/"}, Suite: "pool/"})
	require.NoError(t, err)
	assert.Equal(t, want, offered(found), "a flat repository")
	s.write("junk\n"+string(signed), "apt/pool/InRelease")
	_, err = s.look(upstream.Source{Family: "deb", URLs: []string{"apt/"}, Suite: "pool/"})
	assert.Equal(t, cause.BadSignature, kind(t, err), "nothing stands around what is signed")
}

// createrepo_c makes rpm-md repositories, packed in every way that it knows.
func TestRepositoriesThatCreaterepoMakes(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	for i, name := range []string{"sonar-tools", "tide-model"} {
		s.write(
			fmt.Sprintf(
				"Name: %s\nEpoch: %d\nVersion: 1.2\nRelease: 3\nSummary: x & <y>\nLicense: x\nBuildArch: noarch\n%%description\nx\n%%files\n",
				name,
				2*i,
			),
			name+".spec",
		)
		s.run("rpmbuild", "--define", "_topdir "+s.dir+"/build", "-bb", name+".spec")
	}
	repo := "build/RPMS/noarch"
	for _, args := range [][]string{
		{"--general-compress-type=gz"}, {"--general-compress-type=xz"}, {"--general-compress-type=bz2"},
		{"--zck"}, {"--checksum=sha512"}, {"--simple-md-filenames"}, {"--no-database", "--unique-md-filenames"},
	} {
		s.run("createrepo_c", append(append([]string{"-q"}, args...), repo)...)
		md := s.read(repo, "repodata/repomd.xml")
		require.NoError(t, os.RemoveAll(filepath.Join(s.dir, repo, "repodata/repomd.xml.asc")))
		_, err := s.look(upstream.Source{Family: "rpm", URLs: []string{repo}})
		assert.Equal(t, cause.Unsigned, kind(t, err), args)
		sig, err := s.key.DetachSign(md, time.Now())
		require.NoError(t, err)
		s.write(string(sig), repo, "repodata/repomd.xml.asc")
		for _, family := range []string{"rpm", "zypp"} {
			found, err := s.look(upstream.Source{Family: family, URLs: []string{repo}})
			if assert.NoError(t, err, args) {
				assert.Equal(t, []string{"sonar-tools 1.2-3 noarch", "tide-model 2:1.2-3 noarch"}, offered(found), args)
				assert.WithinDuration(t, time.Now(), found.Date, time.Minute)
			}
		}
	}
}

// packed packs a file as a tool would.
func packed(t *testing.T, ext string, plain []byte) []byte {
	var b bytes.Buffer
	var w io.WriteCloser
	var err error
	switch ext {
	case "gz":
		w = gzip.NewWriter(&b)
	case "xz":
		w, err = xz.NewWriter(&b)
	case "zst":
		w, err = zstd.NewWriter(&b)
	}
	require.NoError(t, err)
	_, err = w.Write(plain)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestDatabasesOfPacman(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	for _, name := range []string{"sonar-tools", "tide-model"} {
		s.write("%FILENAME%\n"+name+"-1:1.2-3-any.pkg.tar.gz\n\n%NAME%\n"+name+"\n\n%VERSION%\n1:1.2-3\n\n%ARCH%\nany\n\n",
			"db", name+"-1:1.2-3", "desc")
	}
	plain := s.run("tar", "-C", "db", "-cf", "-", "sonar-tools-1:1.2-3", "tide-model-1:1.2-3")
	for _, ext := range []string{"gz", "xz", "zst"} {
		s.write(string(packed(t, ext, plain)), "arch/plover"+ext+".db")
		x := upstream.Source{Family: "arch", URLs: []string{"arch"}, ID: "plover" + ext}
		_, err := s.look(x)
		assert.Equal(t, cause.Unsigned, kind(t, err), ext)
		sig, err := s.key.BinarySign(s.read("arch/plover"+ext+".db"), time.Now())
		require.NoError(t, err)
		s.write(string(sig), "arch/plover"+ext+".db.sig")
		found, err := s.look(x)
		if assert.NoError(t, err, ext) {
			assert.Equal(t, []string{"sonar-tools 1:1.2-3 any", "tide-model 1:1.2-3 any"}, offered(found), ext)
		}
	}

	s.write("<html>sign in</html>", "arch/page.db")
	found, err := s.look(upstream.Source{Family: "arch", URLs: []string{"arch"}, ID: "page", Keys: openpgp.EntityList{}})
	assert.Equal(t, cause.NotMetadata, kind(t, err), found)
}

// curlew makes a key of gpg's that signs for Curlew: its home folder, and the certificate.
func (s *site) curlew() (home string, public openpgp.EntityList) {
	home = filepath.Join(s.dir, "gpg")
	require.NoError(s, os.MkdirAll(home, 0o700))
	s.run("gpg", "--batch", "--quick-gen-key", "--passphrase", "", "Curlew <apps@curlew.example>", "ed25519", "sign")
	public, err := openpgp.ReadKeyRing(strings.NewReader(string(s.run("gpg", "--export"))))
	require.NoError(s, err)
	return home, public
}

func TestSummariesOfFlatpak(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	private, public := s.curlew()
	for i := range 40 { // so that it does not fit in what one byte counts
		app := fmt.Sprintf("test.brinewick.App%d", i%3)
		s.write(
			"[Application]\nname="+app+"\nruntime=test.brinewick.Base/x86_64/1\nsdk=test.brinewick.Base/x86_64/1\n",
			app,
			"metadata",
		)
		s.write("", app, "files/.keep")
		s.write("", app, "export/.keep")
		if i < 6 {
			s.run("flatpak", "build-export", "--no-update-summary", "remote", app, []string{"stable", "beta"}[i/3])
		}
	}
	s.run(
		"flatpak",
		"build-update-repo",
		"--gpg-sign="+fmt.Sprintf("%X", public[0].PrimaryKey.Fingerprint),
		"--gpg-homedir="+private,
		"remote",
	)
	found, err := s.look(upstream.Source{Family: "flatpak", URLs: []string{"remote"}, Keys: public})
	require.NoError(t, err)
	assert.Len(t, found.Packages, 6)
	arch := found.Packages[0].Arch
	assert.Equal(t, []string{
		"test.brinewick.App0 beta " + arch, "test.brinewick.App0 stable " + arch, "test.brinewick.App1 beta " + arch,
		"test.brinewick.App1 stable " + arch, "test.brinewick.App2 beta " + arch, "test.brinewick.App2 stable " + arch,
	}, offered(found))
	for _, p := range found.Packages {
		ref := "app/" + p.Name + "/" + p.Arch + "/" + p.Version
		commit := strings.TrimSpace(string(s.read("remote/refs/heads", ref)))
		assert.Equal(t, commit, p.Commit)
	}
	assert.WithinDuration(t, time.Now(), found.Date, time.Minute)
	_, err = s.look(upstream.Source{Family: "flatpak", URLs: []string{"remote"}})
	assert.Equal(t, cause.UnknownKey, kind(t, err))
}

// flatpak reads the indexed summary where there is one; what is wrong with it is told, and nothing
// else is taken instead.
func TestIndexedSummariesOfFlatpak(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	private, public := s.curlew()
	s.write("[Application]\nname=test.brinewick.App\nruntime=test.brinewick.Base/x86_64/1\nsdk=test.brinewick.Base/x86_64/1\n", "app", "metadata")
	s.write("", "app", "files/.keep")
	s.write("", "app", "export/.keep")
	for _, arch := range []string{"x86_64", "aarch64"} {
		s.run("flatpak", "build-export", "--no-update-summary", "--arch="+arch, "remote", "app", "stable")
	}
	s.run("flatpak", "build-update-repo", "--gpg-sign="+fmt.Sprintf("%X", public[0].PrimaryKey.Fingerprint), "--gpg-homedir="+private, "remote")
	look := func() (*upstream.Found, error) {
		return s.look(upstream.Source{Family: "flatpak", URLs: []string{"remote"}, Keys: public})
	}
	both := []string{"test.brinewick.App stable aarch64", "test.brinewick.App stable x86_64"}
	found, err := look()
	require.NoError(t, err)
	assert.Equal(t, both, offered(found))
	indexed := found.Digest

	moved := func(from, to string) {
		require.NoError(t, os.Rename(filepath.Join(s.dir, from), filepath.Join(s.dir, to)))
	}
	parts, err := filepath.Glob(filepath.Join(s.dir, "remote/summaries/*.gz"))
	require.NoError(t, err)
	require.Len(t, parts, 2)
	first := "remote/summaries/" + filepath.Base(parts[0])
	moved(first, "kept.gz")
	_, err = look()
	assert.Equal(t, cause.Missing, kind(t, err))
	s.write(string(packed(t, "gz", []byte("something else"))), first)
	_, err = look()
	assert.Equal(t, cause.Mismatch, kind(t, err))
	s.write("no gzip", first)
	_, err = look()
	assert.NotNil(t, err)
	moved("kept.gz", first)

	moved("remote/summaries/"+indexed+".idx.sig", "own.sig")
	found, err = look()
	require.NoError(t, err, "the other place of the signature counts")
	assert.Equal(t, both, offered(found))
	moved("remote/summary.idx.sig", "usual.sig")
	_, err = look()
	assert.Equal(t, cause.Unsigned, kind(t, err))
	moved("usual.sig", "remote/summary.idx.sig")

	_, err = s.look(upstream.Source{Family: "flatpak", URLs: []string{"remote"}})
	assert.Equal(t, cause.UnknownKey, kind(t, err))
	text := s.read("remote/summary.idx")
	s.write(string(append([]byte("x"), text[1:]...)), "remote/summary.idx")
	_, err = look()
	assert.Equal(t, cause.BadSignature, kind(t, err))
	require.NoError(t, os.Remove(filepath.Join(s.dir, "remote/summary.idx")))
	found, err = look()
	require.NoError(t, err)
	assert.Equal(t, both, offered(found), "without an index the summary is read")
	assert.NotEqual(t, indexed, found.Digest)
}
