// Package standin plays the world outside: vendors' repositories and hosts,
// small and made up, so that everything can be tried with no network.
package standin

import (
	"bytes"
	"crypto"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/keyring"
)

// Key is a made-up vendor's signing key. It is derived from its name, so that
// the public half can stand in the demo's policy and no private key need be
// stored anywhere. It protects nothing.
type Key struct {
	Name   string
	Entity *openpgp.Entity
}

// stream is an endless sequence of bytes that follows from a name.
type stream struct {
	seed  [32]byte
	count uint64
	rest  []byte
}

func (s *stream) Read(p []byte) (int, error) {
	for len(s.rest) < len(p) {
		var block [40]byte
		copy(block[:], s.seed[:])
		binary.BigEndian.PutUint64(block[32:], s.count)
		s.count++
		sum := sha256.Sum256(block[:])
		s.rest = append(s.rest, sum[:]...)
	}
	n := copy(p, s.rest)
	s.rest = s.rest[n:]
	return n, nil
}

// NewKey derives a key. user is written NAME <ADDRESS>; years is how long it is good; 0 for ever.
func NewKey(name, user string, created time.Time, years int) (*Key, error) {
	c := &packet.Config{
		Rand:        &stream{seed: sha256.Sum256([]byte("patient-lantern stand-in " + name))},
		Time:        func() time.Time { return created },
		Algorithm:   packet.PubKeyAlgoEdDSA,
		DefaultHash: crypto.SHA256,
	}
	if years > 0 {
		c.KeyLifetimeSecs = uint32(years * 365 * 24 * 3600)
	}
	who, mail, _ := strings.Cut(strings.TrimSuffix(user, ">"), " <")
	e, err := openpgp.NewEntity(who, "", mail, c)
	if err != nil {
		return nil, fmt.Errorf("making the key %s: %w", name, err)
	}
	e.Subkeys = nil // signing is all that it is for
	return &Key{name, e}, nil
}

// Fingerprint returns the key's fingerprint.
func (k *Key) Fingerprint() string { return keyring.Fingerprint(k.Entity) }

// Public returns the public half, armoured.
func (k *Key) Public() (string, error) { return keyring.Armor(openpgp.EntityList{k.Entity}) }

// Binary returns the public half, not armoured.
func (k *Key) Binary() ([]byte, error) {
	var b bytes.Buffer
	err := k.Entity.Serialize(&b)
	return b.Bytes(), err
}

// ClearSign signs a text as InRelease files are signed.
func (k *Key) ClearSign(text []byte, at time.Time) ([]byte, error) {
	var b bytes.Buffer
	w, err := clearsign.Encode(&b, k.Entity.PrivateKey, &packet.Config{DefaultHash: crypto.SHA256, Time: func() time.Time { return at }})
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	b.WriteByte('\n')
	return b.Bytes(), nil
}

// DetachSign makes the signature that stands in Release.gpg.
func (k *Key) DetachSign(text []byte, at time.Time) ([]byte, error) {
	var b bytes.Buffer
	err := openpgp.ArmoredDetachSign(
		&b,
		k.Entity,
		bytes.NewReader(text),
		&packet.Config{DefaultHash: crypto.SHA256, Time: func() time.Time { return at }},
	)
	return b.Bytes(), err
}

// BinarySign makes the signature that stands beside pacman's databases.
func (k *Key) BinarySign(data []byte, at time.Time) ([]byte, error) {
	var b bytes.Buffer
	err := openpgp.DetachSign(
		&b,
		k.Entity,
		bytes.NewReader(data),
		&packet.Config{DefaultHash: crypto.SHA256, Time: func() time.Time { return at }},
	)
	return b.Bytes(), err
}

// Keys of the scenario's vendors.
var vendorKeys = []struct {
	name, user, created string
	years               int
}{
	{"skerry-archive", "Skerry Archive <archive@skerry.example>", "2023-04-01", 0},
	{"foreland-archive", "Foreland Archive <archive@foreland.example>", "2023-09-01", 0},
	{"halyard-archive", "Halyard Archive <archive@halyard.example>", "2023-05-01", 0},
	{"saltmarsh-2026", "Saltmarsh Packages <packages@saltmarsh.example>", "2024-01-15", 4},
	{"saltmarsh-2029", "Saltmarsh Packages 2029 <packages@saltmarsh.example>", "2026-09-01", 6},
	{"gannet-2025", "Gannet Release Signing <release@gannet.example>", "2025-02-03", 5},
	{"fulmar-2025", "Fulmar Builds <builds@fulmar.example>", "2025-03-01", 5},
	{"curlew-2025", "Curlew Applications <apps@curlew.example>", "2025-05-20", 5},
	{"brinewick-shelf", "Brinewick Shelf <shelf@brinewick.test>", "2026-01-10", 5},
	{"plover-2024", "Plover Metrics <keys@plover.example>", "2024-06-10", 5},
}

// Keys returns the scenario's keys by name.
func Keys() (map[string]*Key, error) {
	out := map[string]*Key{}
	for _, v := range vendorKeys {
		t, err := time.Parse(time.DateOnly, v.created)
		if err != nil {
			return nil, err
		}
		if out[v.name], err = NewKey(v.name, v.user, t, v.years); err != nil {
			return nil, err
		}
	}
	return out, nil
}
