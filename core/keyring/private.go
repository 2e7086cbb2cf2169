package keyring

import (
	"bytes"
	"encoding/binary"

	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// How the private part of a key is kept from others, RFC 9580, section 3.7.2; the last three are gpg's.
const (
	plain      = 0
	checked    = 254 // encrypted, with a check by SHA-1
	summed     = 255 // encrypted, with a sum
	s2kSimple  = 0
	s2kSalted  = 1
	s2kMany    = 3
	s2kGNU     = 101
	gnuNothing = 1 // the private part is kept elsewhere
	gnuCard    = 2
)

// secretNumbers is how many numbers make the private part of a key, by its algorithm: one, but of RSA.
var secretNumbers = map[byte]int{1: 4, 2: 4, 3: 4}

// blocks is how long a block of a cipher is, by its number: RFC 9580, section 9.3.
var blocks = map[byte]int{1: 8, 2: 8, 3: 8, 4: 8, 7: 16, 8: 16, 9: 16, 10: 16, 11: 16, 12: 16, 13: 16}

// publicLength is how much of a key's packet is its public part; -1 where not all of that stands in it. Of an algorithm
// that is not known it is all.
func publicLength(body []byte) int {
	head := 6 // version, time, algorithm
	if len(body) == 0 || body[0] < 4 {
		head = 8 // and days
	}
	if len(body) < head {
		return -1
	}
	algorithm, at := body[head-1], head
	if body[0] > 4 { // and how long the rest is
		if len(body) < head+4 {
			return -1
		}
		if at += 4; body[0] == 6 {
			n := int64(binary.BigEndian.Uint32(body[head:]))
			if n > int64(len(body)-at) {
				return -1
			}
			return at + int(n)
		}
	}
	count := numbers[algorithm]
	if count == 0 {
		return len(body)
	}
	if algorithm == 18 || algorithm == 19 || algorithm == 22 {
		if at = sized(body, at); at < 0 {
			return -1
		}
	}
	return behindNumbers(body, at, count)
}

// sized is where what follows a field begins that says in a byte how long it is; -1 where it does not end.
func sized(body []byte, at int) int {
	if at >= len(body) || body[at] == 0 || body[at] == 255 || at+1+int(body[at]) > len(body) {
		return -1
	}
	return at + 1 + int(body[at])
}

// behindNumbers is where what follows so many numbers begins; -1 where they do not end.
func behindNumbers(body []byte, at, count int) int {
	for range count {
		if at+2 > len(body) {
			return -1
		}
		bits := int(binary.BigEndian.Uint16(body[at:]))
		if at += 2 + (bits+7)/8; bits > longestNumber || at > len(body) {
			return -1
		}
	}
	return at
}

// private takes the packet of a private key apart: its public part, and whether the rest is as it must be for gpg to
// go on behind it; cut says that the text ends within the packet. Where the private part is kept elsewhere gpg goes on
// right behind what says so, at ends, however long the packet says that it is; ends is 0 otherwise.
func private(body []byte, cut bool) (public []byte, ends int, whole bool) {
	at := publicLength(body)
	if at < 0 || len(body) < leastKey {
		return nil, 0, false
	}
	algorithm := body[5]
	if body[0] < 4 {
		algorithm = body[7]
	}
	if algorithm == 18 { // and how a secret is made of what both sides know
		if at = sized(body, at); at < 0 {
			return nil, 0, false
		}
	}
	public, rest := body[:at], body[at:]
	switch {
	case numbers[algorithm] == 0 || body[0] > 4: // of what is not known nothing is looked at
		return public, 0, true
	case len(rest) == 0:
		return public, 0, false
	case rest[0] == plain:
		return public, 0, plainWhole(rest[1:], max(1, secretNumbers[algorithm]), cut)
	case rest[0] == checked, rest[0] == summed:
		n, whole := lockedWhole(rest[1:], cut)
		if n > 0 {
			n += at + 1
		}
		return public, n, whole
	}
	return public, 0, cut || len(rest) >= 1+blocks[rest[0]]+2
}

// plainWhole reports whether so many numbers, and their sum, stand there.
func plainWhole(rest []byte, count int, cut bool) bool {
	at := behindNumbers(rest, 0, count)
	return at >= 0 && (cut || len(rest) >= at+2)
}

// lockedWhole reports whether an encrypted private part is one: the cipher, how its key comes from a password, and what
// is encrypted; or where what says that it is kept elsewhere ends.
func lockedWhole(rest []byte, cut bool) (ends int, whole bool) {
	if len(rest) < 3 && !(cut && len(rest) == 2) {
		return 0, false
	}
	cipher, mode := rest[0], rest[1]
	rest = rest[min(3, len(rest)):]
	need := blocks[cipher] + 2
	switch mode {
	case s2kSimple:
	case s2kSalted:
		need += 8
	case s2kMany:
		need += 9
	case s2kGNU:
		return stubWhole(rest, cut)
	default:
		return 0, false
	}
	return 0, cut || len(rest) >= need
}

// stubWhole reads what says that a private part is kept elsewhere: nowhere, or on a card of a number.
func stubWhole(rest []byte, cut bool) (ends int, whole bool) {
	const before = 3 // the cipher, the way and the hash
	if len(rest) < 4 || string(rest[:3]) != "GNU" {
		return 0, false
	}
	switch rest[3] {
	case gnuNothing:
		return before + 4, true
	case gnuCard:
		if len(rest) < 5 {
			return 0, false
		}
		n := 5 + min(16, int(rest[4]))
		return before + min(n, len(rest)), cut || n <= len(rest)
	}
	return 0, false
}

// public makes of the packet of a private key that of its public part; ends is as private has it.
func public(p *packet.OpaquePacket) (of *packet.OpaquePacket, ends int) {
	body, ends, _ := private(p.Contents, true)
	tag := uint8(tagPublicKey)
	if p.Tag == tagSecretSubkey {
		tag = tagPublicSubkey
	}
	return &packet.OpaquePacket{Tag: tag, Contents: body}, ends
}

// HoldsPrivate reports whether a private key stands anywhere in a text, armoured, binary or in a keybox, behind what
// cannot be read as well: such a text must not leave its host.
func HoldsPrivate(text []byte) bool {
	if bytes.Contains(text, []byte("PRIVATE KEY")) {
		return true
	}
	streams := [][]byte{text}
	if raw, _ := dearmor(text); len(raw) > 0 {
		streams = append(streams, raw)
	}
	if raw, err := wholePackets(text); err == nil {
		streams = append(streams, raw)
	}
	for _, raw := range streams {
		for at := range raw {
			if tag := tagOf(raw[at]); (tag == tagSecretKey || tag == tagSecretSubkey) && privateAt(raw[at:]) {
				return true
			}
		}
	}
	return false
}

// tagOf is the kind of the packet that a byte begins; 0 where it begins none.
func tagOf(b byte) uint8 {
	switch {
	case b&0xc0 == 0xc0:
		return b & 0x3f
	case b&0xc0 == 0x80:
		return b & 0x3f >> 2
	}
	return 0
}

// longestPrivate bounds how long the packet of a private key is taken to be.
const longestPrivate = 32 << 10

// privateAt reports whether the packet of a private key begins a text, whole or cut off.
func privateAt(raw []byte) bool {
	head := headLength(raw)
	if head+leastKey > len(raw) || raw[head] < 2 || raw[head] > 6 {
		return false
	}
	said := declared(raw)
	body := raw[head:min(len(raw), head+longestPrivate)]
	if said > 0 && said <= len(body) {
		_, _, whole := private(body[:said], false)
		return whole && publicLength(body[:said]) < said
	}
	at := publicLength(body)
	return said < longestPrivate && at > 0 && at < len(body)
}

// headLength is how long the head of the packet is that begins a text: RFC 9580, section 4.2.
func headLength(raw []byte) int {
	switch {
	case raw[0]&0x40 == 0:
		return 1 + 1<<(raw[0]&3)&7 // nothing more where it goes on to the end
	case len(raw) > 1 && raw[1] == 255:
		return 6
	case len(raw) > 1 && raw[1] >= 192 && raw[1] < 224:
		return 3
	}
	return 2 // a byte, or a piece of it
}
