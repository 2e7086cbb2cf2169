package keyring

import (
	"bytes"
	//lint:ignore SA1019 old keys are of that kind
	"crypto/dsa"
	"crypto/sha1" // fingerprints of version 4 are made with it
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/source"
)

// What gpg makes of a certificate: which of its parts are bound to it, when it ends, what
// it may do. The rules are those of GnuPG 2.2 (g10/getkey.c, merge_selfsigs), seen by
// asking it about composed certificates; judge_test.go keeps them.

// judged is a certificate with what its own signatures say of it.
type judged struct {
	*certificate
	id      uint64
	now     time.Time
	valid   bool // something of it is signed by itself
	revoked bool
	expires *time.Time
	users   []judgedUser
}

type judgedUser struct {
	name             string
	bound            bool // by a signature that is good and not taken back
	revoked, primary bool
	created          time.Time
	expires          *time.Time // of the key, as the user id's signature says
}

// judge works out what gpg would say of a certificate at a time.
func (c *certificate) judge(now time.Time) *judged {
	j := &judged{certificate: c, id: c.primary.KeyId, now: now}
	direct := j.directSignature()
	for _, u := range c.users {
		j.users = append(j.users, j.user(u))
	}
	j.expiry(direct)
	j.choosePrimary()
	return j
}

// own reports whether a signature names this certificate as its maker.
func (j *judged) own(sig *packet.Signature) bool {
	return sig.IssuerKeyId != nil && *sig.IssuerKeyId == j.id
}

// good reports whether the certificate made a signature over itself and what hashed
// writes.
func (j *judged) good(sig *packet.Signature, hashed func(w *bytes.Buffer) error) bool {
	return j.signed(sig, j.primary, hashed)
}

// signed reports whether the certificate made a signature over a key and what hashed writes.
func (j *judged) signed(sig *packet.Signature, key *packet.PublicKey, hashed func(w *bytes.Buffer) error) bool {
	if j.primary.CreationTime.After(sig.CreationTime) || !j.now.IsZero() && j.primary.CreationTime.After(j.now) {
		return false // gpg calls it a conflict of times
	}
	h, err := sig.PrepareVerify()
	if err != nil || !longEnough(j.primary, h.Size()*8) {
		return false
	}
	var text bytes.Buffer
	if key.SerializeForHash(&text) != nil || hashed(&text) != nil {
		return false
	}
	h.Write(text.Bytes())
	return j.primary.VerifySignature(h, sig) == nil
}

// orders are how many bits the groups of curves have.
var orders = map[packet.Curve]int{
	packet.CurveNistP256: 256, packet.CurveNistP384: 384, packet.CurveNistP521: 512, // more than any hash has
	packet.CurveBrainpoolP256: 256, packet.CurveBrainpoolP384: 384, packet.CurveBrainpoolP512: 512, packet.CurveSecP256k1: 256,
}

// longEnough reports whether gpg takes a hash of some bits for a key: one shorter than
// the group of DSA or of the curve is refused.
func longEnough(k *packet.PublicKey, bits int) bool {
	switch k.PubKeyAlgo {
	case packet.PubKeyAlgoDSA:
		key, ok := k.PublicKey.(*dsa.PublicKey)
		return ok && bits >= key.Q.BitLen()
	case packet.PubKeyAlgoECDSA:
		curve, err := k.Curve()
		return err == nil && bits >= orders[curve]
	}
	return true
}

func nothing(*bytes.Buffer) error { return nil }

// over is what is hashed for a user id or an attribute.
func over(u *user) func(*bytes.Buffer) error {
	return func(w *bytes.Buffer) error {
		kind := byte(0xb4)
		if u.attribute {
			kind = 0xd1
		}
		w.WriteByte(kind)
		_ = binary.Write(w, binary.BigEndian, uint32(len(u.body))) // a buffer takes all
		w.Write(u.body)
		return nil
	}
}

// ended reports whether a signature itself has ended.
func (j *judged) ended(sig *packet.Signature) bool {
	if sig.SigLifetimeSecs == nil || *sig.SigLifetimeSecs == 0 || j.now.IsZero() {
		return false
	}
	return !sig.CreationTime.Add(time.Duration(*sig.SigLifetimeSecs) * time.Second).After(j.now)
}

// newestFirst orders signatures: the newest first, and of those made at one time the last.
func newestFirst(list []*packet.Signature) []*packet.Signature {
	if len(list) < 2 {
		return list
	}
	out := slices.Clone(list)
	slices.Reverse(out)
	slices.SortStableFunc(out, func(a, b *packet.Signature) int { return b.CreationTime.Compare(a.CreationTime) })
	return out
}

// directSignature finds the newest signature over the key alone, and whether the key was
// revoked.
func (j *judged) directSignature() (newest *packet.Signature) {
	for _, sig := range newestFirst(j.direct) {
		switch {
		case !j.own(sig):
		case sig.SigType == packet.SigTypeKeyRevocation:
			j.revoked = j.revoked || j.good(sig, nothing)
		case newest == nil && sig.SigType == packet.SigTypeDirectSignature && !j.ended(sig) && j.good(sig, nothing):
			newest = sig
		}
	}
	return newest
}

// user judges a user id by the newest of its own signatures and revocations.
func (j *judged) user(u *user) (out judgedUser) {
	out.name = string(u.body)
	var newest *packet.Signature
	for _, sig := range newestFirst(u.signatures) {
		certifies := sig.SigType >= packet.SigTypeGenericCert && sig.SigType <= packet.SigTypePositiveCert
		if j.own(sig) && (certifies || sig.SigType == packet.SigTypeCertificationRevocation) && j.good(sig, over(u)) {
			newest = sig
			break
		}
	}
	if newest == nil {
		return out
	}
	j.valid, out.bound = true, true
	if newest.SigType == packet.SigTypeCertificationRevocation {
		out.revoked = true
		return out
	}
	if j.ended(newest) {
		return out
	}
	out.created = newest.CreationTime
	out.primary = newest.IsPrimaryId != nil && *newest.IsPrimaryId
	out.expires = expiry(j.primary, newest.KeyLifetimeSecs)
	return out
}

// expiry settles when the key ends: a signature over the key alone goes
// before those over user ids, of which the newest counts that says anything.
func (j *judged) expiry(direct *packet.Signature) {
	if direct != nil {
		j.valid = true
		j.expires = expiry(j.primary, direct.KeyLifetimeSecs)
	}
	said := j.expires != nil
	var date time.Time
	for i := range j.users {
		u := &j.users[i]
		if j.certificate.users[i].attribute {
			continue
		}
		if !said && u.expires != nil && u.created.After(date) {
			j.expires, date = u.expires, u.created
		}
	}
}

// choosePrimary marks the user id that gpg shows first: the newest of those that call
// themselves primary, else the newest, else the longest.
func (j *judged) choosePrimary() {
	best := -1
	better := func(a, b *judgedUser) bool {
		switch {
		case a.primary != b.primary:
			return a.primary
		case !a.created.Equal(b.created):
			return a.created.After(b.created)
		case len(a.name) != len(b.name):
			return len(a.name) > len(b.name)
		}
		return a.name > b.name
	}
	for i := range j.users {
		u := &j.users[i]
		if !j.certificate.users[i].attribute && u.bound && (best < 0 || better(u, &j.users[best])) {
			best = i
		}
	}
	for i := range j.users {
		j.users[i].primary = i == best
	}
}

// bound judges a subkey; ok is false where gpg passes it over: it is of a kind that is not
// known, or the certificate never made a signature over it.
func (j *judged) bound(s *subkey) (out source.Subkey, ok bool) {
	if s.key == nil {
		return out, false
	}
	out.Fingerprint = strings.ToUpper(hex.EncodeToString(s.key.Fingerprint))
	hashed := func(w *bytes.Buffer) error { return s.key.SerializeForHash(w) }
	var newest *packet.Signature
	for _, sig := range newestFirst(s.signatures) {
		binds := sig.SigType == packet.SigTypeSubkeyBinding
		if !j.own(sig) || !binds && sig.SigType != packet.SigTypeSubkeyRevocation || binds && newest != nil || !j.good(sig, hashed) {
			continue
		}
		ok = true
		if binds {
			newest = sig
		} else {
			out.Revoked = true
		}
	}
	if newest != nil && j.ended(newest) { // gpg keeps no older one
		newest = nil
	}
	if newest == nil || !j.valid {
		out.Revoked = false // gpg calls it invalid rather than revoked
	}
	if newest == nil {
		return out, ok
	}
	out.CanSign = s.key.PubKeyAlgo.CanSign() && (newest.FlagSign || !newest.FlagsValid)
	out.Expires = expiry(s.key, newest.KeyLifetimeSecs)
	out.Revoked = j.valid && (out.Revoked || j.revoked)
	return out, ok
}

// describe tells what a certificate says of itself. One that gpg takes for nothing is
// told with why.
func (c *certificate) describe(now time.Time) source.Key {
	if c.known != nil {
		k := *c.known
		k.UserIDs, k.Subkeys = slices.Clone(k.UserIDs), slices.Clone(k.Subkeys)
		return k
	}
	if c.primary == nil {
		return c.unknown()
	}
	if c.beyond {
		return source.Key{
			Fingerprint: c.fingerprint(), UserIDs: []string{}, Subkeys: []source.Subkey{},
			Algorithm: algorithm(c.primary), Created: c.primary.CreationTime.UTC(), UnusedBecause: tooMuch,
		}
	}
	j := c.judge(now)
	c.verdict = j
	k := source.Key{
		Fingerprint: c.fingerprint(),
		UserIDs:     []string{},
		Algorithm:   algorithm(c.primary),
		Created:     c.primary.CreationTime.UTC(),
		Expires:     j.expires,
		Revoked:     j.revoked && j.valid,
		Subkeys:     []source.Subkey{},
		Used:        true,
	}
	for i, u := range j.users {
		if c.users[i].attribute || !u.bound {
			continue
		}
		name := strings.ToValidUTF8(u.name, "\uFFFD")
		if u.primary {
			k.UserIDs = slices.Insert(k.UserIDs, 0, name)
		} else {
			k.UserIDs = append(k.UserIDs, name)
		}
	}
	for _, s := range c.subkeys {
		if sub, ok := j.bound(s); ok {
			k.Subkeys = append(k.Subkeys, sub)
		}
	}
	if !j.valid {
		k.Used, k.UnusedBecause = false, "gpg calls it invalid: no good signature of its own binds anything to it"
	}
	return k
}

// fingerprint is that of the primary key, also where nothing of the certificate was judged.
func (c *certificate) fingerprint() string {
	if c.primary == nil {
		return c.unknown().Fingerprint
	}
	return strings.ToUpper(hex.EncodeToString(c.primary.Fingerprint))
}

// unknown describes a certificate whose primary key is of a kind that is not understood.
func (c *certificate) unknown() source.Key {
	k := source.Key{UserIDs: []string{}, Subkeys: []source.Subkey{}, UnusedBecause: "its primary key is cut off"}
	if len(c.body) < 6 {
		return k
	}
	version := c.body[0]
	k.Created = time.Unix(int64(binary.BigEndian.Uint32(c.body[1:])), 0).UTC()
	k.UnusedBecause = fmt.Sprintf("gpg does not know keys of version %d", version)
	if version == 4 {
		head := []byte{0x99, byte(len(c.body) >> 8), byte(len(c.body))}
		sum := sha1.Sum(append(head, c.body...)) // as RFC 4880, section 12.2, says
		k.Fingerprint = strings.ToUpper(hex.EncodeToString(sum[:]))
		k.Algorithm = fmt.Sprintf("algorithm %d", c.body[5])
		k.UnusedBecause = fmt.Sprintf("its algorithm %d is not known, or the key is damaged", c.body[5])
	}
	return k
}
