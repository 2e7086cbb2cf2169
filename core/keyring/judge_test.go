package keyring_test

import (
	"bytes"
	"crypto"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/internal/keyforms"
	"patientlantern.example/lantern/standin"
)

// pool are keys of several kinds, made once: making RSA keys is slow.
var pool = sync.OnceValue(func() (out []*packet.PrivateKey) {
	at := time.Date(2021, 3, 1, 0, 0, 0, 0, time.UTC)
	for i, config := range []*packet.Config{
		{Algorithm: packet.PubKeyAlgoEdDSA, Curve: packet.Curve25519},
		{Algorithm: packet.PubKeyAlgoEdDSA, Curve: packet.Curve25519},
		{Algorithm: packet.PubKeyAlgoECDSA, Curve: packet.CurveNistP256},
		{Algorithm: packet.PubKeyAlgoECDSA, Curve: packet.CurveNistP384},
		{Algorithm: packet.PubKeyAlgoECDSA, Curve: packet.CurveBrainpoolP256},
		{Algorithm: packet.PubKeyAlgoECDSA, Curve: packet.CurveSecP256k1},
		{Algorithm: packet.PubKeyAlgoRSA, RSABits: 2048},
	} {
		config.Time = func() time.Time { return at.Add(time.Duration(i) * time.Second) }
		e, err := openpgp.NewEntity("Saltmarsh", "", "packages@saltmarsh.example", config)
		if err != nil {
			panic(err)
		}
		out = append(out, e.PrivateKey)
	}
	return out
})

// days are moments around which signatures are made and end.
func day(n int) time.Time { return time.Date(2021, 3, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, n) }

// composed draws a certificate put together by hand, odd on purpose.
func composed(t *rapid.T) []byte {
	keys := pool()
	primary := rapid.SampledFrom(keys).Draw(t, "primary")
	other := keys[0]
	if primary == other {
		other = keys[1]
	}
	var out bytes.Buffer
	must := func(err error) {
		if err != nil {
			t.Fatal(err)
		}
	}
	must(primary.PublicKey.Serialize(&out))
	config := &packet.Config{DefaultHash: crypto.SHA256}
	seconds := func(label string, values ...int) *uint32 {
		n := rapid.SampledFrom(values).Draw(t, label)
		if n < 0 {
			return nil
		}
		s := uint32(n * 86400)
		return &s
	}
	signature := func(kind packet.SignatureType) *packet.Signature {
		signer := primary
		if rapid.IntRange(0, 9).Draw(t, "stranger") == 0 {
			signer = other
		}
		id := signer.KeyId
		sig := &packet.Signature{Version: 4, SigType: kind, PubKeyAlgo: signer.PubKeyAlgo, Hash: crypto.SHA256, IssuerKeyId: &id,
			CreationTime:    day(rapid.SampledFrom([]int{-1, 1, 10, 20, 20, 30, 400}).Draw(t, "made")),
			KeyLifetimeSecs: seconds("ends", -1, -1, 0, 5, 900, 4000, 5000),
			SigLifetimeSecs: seconds("itself ends", -1, -1, -1, -1, 0, 5, 5000)}
		if rapid.IntRange(0, 2).Draw(t, "flags") > 0 {
			sig.FlagsValid = true
			sig.FlagSign, sig.FlagCertify = rapid.Bool().Draw(t, "signs"), rapid.Bool().Draw(t, "certifies")
		}
		if rapid.IntRange(0, 3).Draw(t, "first") == 0 {
			yes := rapid.Bool().Draw(t, "primary id")
			sig.IsPrimaryId = &yes
		}
		return sig
	}
	signer := func(sig *packet.Signature) *packet.PrivateKey {
		if *sig.IssuerKeyId == other.KeyId {
			return other
		}
		return primary
	}
	spoil := func(sig *packet.Signature) {
		var one bytes.Buffer
		must(sig.Serialize(&one))
		text := one.Bytes()
		if rapid.IntRange(0, 11).Draw(t, "spoilt") == 0 {
			text[len(text)-3] ^= 1
		}
		out.Write(text)
	}
	for range rapid.SampledFrom([]int{0, 0, 0, 1, 2}).Draw(t, "direct") {
		kind := rapid.SampledFrom([]packet.SignatureType{packet.SigTypeDirectSignature, packet.SigTypeDirectSignature, packet.SigTypeDirectSignature, packet.SigTypeKeyRevocation}).Draw(t, "kind")
		sig := signature(kind)
		if kind == packet.SigTypeKeyRevocation {
			must(sig.RevokeKey(&primary.PublicKey, signer(sig), config))
		} else {
			must(sig.SignDirectKeyBinding(&primary.PublicKey, signer(sig), config))
		}
		spoil(sig)
	}
	for n := range rapid.SampledFrom([]int{0, 1, 1, 2, 3}).Draw(t, "users") {
		uid := packet.NewUserId(fmt.Sprintf("Saltmarsh %d", n), "", fmt.Sprintf("packages-%d@saltmarsh.example", n))
		must(uid.Serialize(&out))
		for range rapid.SampledFrom([]int{0, 1, 1, 1, 2, 3}).Draw(t, "signatures") {
			sig := signature(rapid.SampledFrom([]packet.SignatureType{packet.SigTypePositiveCert, packet.SigTypePositiveCert, packet.SigTypeGenericCert, packet.SigTypeCertificationRevocation}).Draw(t, "kind"))
			must(sig.SignUserId(uid.Id, &primary.PublicKey, signer(sig), config))
			spoil(sig)
		}
	}
	for range rapid.SampledFrom([]int{0, 0, 1, 2}).Draw(t, "subkeys") {
		sub := *other
		sub.IsSubkey, sub.PublicKey.IsSubkey = true, true
		must(sub.PublicKey.Serialize(&out))
		for range rapid.SampledFrom([]int{0, 1, 1, 1, 2}).Draw(t, "bindings") {
			kind := rapid.SampledFrom([]packet.SignatureType{packet.SigTypeSubkeyBinding, packet.SigTypeSubkeyBinding, packet.SigTypeSubkeyBinding, packet.SigTypeSubkeyRevocation}).Draw(t, "kind")
			sig := signature(kind)
			if kind == packet.SigTypeSubkeyRevocation {
				must(sig.RevokeSubkey(&sub.PublicKey, signer(sig), config))
			} else {
				must(sig.SignKey(&sub.PublicKey, signer(sig), config))
			}
			spoil(sig)
		}
		other = keys[(int(other.PublicKey.CreationTime.Unix())+1)%2]
		if other == primary {
			break
		}
	}
	return out.Bytes()
}

// theirs is what gpg lists of a text with certificates.
func theirs(t testing.TB, data []byte) (out []string) {
	home := t.TempDir()
	name := filepath.Join(home, "key")
	require.NoError(t, os.WriteFile(name, data, 0o600))
	text, _ := exec.Command("gpg", "--homedir", home, "--batch", "--with-colons", "--show-keys", name).Output() // with an error where it takes nothing
	kind := ""
	when := func(s string) string {
		if s == "" {
			return "never"
		}
		n, err := strconv.ParseInt(s, 10, 64)
		require.NoError(t, err)
		return time.Unix(n, 0).UTC().Format(time.DateOnly)
	}
	var f []string
	for line := range strings.Lines(string(text)) {
		g := strings.Split(strings.TrimSpace(line), ":")
		switch g[0] {
		case "pub", "sub":
			kind, f = g[0], g
		case "uid":
			out = append(out, "uid "+g[9])
		case "fpr":
			size := f[16]
			switch f[3] {
			case "1":
				size = "rsa" + f[2]
			case "17":
				size = "dsa" + f[2]
			}
			if kind == "pub" {
				out = append(out, fmt.Sprintf("pub %s %s ends %s revoked %v", g[9], size, when(f[6]), f[1] == "r"))
			} else {
				out = append(out, fmt.Sprintf("sub %s ends %s revoked %v signs %v", g[9], when(f[6]), f[1] == "r", strings.Contains(f[11], "s")))
			}
		}
	}
	return out
}

func ours(data []byte) (out []string) {
	list, _ := keyring.Read(data, keyring.At{Now: time.Now()})
	when := func(at *time.Time) string {
		if at == nil {
			return "never"
		}
		return at.UTC().Format(time.DateOnly)
	}
	for _, k := range list {
		if strings.HasPrefix(k.UnusedBecause, "gpg cannot read it") {
			continue
		}
		out = append(out, fmt.Sprintf("pub %s %s ends %s revoked %v", k.Fingerprint, k.Algorithm, when(k.Expires), k.Revoked))
		for _, u := range k.UserIDs {
			out = append(out, "uid "+u)
		}
		for _, s := range k.Subkeys {
			out = append(out, fmt.Sprintf("sub %s ends %s revoked %v signs %v", s.Fingerprint, when(s.Expires), s.Revoked, s.CanSign))
		}
	}
	return out
}

// What we say of composed certificates is what gpg says.
func TestComposedCertificatesAreAsGPGSeesThem(t *testing.T) {
	if keyforms.Lenient() {
		t.Skip("gpg of this version does not judge certificates that it has not taken up")
	}
	rapid.Check(t, func(rt *rapid.T) {
		data := composed(rt)
		want, got := theirs(t, data), ours(data)
		if strings.Join(want, "\n") != strings.Join(got, "\n") {
			rt.Fatalf("gpg:\n  %s\nours:\n  %s", strings.Join(want, "\n  "), strings.Join(got, "\n  "))
		}
	})
}

// Whatever form a key file has, we find in it what gpg finds.
func TestFormsAreReadAsGPGReadsThem(t *testing.T) {
	for n, k := range []*standin.Key{key(t, "one", 4), key(t, "two", 0)} {
		bin, err := k.Binary()
		require.NoError(t, err)
		armour, err := k.Public()
		require.NoError(t, err)
		for _, form := range keyforms.Names() {
			if form == "keybox" || keyforms.Differs(form) { // gpg keeps it and imports none
				continue
			}
			if strings.Contains(form, "private") && form != "public as private" { // it shows those, and judges none
				continue
			}
			data := []byte(keyforms.Write(form, bin, armour))
			want, got := theirs(t, data), ours(data)
			if len(want) == 1 && len(got) == 0 { // it names the key, and calls it invalid
				want = nil
			}
			assert.Equal(t, want, got, "%s %d", form, n)
		}
	}
}
