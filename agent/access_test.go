package agent

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/source"
)

func TestAttacksOnAccessAreRefused(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	newSigner := func() (ed25519.PrivateKey, json.RawMessage) {
		pub, key, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		jwk, err := (&jose.JSONWebKey{Key: pub}).MarshalJSON()
		require.NoError(t, err)
		return key, jwk
	}
	service, pinned := newSigner()
	stranger, _ := newSigner()
	mine, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	other, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	enrol := &Enrolment{Host: "gw-01.brinewick.test", Key: pinned}
	good := api.AccessGrant{Host: enrol.Host, Issued: now, Expires: now.Add(10 * time.Minute), Items: []api.AccessItem{{Account: "gannet", Secret: credential.Secret{Kind: "basic", Password: "hunter2"}}}}
	seal := func(g api.AccessGrant, by ed25519.PrivateKey, typ jose.ContentType, to *ecdsa.PrivateKey) string {
		s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: by}, (&jose.SignerOptions{}).WithType(typ))
		require.NoError(t, err)
		b, err := json.Marshal(g)
		require.NoError(t, err)
		jws, err := s.Sign(b)
		require.NoError(t, err)
		text, err := jws.CompactSerialize()
		require.NoError(t, err)
		enc, err := jose.NewEncrypter(jose.A256GCM, jose.Recipient{Algorithm: jose.ECDH_ES_A256KW, Key: to.Public()}, nil)
		require.NoError(t, err)
		jwe, err := enc.Encrypt([]byte(text))
		require.NoError(t, err)
		out, err := jwe.CompactSerialize()
		require.NoError(t, err)
		return out
	}
	change := func(f func(*api.AccessGrant)) api.AccessGrant { g := good; f(&g); return g }
	for _, c := range []struct{ name, sealed, want string }{
		{"good", seal(good, service, api.TypeGrant, mine), ""},
		{"encrypted to another", seal(good, service, api.TypeGrant, other), "refused: the access is not encrypted to this host"},
		{"signed by another", seal(good, stranger, api.TypeGrant, mine), "refused: the access is not signed by the pinned key of the service, or was altered"},
		{"signed for something else", seal(good, service, api.TypeDelivery, mine), "refused: the access is signed as lantern-delivery+jws, not as lantern-access+jws"},
		{"not encrypted", "e30.e30.e30", "refused: the access is not a JWE of the kind that was asked for"},
		{"of another host", seal(change(func(g *api.AccessGrant) { g.Host = "gw-02.brinewick.test" }), service, api.TypeGrant, mine), "refused: the access is for gw-02.brinewick.test, and this is gw-01.brinewick.test"},
		{"old", seal(change(func(g *api.AccessGrant) { g.Issued, g.Expires = now.Add(-time.Hour), now.Add(-50*time.Minute) }), service, api.TypeGrant, mine), "refused: the access expired at 2026-11-23T07:10:00Z (is the clock of this host right?)"},
		{"from the future", seal(change(func(g *api.AccessGrant) { g.Issued, g.Expires = now.Add(time.Hour), now.Add(2*time.Hour) }), service, api.TypeGrant, mine), "refused: the access is from the future, 2026-11-23T09:00:00Z (is the clock of this host right?)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			g, err := openGrant(c.sealed, mine, enrol, now)
			if c.want == "" {
				require.NoError(t, err)
				assert.Equal(t, "hunter2", g.Items[0].Secret.Password)
				return
			}
			require.EqualError(t, err, c.want)
			assert.NotContains(t, err.Error(), "hunter2")
		})
	}
}

func accessHost(t *testing.T) *Host {
	t.Helper()
	h, err := OpenHost(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { h.Close() })
	return h
}

var (
	accessSheet = &source.Sheet{Access: []source.SheetAccess{{Account: "gannet", Kind: "basic", Repositories: []string{"gannet-licensed"}, Files: []source.AccessFile{
		{Path: "/etc/dnf/vars/login", Mode: "0600", Form: credential.FormLogin}, {Path: "/etc/dnf/vars/password", Mode: "0640", Form: credential.FormPassword},
		{Path: "/etc/pacman.d/x.gannet", Mode: "0600", Form: credential.FormPacman, URLs: []string{"http://x/"}, Without: "Server = http://x/\n"},
	}}}}
	accessGrant = api.AccessGrant{Stamp: "gannet:1", Items: []api.AccessItem{{Account: "gannet", Secret: credential.Secret{Kind: "basic", Login: "gw", Password: "pw"}}}}
)

func TestApplyingAccessTwiceChangesNothing(t *testing.T) {
	h := accessHost(t)
	changed, missing, err := h.applyAccess(accessSheet, "s1", &accessGrant, false)
	require.NoError(t, err)
	assert.True(t, changed)
	assert.Empty(t, missing)
	changed, _, err = h.applyAccess(accessSheet, "s1", &accessGrant, false)
	require.NoError(t, err)
	assert.False(t, changed)
	for name, mode := range map[string]os.FileMode{"etc/dnf/vars/login": 0o600, "etc/dnf/vars/password": 0o640} {
		info, err := os.Stat(filepath.Join(h.Root, name))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), "whatever the umask is")
	}
	m, err := h.accessMemory()
	require.NoError(t, err)
	assert.Equal(t, "gannet:1", m.Stamp)
	b, err := os.ReadFile(h.statePath(accessName))
	require.NoError(t, err)
	assert.NotContains(t, string(b), `"pw"`)
}

func TestAccessThatIsWithheldGoes(t *testing.T) {
	h := accessHost(t)
	_, _, err := h.applyAccess(accessSheet, "s1", &accessGrant, false)
	require.NoError(t, err)
	none := api.AccessGrant{Items: []api.AccessItem{{Account: "gannet", Missing: "this host has no seat"}}}
	changed, missing, err := h.applyAccess(accessSheet, "s1", &none, true)
	require.NoError(t, err)
	assert.True(t, changed, "the login goes out of the URL")
	assert.Equal(t, []string{"gannet-licensed: this host has no seat"}, missing)
	assert.FileExists(t, filepath.Join(h.Root, "etc/dnf/vars/password"), "kept until the sources are swapped")
	_, _, err = h.applyAccess(accessSheet, "s1", &none, false)
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(h.Root, "etc/dnf/vars/password"))
	b, err := os.ReadFile(filepath.Join(h.Root, "etc/pacman.d/x.gannet"))
	require.NoError(t, err)
	assert.Equal(t, "Server = http://x/\n", string(b))
	_, _, err = h.applyAccess(&source.Sheet{}, "s2", &api.AccessGrant{}, false)
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(h.Root, "etc/pacman.d/x.gannet"), "a sheet that needs none leaves none")
}

func TestAccessIsWholeAfterACrashAtAnyPoint(t *testing.T) {
	// A crash is an apply that was cut: what the memory says beforehand must be enough
	// to take away or complete whatever stands there.
	h := accessHost(t)
	_, _, err := h.applyAccess(accessSheet, "s1", &accessGrant, true)
	require.NoError(t, err)
	m, err := h.accessMemory()
	require.NoError(t, err)
	assert.Empty(t, m.Stamp, "the next round knows that it was not finished")
	assert.Len(t, m.Files, 3)
	require.NoError(t, os.Remove(filepath.Join(h.Root, "etc/dnf/vars/login")))
	_, _, err = h.applyAccess(&source.Sheet{}, "", &api.AccessGrant{}, false)
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(h.Root, "etc/dnf/vars/password"))
}

func TestHowAccessFilesStand(t *testing.T) {
	h := accessHost(t)
	_, _, err := h.applyAccess(accessSheet, "s1", &accessGrant, false)
	require.NoError(t, err)
	login := filepath.Join(h.Root, "etc/dnf/vars/login")
	state := func() string { return h.accessFiles()[0].State }
	assert.Equal(t, credential.FileOK, state())
	require.NoError(t, os.Chmod(login, 0o644))
	assert.Equal(t, credential.FileMode, state())
	assert.Equal(t, "0644", h.accessFiles()[0].Have)
	require.NoError(t, os.Chmod(login, 0o600))
	require.NoError(t, os.WriteFile(login, []byte("x"), 0o600))
	assert.Equal(t, credential.FileChanged, state())
	require.NoError(t, os.Remove(login))
	assert.Equal(t, credential.FileMissing, state())
	require.NoError(t, os.Symlink("/etc/passwd", login))
	assert.Equal(t, credential.FileMissing, state(), "a link is not the file")
}
