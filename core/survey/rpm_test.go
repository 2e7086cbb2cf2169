package survey_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

const spec = `Name: foreland-release
Version: 9
Release: 2
Summary: Foreland
License: MIT
BuildArch: noarch
Provides: system-release(releasever) = 9.4
%description
The release of Foreland.
%install
mkdir -p %{buildroot}/etc/yum.repos.d
echo > %{buildroot}/etc/yum.repos.d/foreland.repo
%files
/etc/yum.repos.d/foreland.repo
`

// certificate makes a client certificate that ends at a time.
func certificate(t *testing.T, end time.Time) []byte {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "arc-1", Organization: []string{"Brinewick"}}, NotBefore: end.AddDate(-1, 0, 0), NotAfter: end}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

// TestAHostWithARealRPMDatabase installs a package and a key with the real rpm
// and reads owner, release, key and certificate.
func TestAHostWithARealRPMDatabase(t *testing.T) {
	dir := t.TempDir()
	root, db := filepath.Join(dir, "root"), filepath.Join(dir, "root/var/lib/rpm")
	home := filepath.Join(dir, "gpg")
	require.NoError(t, os.Mkdir(home, 0o700))
	defer exec.Command("gpgconf", "--homedir", home, "--kill", "all").Run()
	gpg := func(args ...string) []byte {
		out, err := exec.Command("gpg", append([]string{"--homedir", home, "--batch", "--pinentry-mode", "loopback", "--passphrase", ""}, args...)...).Output()
		require.NoError(t, err, "gpg %s", args)
		return out
	}
	gpg("--quick-gen-key", "Gannet <keys@gannet.example>", "rsa2048", "sign", "never")
	pub := gpg("--armor", "--export")
	end := time.Date(2027, 2, 1, 12, 0, 0, 0, time.UTC)
	for name, data := range map[string][]byte{
		"x.spec": []byte(spec), "key.asc": pub,
		"root/etc/dnf/dnf.conf":              []byte("[main]\n"),
		"root/etc/os-release":                []byte("ID=foreland\nID_LIKE=fedora\nVERSION_ID=9\n"),
		"root/etc/yum.repos.d/foreland.repo": []byte("[base]\nbaseurl=http://foreland.example/$releasever\nsslclientcert=/etc/pki/client.pem\nsslclientkey=/etc/pki/client.key\n"),
		"root/etc/yum.repos.d/own.repo":      []byte("[own]\nbaseurl=http://own.example/\nsslclientcert=/etc/pki/none.pem\n"),
		"root/etc/pki/client.pem":            certificate(t, end),
		"root/etc/pki/client.key":            []byte("a private key\n"),
		"root/var/lib/rpm/.keep":             nil,
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o640))
	}
	for _, argv := range [][]string{
		{"rpmbuild", "--quiet", "--define", "_topdir " + dir, "-bb", filepath.Join(dir, "x.spec")},
		{"rpm", "--dbpath", db, "--initdb"},
		{"rpm", "--dbpath", db, "--justdb", "--nodeps", "--ignorearch", "-i", filepath.Join(dir, "RPMS/noarch/foreland-release-9-2.noarch.rpm")},
		{"rpm", "--dbpath", db, "--import", filepath.Join(dir, "key.asc")},
	} {
		out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput()
		require.NoError(t, err, "%s: %s", argv, out)
	}
	open, err := os.OpenRoot(root)
	require.NoError(t, err)
	defer open.Close()
	s := survey.Read(rootfs.New(open.FS()), survey.Machine{}).Survey
	byID := map[string]source.Source{}
	for _, src := range s.Sources {
		byID[src.ID] = src
	}
	assert.Equal(t, []string{"http://foreland.example/9.4"}, byID["base"].EffURLs)
	assert.Equal(t, "foreland-release", *byID["base"].Owner)
	assert.Equal(t, "", *byID["own"].Owner)
	require.Len(t, s.Keys, 1)
	assert.Equal(t, []string{"Gannet <keys@gannet.example>"}, s.Keys[0].UserIDs)
	assert.Contains(t, string(gpg("--with-colons", "--list-keys")), ":"+s.Keys[0].Fingerprint+":")
	assert.Equal(t, "/var/lib/rpm/rpmdb.sqlite", s.Keys[0].Where)
	assert.Equal(t, source.ScopeAny, s.Keys[0].Scope)
	assert.Equal(t, []source.Access{
		{Kind: "client-certificate", Where: "/etc/pki/client.pem", For: "base", Identity: "CN=arc-1,O=Brinewick", Expires: &end, Mode: "0640"},
		{Kind: "client-certificate", Where: "/etc/pki/none.pem", For: "own"},
	}, s.Access)
	require.Len(t, s.Problems, 1)
	assert.Equal(t, "/etc/yum.repos.d/own.repo", s.Problems[0].File)
}
