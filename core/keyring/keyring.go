// Package keyring reads OpenPGP certificates, RFC 9580 and its forerunners, and
// says what a package manager would trust them for.
package keyring

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/source"
)

// ErrNoKey is returned for text in which no certificate stands.
var ErrNoKey = errors.New("no OpenPGP certificate in it")

// ErrSecret is returned for text that holds a private key.
var ErrSecret = errors.New("it holds a private key; export the public one alone")

const armorStart = "-----BEGIN PGP"

// Certificates returns the certificates in data, armoured or binary, in order.
func Certificates(data []byte) (openpgp.EntityList, error) {
	raw, err := dearmor(data)
	if err != nil {
		return nil, err
	}
	if isKeybox(raw) {
		if raw, err = unbox(raw); err != nil {
			return nil, err
		}
	}
	if len(bytes.TrimSpace(raw)) == 0 {
		return nil, ErrNoKey
	}
	list, err := openpgp.ReadKeyRing(bytes.NewReader(raw))
	if err != nil && len(list) == 0 {
		return nil, fmt.Errorf("%w: %v", ErrNoKey, err)
	}
	if len(list) == 0 {
		return nil, ErrNoKey
	}
	for _, e := range list {
		if e.PrivateKey != nil {
			return nil, ErrSecret
		}
	}
	return list, nil
}

// dearmor returns the packets of all armoured blocks in data, or data itself
// where it is not armoured.
func dearmor(data []byte) ([]byte, error) {
	if !bytes.Contains(data, []byte(armorStart)) {
		return data, nil
	}
	var out []byte
	for rest := data; ; {
		i := bytes.Index(rest, []byte(armorStart))
		if i < 0 {
			return out, nil
		}
		rest = rest[i:]
		block, err := armor.Decode(bytes.NewReader(rest))
		if err != nil {
			return nil, fmt.Errorf("%w: the armour is damaged: %v", ErrNoKey, err)
		}
		body, err := io.ReadAll(block.Body)
		if err != nil {
			return nil, fmt.Errorf("%w: the armour is damaged: %v", ErrNoKey, err)
		}
		out = append(out, body...)
		rest = rest[len(armorStart):]
	}
}

// Read describes the certificates in data; Where and Scope are left to the caller.
func Read(data []byte) ([]source.Key, error) {
	list, err := Certificates(data)
	if err != nil {
		return nil, err
	}
	keys := make([]source.Key, 0, len(list))
	for _, e := range list {
		keys = append(keys, Describe(e))
	}
	return keys, nil
}

// Result is what Read says of one text.
type Result struct {
	Keys []source.Key
	Err  error
}

// ReadAll is Read for many texts, side by side: most of the work is to check the
// signatures that certificates make on themselves. Equal texts are read once.
func ReadAll(texts [][]byte) []Result {
	out := make([]Result, len(texts))
	first := make(map[string]int, len(texts)) // text → where it stands first
	var todo []int
	for i, text := range texts {
		if _, ok := first[string(text)]; !ok {
			first[string(text)] = i
			todo = append(todo, i)
		}
	}
	var next atomic.Int64
	var group sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(todo)) {
		group.Go(func() {
			for n := next.Add(1) - 1; int(n) < len(todo); n = next.Add(1) - 1 {
				i := todo[n]
				out[i].Keys, out[i].Err = Read(texts[i])
			}
		})
	}
	group.Wait()
	for i, text := range texts {
		if j := first[string(text)]; j != i {
			out[i] = Result{slices.Clone(out[j].Keys), out[j].Err}
		}
	}
	return out
}

// Describe tells what a certificate says of itself.
func Describe(e *openpgp.Entity) source.Key {
	k := source.Key{
		Fingerprint: Fingerprint(e),
		UserIDs:     []string{},
		Algorithm:   algorithm(e.PrimaryKey),
		Created:     e.PrimaryKey.CreationTime.UTC(),
		Subkeys:     []source.Subkey{},
		Revoked:     len(e.Revocations) > 0,
	}
	for name := range e.Identities {
		k.UserIDs = append(k.UserIDs, strings.ToValidUTF8(name, "\uFFFD"))
	}
	slices.Sort(k.UserIDs)
	if sig := newestSelfSignature(e); sig != nil {
		k.Expires = expiry(e.PrimaryKey, sig.KeyLifetimeSecs)
	}
	for i := range e.Subkeys {
		s := &e.Subkeys[i]
		sub := source.Subkey{
			Fingerprint: strings.ToUpper(hex.EncodeToString(s.PublicKey.Fingerprint)),
			Revoked:     len(s.Revocations) > 0,
		}
		if s.Sig != nil {
			sub.CanSign = s.PublicKey.PubKeyAlgo.CanSign() && s.Sig.FlagsValid && s.Sig.FlagSign
			sub.Expires = expiry(s.PublicKey, s.Sig.KeyLifetimeSecs)
		}
		k.Subkeys = append(k.Subkeys, sub)
	}
	return k
}

// newestSelfSignature returns the signature that says how long the key lasts: the
// one made last, over the key itself or over any of its user ids.
func newestSelfSignature(e *openpgp.Entity) *packet.Signature {
	newest := e.SelfSignature
	for _, id := range e.Identities {
		if s := id.SelfSignature; s != nil && (newest == nil || s.CreationTime.After(newest.CreationTime)) {
			newest = s
		}
	}
	return newest
}

func expiry(k *packet.PublicKey, seconds *uint32) *time.Time {
	if seconds == nil || *seconds == 0 {
		return nil
	}
	t := k.CreationTime.Add(time.Duration(*seconds) * time.Second).UTC()
	return &t
}

// Fingerprint returns a certificate's primary fingerprint, upper-case hex.
func Fingerprint(e *openpgp.Entity) string {
	return strings.ToUpper(hex.EncodeToString(e.PrimaryKey.Fingerprint))
}

// algorithm names a key's algorithm as gpg's listings do: rsa4096, ed25519.
func algorithm(k *packet.PublicKey) string {
	name := map[packet.PublicKeyAlgorithm]string{
		packet.PubKeyAlgoRSA: "rsa", packet.PubKeyAlgoRSAEncryptOnly: "rsa", packet.PubKeyAlgoRSASignOnly: "rsa",
		packet.PubKeyAlgoDSA: "dsa", packet.PubKeyAlgoElGamal: "elg", packet.PubKeyAlgoECDSA: "ecdsa",
		packet.PubKeyAlgoECDH: "ecdh", packet.PubKeyAlgoEdDSA: "ed25519", packet.PubKeyAlgoEd25519: "ed25519",
		packet.PubKeyAlgoX25519: "x25519", packet.PubKeyAlgoEd448: "ed448", packet.PubKeyAlgoX448: "x448",
	}[k.PubKeyAlgo]
	switch name {
	case "":
		return fmt.Sprintf("algorithm %d", k.PubKeyAlgo)
	case "rsa", "dsa", "elg":
		bits, err := k.BitLength()
		if err != nil {
			return name
		}
		return fmt.Sprintf("%s%d", name, bits)
	}
	return name
}

// ParseFingerprint takes a fingerprint as people write it, blanks and colons
// allowed, and returns it as upper-case hex of 40 or 64 digits.
func ParseFingerprint(s string) (string, error) {
	fpr := strings.ToUpper(strings.NewReplacer(" ", "", "\t", "", ":", "", "0x", "").Replace(s))
	if _, err := hex.DecodeString(fpr); err != nil {
		return "", fmt.Errorf("fingerprint %q is not hexadecimal", s)
	}
	if len(fpr) != 40 && len(fpr) != 64 {
		return "", fmt.Errorf("fingerprint %q has %d digits; a full fingerprint has 40 (or 64, for version 6)", s, len(fpr))
	}
	return fpr, nil
}

// Armor writes certificates as one armoured block, ending in a newline.
func Armor(list openpgp.EntityList) (string, error) {
	var out bytes.Buffer
	w, err := armor.Encode(&out, openpgp.PublicKeyType, nil)
	if err != nil {
		return "", err
	}
	for _, e := range list {
		if err := e.Serialize(w); err != nil {
			return "", err
		}
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	return strings.TrimRight(out.String(), "\n") + "\n", nil
}

// Join makes one armoured block of several, without looking into them: one block may
// hold any number of certificates.
func Join(blocks []string) (string, error) {
	if len(blocks) == 1 {
		return blocks[0], nil
	}
	var out bytes.Buffer
	w, err := armor.Encode(&out, openpgp.PublicKeyType, nil)
	if err != nil {
		return "", err
	}
	for _, text := range blocks {
		block, err := armor.Decode(strings.NewReader(text))
		if err != nil {
			return "", err
		}
		if _, err := io.Copy(w, block.Body); err != nil {
			return "", err
		}
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	return strings.TrimRight(out.String(), "\n") + "\n", nil
}
