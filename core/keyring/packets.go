package keyring

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"

	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/source"
)

// Tags of packets, RFC 4880 section 4.3.
const (
	tagSignature     = 2
	tagSecretKey     = 5
	tagPublicKey     = 6
	tagSecretSubkey  = 7
	tagMarker        = 10
	tagTrust         = 12
	tagUserID        = 13
	tagPublicSubkey  = 14
	tagUserAttribute = 17

	tagKeyForPublicKey = 1
	tagKeyForPassword  = 3
	tagOnePass         = 4
	tagCompressed      = 8
	tagEncrypted       = 9
	tagLiteral         = 11
	tagEncryptedMDC    = 18
	tagMDC             = 19
	tagEncryptedAEAD   = 20
	tagOldComment      = 16 // of gpg
	tagComment         = 61 // likewise
	tagControl         = 63 // likewise
)

// certificate is one certificate as its packets stand in a stream, nothing judged yet.
type certificate struct {
	primary *packet.PublicKey
	at      int                    // where it begins in the stream
	body    []byte                 // of the primary key's packet
	broken  bool                   // something that is no packet stands in it or behind it
	private bool                   // its primary key stands there as a private one
	secret  bool                   // so does any of its keys
	beyond  bool                   // it is not judged: there is too much
	raw     []byte                 // all of it
	known   *source.Key            // what was said of the same certificate before
	shunned string                 // why sqv takes no signature by it
	packets []*packet.OpaquePacket // that are not understood yet, the primary key's first
	verdict *judged                // once it was described
	direct  []*packet.Signature
	users   []*user
	subkeys []*subkey
}

// work is what it takes at most to judge a certificate: its own signatures.
func (c *certificate) work() (n int) {
	if c.primary == nil {
		return 0
	}
	count := func(list []*packet.Signature) {
		for _, sig := range list {
			if sig.IssuerKeyId != nil && *sig.IssuerKeyId == c.primary.KeyId {
				n++
			}
		}
	}
	count(c.direct)
	for _, u := range c.users {
		count(u.signatures)
	}
	for _, s := range c.subkeys {
		count(s.signatures)
	}
	return n * cost(c.primary)
}

// user is a user id, or an attribute such as a picture, with the signatures behind it.
type user struct {
	body       []byte
	attribute  bool
	signatures []*packet.Signature
}

type subkey struct {
	key        *packet.PublicKey // nil where it is of a kind that is not known
	signatures []*packet.Signature
}

// ErrMore is returned for a text of which not all was looked at.
var ErrMore = errors.New("the rest was not looked at")

// mostPackets bounds how many packets of one text are looked at: a certificate of
// somebody known to many has some thousands.
const mostPackets = 200_000

// split takes a stream of packets apart. Where it cannot go on it returns what stood
// before, the last of it marked as broken, and why.
func split(raw []byte, at At) (list []*certificate, err error) {
	if at.Imports {
		return parted(raw, at, behind)
	}
	return parted(raw, at, inRing)
}

// parted is split as a program does it; without a judge what is not whole ends the text.
func parted(raw []byte, at At, of judge) (list []*certificate, err error) {
	src := bytes.NewReader(raw)
	packets := packet.NewOpaqueReader(src)
	var c, held *certificate // held: gpg has not done with it while it passes over what it cannot read
	var trouble error        // of a certificate before, where others are found behind it
	begin := 0
	end := func() {
		if c != nil {
			at.charge(c, raw[c.at:begin])
		}
	}
	defer func() { end() }()
	for n := 0; ; n++ {
		begin = len(raw) - src.Len()
		p, err := packets.Next()
		if errors.Is(err, io.EOF) && p == nil && src.Len() == 0 && begin == len(raw) {
			return list, trouble
		}
		if n == mostPackets {
			return list, fmt.Errorf("more than %d packets stand in it, and %w", mostPackets, ErrMore)
		}
		if errors.Is(err, io.ErrUnexpectedEOF) && p != nil && p.Tag == tagSignature && signature(p) != nil {
			err = nil // it says that it is longer than the text, and all of it stands there
		}
		if of != nil && p != nil && (err == nil || errors.Is(err, io.ErrUnexpectedEOF)) && delimited(raw[begin:]) {
			v := of(p, max(declared(raw[begin:]), len(p.Contents)))
			if at.Imports && begin == 0 && len(p.Contents) == 0 && p.Tag == tagPublicKey {
				v = stopped // an empty packet in front of all
			}
			switch v {
			case passed:
				if p.Tag == tagPublicKey || p.Tag == tagSecretKey { // what follows is of it
					end()
					c, held = nil, cmp.Or(c, held)
				}
				continue
			case hidden: // with the certificate that it stands in; the next one is found
				if c != nil {
					end()
					c.broken, trouble = true, noPacket(begin)
					c = nil
				}
				continue
			case taken:
				err = nil
			default:
				err = errGivenUp
			}
		}
		if err != nil || of == nil && p.Tag == 0 || !delimited(raw[begin:]) || of == nil && !readable(p) {
			if last := cmp.Or(c, held); last != nil {
				last.broken = true
			}
			return list, noPacket(begin)
		}
		hidden := secret(p)
		if hidden {
			var ends int
			if p, ends = public(p); of != nil && ends > 0 {
				src.Reset(raw[begin+headLength(raw[begin:])+ends:])
				packets = packet.NewOpaqueReader(src)
			}
		}
		switch {
		case p.Tag == tagPublicKey:
			end()
			held = nil
			c = &certificate{body: p.Contents, at: begin, beyond: at.spent(), packets: []*packet.OpaquePacket{p}, private: hidden, secret: hidden}
			list = append(list, c)
		case c != nil:
			if c.secret = c.secret || hidden; !c.beyond {
				c.packets = append(c.packets, p)
			}
		}
	}
}

func noPacket(begin int) error {
	return fmt.Errorf("what stands from byte %d on is no OpenPGP packet", begin)
}

// secret reports whether a packet is of a secret key.
func secret(p *packet.OpaquePacket) bool { return p.Tag == tagSecretKey || p.Tag == tagSecretSubkey }

// delimited reports whether a packet says how long it is in a way that its kind may: only what is made as it is
// written, such as a compressed message, may come in parts or go on to the end (RFC 9580, sections 4.2.1.4 and 4.2.2).
func delimited(raw []byte) bool {
	if tag := raw[0] & 0x3f; raw[0]&0x40 != 0 { // the newer form
		return len(raw) < 2 || raw[1] < 224 || raw[1] == 255 || tag == tagCompressed || tag == tagEncrypted || tag == tagLiteral ||
			tag == tagEncryptedMDC || tag == tagEncryptedAEAD
	}
	tag := raw[0] & 0x3f >> 2
	return raw[0]&3 != 3 || tag == tagCompressed || tag == tagEncrypted || tag == tagLiteral
}

// leastKey is how long the packet of a public key is at least, for gpg.
const leastKey = 12

// keyVersions are those that gpg knows.
var keyVersions = []byte{2, 3, 4, 5}

// readable reports whether gpg goes on behind a packet, understood or not: of some kinds it wants to know the
// version, though a certificate has none of them.
func readable(p *packet.OpaquePacket) bool {
	versions, least := []byte(nil), 0
	switch p.Tag {
	case tagPublicKey:
		versions, least = keyVersions, leastKey
	case tagSecretKey, tagSecretSubkey:
		_, _, whole := private(p.Contents, false)
		return whole
	case tagKeyForPublicKey:
		versions, least = []byte{2, 3}, 12
	case tagKeyForPassword:
		versions, least = []byte{4, 5}, 4
	case tagOnePass:
		versions, least = []byte{3}, 13
	case tagLiteral:
		return len(p.Contents) >= 6
	default:
		return true
	}
	return len(p.Contents) >= least && bytes.IndexByte(versions, p.Contents[0]) >= 0 && (p.Tag != tagPublicKey || filled(p.Contents))
}

// numbers is how many numbers make a public key, by its algorithm; those of curves have their name before them.
var numbers = map[byte]int{1: 2, 2: 2, 3: 2, 16: 3, 17: 4, 18: 1, 19: 1, 22: 1}

// longestNumber is that of gpg, in bits.
const longestNumber = 16384

// filled reports whether all of a public key stands in its packet, as far as its algorithm is known.
func filled(body []byte) bool { return publicLength(body) >= 0 }

// parsed reads a packet; nil where it cannot be understood.
func parsed(p *packet.OpaquePacket) packet.Packet {
	got, err := p.Parse()
	if err != nil {
		return nil
	}
	return got
}

// open understands the packets of a certificate. Of one that is known nobody needs them, but
// for what others say of it.
func (c *certificate) open() {
	for i, p := range c.packets {
		if i == 0 {
			c.primary, _ = parsed(p).(*packet.PublicKey) // nil where it is of a kind that is not known
			continue
		}
		c.take(p)
	}
	c.packets = nil
}

// take adds a packet to the certificate that it belongs to.
func (c *certificate) take(p *packet.OpaquePacket) {
	switch p.Tag {
	case tagUserID, tagUserAttribute:
		c.users = append(c.users, &user{body: p.Contents, attribute: p.Tag == tagUserAttribute})
	case tagPublicSubkey:
		key, _ := parsed(p).(*packet.PublicKey)
		c.subkeys = append(c.subkeys, &subkey{key: key})
	case tagSignature:
		sig := signature(p)
		if sig == nil {
			return // of a kind that counts for nothing
		}
		switch {
		case len(c.subkeys) > 0:
			s := c.subkeys[len(c.subkeys)-1]
			s.signatures = append(s.signatures, sig)
		case len(c.users) > 0:
			u := c.users[len(c.users)-1]
			u.signatures = append(u.signatures, sig)
		default:
			c.direct = append(c.direct, sig)
		}
	}
}

// subpacketExportable is the type of the subpacket that keeps a signature at home, RFC 4880
// section 5.2.3.11.
const subpacketExportable = 4

// signature reads the packet of a signature; nil where it counts for nothing. The library
// refuses signatures that are not to be exported, of which pacman's keyring lives: those
// are read as if they were.
func signature(p *packet.OpaquePacket) *packet.Signature {
	if sig, ok := parsed(p).(*packet.Signature); ok {
		return sig
	}
	body := bytes.Clone(p.Contents)
	if len(body) < 6 || body[0] != 4 {
		return nil
	}
	hashed := body[6:]
	if n := int(body[4])<<8 | int(body[5]); n <= len(hashed) {
		hashed = hashed[:n]
	}
	if !exported(hashed) {
		return nil
	}
	sig, ok := parsed(&packet.OpaquePacket{Tag: p.Tag, Contents: body}).(*packet.Signature)
	if !ok || len(sig.HashSuffix) < 6+len(hashed) {
		return nil
	}
	copy(sig.HashSuffix[6:], p.Contents[6:6+len(hashed)]) // what is signed stays what it was
	return sig
}

// exported marks the signature of which these are the hashed subpackets as one that can be
// exported; false where it is none that cannot.
func exported(subpackets []byte) (changed bool) {
	for len(subpackets) > 0 {
		size, head := int(subpackets[0]), 1
		switch {
		case size == 255 && len(subpackets) >= 5:
			size, head = int(subpackets[1])<<24|int(subpackets[2])<<16|int(subpackets[3])<<8|int(subpackets[4]), 5
		case size >= 192 && len(subpackets) >= 2:
			size, head = (size-192)<<8+int(subpackets[1])+192, 2
		}
		if size < 1 || size > len(subpackets)-head {
			return changed
		}
		if sub := subpackets[head : head+size]; sub[0]&0x7f == subpacketExportable && size == 2 && sub[1] == 0 {
			sub[1], changed = 1, true
		}
		subpackets = subpackets[head+size:]
	}
	return changed
}
