package keyring_test

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"os"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/standin"
)

func key(t testing.TB, name string, years int) *standin.Key {
	t.Helper()
	k, err := standin.NewKey(name, "Saltmarsh Packages <packages@saltmarsh.example>", time.Date(2024, 1, 15, 0, 0, 0, 0, time.UTC), years)
	require.NoError(t, err)
	return k
}

// ask runs the real gpg over a key file and returns field n of its records of a kind.
func ask(t *testing.T, data []byte, kind string, n int) (out []string) {
	t.Helper()
	dir := t.TempDir()
	name := filepath.Join(dir, "key")
	require.NoError(t, os.WriteFile(name, data, 0o600))
	text, err := exec.Command("gpg", "--homedir", dir, "--batch", "--with-colons", "--show-keys", name).Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		if f := strings.Split(strings.TrimSpace(line), ":"); f[0] == kind {
			out = append(out, f[n])
		}
	}
	return out
}

func TestReadAgreesWithGPG(t *testing.T) {
	a, b := key(t, "one", 4), key(t, "two", 0)
	armoured, err := keyring.Armor(openpgp.EntityList{a.Entity, b.Entity})
	require.NoError(t, err)
	binary, err := a.Binary()
	require.NoError(t, err)
	one, err := a.Public()
	require.NoError(t, err)
	two, err := b.Public()
	require.NoError(t, err)
	for name, data := range map[string][]byte{"armoured": []byte(armoured), "binary": binary, "two blocks": []byte("some words before\n" + one + "and between\n" + two)} {
		t.Run(name, func(t *testing.T) {
			keys, err := keyring.Read(data, keyring.At{Now: time.Now()})
			require.NoError(t, err)
			var fprs, users, expires []string
			for _, k := range keys {
				fprs = append(fprs, k.Fingerprint)
				users = append(users, k.UserIDs...)
				end := ""
				if k.Expires != nil {
					end = k.Expires.Format("20060102")
				}
				expires = append(expires, end)
				assert.Equal(t, "ed25519", k.Algorithm)
			}
			assert.Equal(t, ask(t, data, "fpr", 9), fprs)
			assert.Equal(t, ask(t, data, "uid", 9), users)
			var theirs []string
			for _, e := range ask(t, data, "pub", 6) {
				if e != "" {
					sec, err := time.ParseDuration(e + "s")
					require.NoError(t, err)
					e = time.Unix(int64(sec.Seconds()), 0).UTC().Format("20060102")
				}
				theirs = append(theirs, e)
			}
			assert.Equal(t, theirs, expires)
		})
	}
}

func TestReadRefuses(t *testing.T) {
	k := key(t, "one", 0)
	var secret strings.Builder
	require.NoError(t, k.Entity.SerializePrivateWithoutSigning(&secret, nil))
	for name, c := range map[string]struct {
		data string
		want error
	}{
		"nothing": {"", keyring.ErrNoKey}, "words": {"hello there", keyring.ErrNoKey}, "cut armour": {"-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nxjME", keyring.ErrNoKey},
		"a private key": {secret.String(), keyring.ErrSecret},
	} {
		_, err := keyring.Read([]byte(c.data), keyring.At{Now: time.Now()})
		assert.ErrorIs(t, err, c.want, name)
	}
}

func TestParseFingerprint(t *testing.T) {
	got, err := keyring.ParseFingerprint("3bff 8224 5BEC AD4F 2FA4  8C0D 0019 5878 414C C58E")
	require.NoError(t, err)
	assert.Equal(t, "3BFF82245BECAD4F2FA48C0D00195878414CC58E", got)
	for _, bad := range []string{"", "414CC58E", "zz", "3BFF82245BECAD4F2FA48C0D00195878414CC58"} {
		_, err := keyring.ParseFingerprint(bad)
		assert.Error(t, err, bad)
	}
}

func FuzzRead(f *testing.F) {
	k := key(f, "one", 1)
	bin, err := k.Binary()
	require.NoError(f, err)
	text, err := k.Public()
	require.NoError(f, err)
	f.Add(bin)
	f.Add([]byte(text))
	f.Add([]byte("-----BEGIN PGP"))
	box := append([]byte("\x00\x00\x00\x20\x01\x01\x00\x02KBXf"), make([]byte, 20)...)
	print, err := hex.DecodeString(k.Fingerprint())
	require.NoError(f, err)
	blob := slices.Concat([]byte{0, 0, 0, 0, 2, 1, 0, 0, 0, 0, 0, 48, 0, 0, 0, 0, 0, 1, 0, 28}, print, make([]byte, 8), bin)
	binary.BigEndian.PutUint32(blob, uint32(len(blob)))
	binary.BigEndian.PutUint32(blob[12:], uint32(len(bin)))
	box = append(box, blob...)
	if keys, err := keyring.Read(box, keyring.At{Now: time.Now()}); err != nil || len(keys) != 1 {
		f.Fatal("the keybox of the seeds is not sound", err)
	}
	f.Add(box)
	f.Fuzz(func(t *testing.T, data []byte) {
		work := 500
		keys, err := keyring.Read(data, keyring.At{Now: time.Now(), Work: &work})
		if err == nil && len(keys) == 0 {
			t.Fatal("no key and no error")
		}
		for _, k := range keys {
			if k.Used == (k.UnusedBecause != "") {
				t.Fatalf("used and passed over, or neither: %+v", k)
			}
		}
		_ = keyring.ReadRings([][]byte{data, data}, keyring.At{})   // whatever it says, it ends
		_, _ = keyring.ReadWeb(data, data, keyring.At{Work: &work}) // likewise
	})
}

func TestJoiningIsAsWritingTogether(t *testing.T) {
	var blocks []string
	var all openpgp.EntityList
	for _, name := range []string{"a", "b", "c"} {
		e := key(t, name, 2).Entity
		one, err := keyring.Armor(openpgp.EntityList{e})
		require.NoError(t, err)
		blocks, all = append(blocks, one), append(all, e)
		together, err := keyring.Armor(all)
		require.NoError(t, err)
		joined, err := keyring.Join(blocks)
		require.NoError(t, err)
		assert.Equal(t, together, joined)
	}
	_, err := keyring.Join([]string{"no key", "at all"})
	assert.Error(t, err)
}

// However many packets of no kind stand in a text, or beside a certificate, no more than so many are looked at.
func TestPacketsThatSayNothingAreBounded(t *testing.T) {
	k := key(t, "bounded", 1)
	bin, err := k.Binary()
	require.NoError(t, err)
	long := append(bin, bytes.Repeat([]byte("\xc0\x00"), 1<<20)...)
	for _, at := range []keyring.At{{Now: time.Now()}, {Now: time.Now(), Imports: true}} {
		keys, err := keyring.Read(long, at)
		assert.ErrorContains(t, err, "the rest was not looked at")
		assert.Len(t, keys, 1)
	}
}
