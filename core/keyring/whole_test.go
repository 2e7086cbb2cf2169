package keyring_test

import (
	"bytes"
	"maps"
	"slices"

	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/armor"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/keyforms"
	"patientlantern.example/lantern/standin"
)

// odd are packets that are found beside certificates, and those that nobody knows.
var odd = map[string][2]string{
	"": {}, "trust behind": {"", "\xb0\x02\x00\x03"}, "marker in front": {"\xca\x03PGP", ""}, "marker behind": {"", "\xca\x03PGP"},
	"private packet behind": {"", "\xfc\x02ab"}, "private packet in front": {"\xfc\x02ab", ""},
	"key of version 3 in front": {"\xc6\x0d\x03\x60\x00\x00\x00\x00\x00\x01\x00\x08\x81\x00\x02", ""},
	"key of version 3 behind":   {"", "\xc6\x0d\x03\x60\x00\x00\x00\x00\x00\x01\x00\x08\x81\x00\x02"},
	"key of version 9 behind":   {"", "\xc6\x0d\x09\x60\x00\x00\x00\x01\x00\x08\x81\x00\x02\x03"},
	"key of algorithm 77":       {"", "\xc6\x0d\x04\x60\x00\x00\x00\x4d\x00\x08\x81\x00\x02\x03\x04"},
	"user id behind":            {"", "\xcd\x04Gull"}, "user id in front": {"\xcd\x04Gull", ""},
	"broken signature behind": {"", "\xc2\x03\x04\x01\x02"}, "padding behind": {"", "\xd5\x02ab"},
}

// besides puts odd packets beside a certificate, in both of its forms.
func besides(what string, bin []byte, armour string) ([]byte, string) {
	if what == "" {
		return bin, armour
	}
	raw := odd[what][0] + string(bin) + odd[what][1]
	var out bytes.Buffer
	w, err := armor.Encode(&out, "PGP PUBLIC KEY BLOCK", nil)
	if err == nil {
		_, err = w.Write([]byte(raw))
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		panic(err)
	}
	return []byte(raw), out.String() + "\n"
}

// Of any key file the reading as a whole finds what sqv accepts signatures of, and gives up
// where sqv does.
func TestWholeFilesAreTakenAsSQVTakesThem(t *testing.T) {
	at := time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	var keys []*standin.Key
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "text"), []byte("the tide comes\n"), 0o600))
	for _, name := range []string{"a", "b"} {
		k, err := standin.NewKey(name, "Saltmarsh "+name+" <packages@saltmarsh.example>", at, 0)
		require.NoError(t, err)
		sig, err := k.BinarySign([]byte("the tide comes\n"), at.AddDate(0, 1, 0))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".sig"), sig, 0o600))
		keys = append(keys, k)
	}
	most, n := cell.Rounds(150), 0
	rapid.Check(t, func(rt *rapid.T) {
		if n++; n > most {
			return
		}
		var text strings.Builder
		var forms []string
		for i := range rapid.IntRange(1, 2).Draw(rt, "keys") {
			bin, err := keys[i].Binary()
			require.NoError(rt, err)
			armour, err := keys[i].Public()
			require.NoError(rt, err)
			forms = append(forms, rapid.SampledFrom(keyforms.Names()).Draw(rt, "form"))
			if forms[i] != "keybox" { // gpg makes it, and takes no odd packets
				bin, armour = besides(rapid.SampledFrom(slices.Sorted(maps.Keys(odd))).Draw(rt, "beside"), bin, armour)
			}
			text.WriteString(keyforms.Write(forms[i], bin, armour))
		}
		file := filepath.Join(dir, "key")
		require.NoError(rt, os.WriteFile(file, []byte(text.String()), 0o600))
		rings := keyring.ReadWhole([][]byte{[]byte(text.String())}, keyring.At{Now: at.AddDate(0, 2, 0)})
		for i, name := range []string{"a", "b"} {
			out, err := exec.Command("sqv", "--keyring", file, filepath.Join(dir, name+".sig"), filepath.Join(dir, "text")).CombinedOutput()
			ours := false
			for _, k := range rings[0].Keys {
				ours = ours || rings[0].Err == nil && k.Used && k.Fingerprint == keys[i].Fingerprint()
			}
			require.Equal(rt, err == nil, ours, "%s of %q, %q: %s\n%v", name, forms, text.String(), out, rings[0].Err)
		}
	})
}

// The policy is that of Debian 13's apt, after the end of January 2026.
const aptsPolicy = `[asymmetric_algorithms]
dsa2048 = 2024-02-01
dsa3072 = 2024-02-01
dsa4096 = 2024-02-01
brainpoolp256 = 2028-02-01
brainpoolp384 = 2028-02-01
brainpoolp512 = 2028-02-01
rsa2048  = 2030-02-01

[hash_algorithms]
sha1.second_preimage_resistance = 2026-02-01
sha224 = 2026-02-01
`

// Keys that are too weak for sqv are not called used where sqv decides.
func TestWeakKeysAreShunnedAsSQVShunsThem(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	home := filepath.Join(dir, "home")
	require.NoError(t, os.Mkdir(home, 0o700))
	file := func(name string) string { return filepath.Join(dir, name) }
	run := func(name string, args ...string) error {
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), "GNUPGHOME="+home, "SEQUOIA_CRYPTO_POLICY="+file("policy"))
		return cmd.Run()
	}
	require.NoError(t, os.WriteFile(file("policy"), []byte(aptsPolicy), 0o600))
	require.NoError(t, os.WriteFile(file("text"), []byte("the tide comes\n"), 0o600))
	for _, x := range []struct{ name, algorithm, hash string }{
		{"dsa", "dsa2048", "SHA512"}, {"short", "rsa1024", "SHA512"}, {"usual", "rsa2048", "SHA512"}, {"sha1", "rsa3072", "SHA1"},
		{"edwards", "ed25519", "SHA512"}, {"nist", "nistp256", "SHA512"}, {"brainpool", "brainpoolP256r1", "SHA512"},
		{"koblitz", "secp256k1", "SHA512"},
	} {
		gpg := []string{"--batch", "--quiet", "--no-tty", "--passphrase", ""}
		as := func(args ...string) []string { return append(slices.Clone(gpg), args...) }
		require.NoError(t, run("gpg", as("--cert-digest-algo", x.hash, "--quick-gen-key", x.name+" <x@saltmarsh.example>", x.algorithm, "sign", "never")...))
		require.NoError(t, run("gpg", as("-u", x.name, "--digest-algo", "SHA512", "--detach-sign", "-o", file(x.name+".sig"), file("text"))...))
		require.NoError(t, run("gpg", as("-o", file(x.name+".gpg"), "--export", x.name)...))
		text, err := os.ReadFile(file(x.name + ".gpg"))
		require.NoError(t, err)
		taken := run("sqv", "--keyring", file(x.name+".gpg"), file(x.name+".sig"), file("text")) == nil
		if x.name == "dsa" {
			taken = false // sqv of Debian 12 reads no such dates
		}
		k := keyring.ReadWhole([][]byte{text}, keyring.At{})[0].Keys[0]
		require.Equal(t, taken, k.Used, "%s: %s", x.name, k.UnusedBecause)
	}
}
