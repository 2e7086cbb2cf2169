package keyring

import (
	"bytes"
	"errors"

	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

var errGivenUp = errors.New("gpg gives up at it")

// verdict is what gpg makes of a packet behind a certificate that it imports.
type verdict int

const (
	stopped verdict = iota // it imports nothing of the certificate before it
	passed                 // as if it were not there
	hidden                 // a keyring's certificate before it is none, and those behind it are
	taken
)

// judge says what a program makes of a packet that says it is so long.
type judge func(p *packet.OpaquePacket, said int) verdict

// behind says what gpg makes of a packet, whole or cut off by the end of the text, when it imports.
func behind(p *packet.OpaquePacket, said int) verdict {
	body := p.Contents
	cut := len(body) < said
	known := len(body) > 0 && bytes.IndexByte(keyVersions, body[0]) >= 0
	switch p.Tag {
	case tagSignature:
		return when(wellFormed(body, said) || signature(p) != nil, taken)
	case tagKeyForPassword, tagKeyForPublicKey, tagOnePass:
		return when(readable(p) || cut && begun(p, said), passed)
	case tagSecretKey:
		if !known || body[0] == 5 {
			return passed
		}
		if cut && opaque(body) {
			return passed
		}
		return when(privateWhole(body, cut), taken)
	case tagSecretSubkey:
		if known && cut && opaque(body) {
			return passed
		}
		return when(known && privateWhole(body, cut), taken)
	case tagPublicKey:
		if !known {
			return passed
		}
		so := said >= leastKey && (cut && opaque(body) || filled(body))
		if cut { // nothing can follow that makes a certificate of it
			return when(so, passed)
		}
		return when(so, taken)
	case tagPublicSubkey:
		return when(known && said >= leastKey && (cut && opaque(body) || filled(body)), taken)
	case tagCompressed, tagControl:
		return stopped
	case tagMarker:
		return when(!cut && string(body) == "PGP", passed)
	case tagEncrypted:
		return when(cut || len(body) >= 10, passed)
	case tagEncryptedMDC, tagEncryptedAEAD:
		return when(said >= 11 && len(body) > 0 && body[0] == 1, passed)
	case tagMDC:
		return when(!cut && len(body) == 20, passed)
	case tagLiteral:
		return when(cut || readable(p), passed)
	case tagUserID, tagUserAttribute:
		if cut {
			return passed
		}
		return taken
	}
	return passed
}

// inRing says what gpg makes of a packet in a keyring, in which gpgv looks for who signed: what is no good hides the
// certificate that it stands in, a key that is none all that follows as well.
func inRing(p *packet.OpaquePacket, said int) verdict {
	body := p.Contents
	cut := len(body) < said
	so := false
	switch p.Tag {
	case tagPublicKey, tagPublicSubkey:
		known := len(body) > 0 && bytes.IndexByte(keyVersions, body[0]) >= 0
		if known && cut && opaque(body) {
			return passed
		}
		return when(known && said >= leastKey && filled(body), taken)
	case tagSecretKey, tagSecretSubkey:
		known := len(body) > 0 && body[0] > 1 && body[0] < 5
		if known && cut && opaque(body) {
			return passed
		}
		return when(known && privateWhole(body, cut), taken)
	case tagSignature:
		if said >= 16 && (wellFormed(body, said) || signature(p) != nil) {
			return taken
		}
		so = said < 16
	case tagCompressed:
		so = true
	case tagKeyForPassword:
		so = readable(p) || cut && begun(p, said)
	case tagEncrypted:
		so = cut || len(body) == 0 || len(body) >= 10
	default:
		v := behind(p, said)
		if v == taken {
			return v
		}
		so = v == passed
	}
	if so {
		return passed
	}
	return hidden
}

// begun reports whether a packet that is cut off by the end of the text says of itself what gpg wants to know.
func begun(p *packet.OpaquePacket, said int) bool {
	if len(p.Contents) == 0 {
		return false
	}
	return readable(&packet.OpaquePacket{Tag: p.Tag, Contents: append(p.Contents[:1:1], make([]byte, min(max(0, said-1), leastKey+1))...)})
}

// privateWhole reports whether gpg goes on behind the packet of a private key.
func privateWhole(body []byte, cut bool) bool {
	_, _, whole := private(body, cut)
	return whole
}

// when is a verdict where something is so, and that gpg gives up otherwise.
func when(so bool, v verdict) verdict {
	if so {
		return v
	}
	return stopped
}

// opaque reports whether a key is of an algorithm of which gpg reads no numbers.
func opaque(body []byte) bool {
	if len(body) == 0 {
		return true
	}
	at := 5
	if body[0] < 4 {
		at = 7
	}
	return len(body) <= at || numbers[body[at]] == 0
}

// signed is how many numbers make a signature, by the algorithm.
var signed = map[byte]int{1: 1, 2: 1, 3: 1, 16: 2, 17: 2, 19: 2, 20: 2, 22: 2}

// wellFormed reports whether gpg goes on behind a signature that says it is so long: one that is too short for any, or
// whose parts stand in it. Where the text ends within what it says of itself, it takes that for the end.
func wellFormed(body []byte, said int) bool {
	if said < 16 {
		return len(body) == said
	}
	if len(body) < 4 || body[0] == 0 || bytes.IndexByte(keyVersions, body[0]) < 0 {
		return false
	}
	if body[0] < 4 {
		return len(body) >= 19 && body[1] == 5 && filledNumbers(body[19:], signed[body[15]])
	}
	rest, left := body[4:], said-4
	for range 2 { // hashed and unhashed
		if len(rest) < 2 {
			return false
		}
		n := int(rest[0])<<8 | int(rest[1])
		if left -= 2 + n; n > 10000 || left < 0 {
			return false
		}
		if len(rest) < 2+n {
			return true
		}
		rest = rest[2+n:]
	}
	return len(rest) >= 2 && filledNumbers(rest[2:], signed[body[2]])
}

// filledNumbers reports whether so many numbers stand in a text.
func filledNumbers(rest []byte, count int) bool { return behindNumbers(rest, 0, count) >= 0 }

// declared is how long the packet at the beginning of a text says that it is, where it says so at once.
func declared(raw []byte) int {
	at, size := 1, 1
	if raw[0]&0x40 != 0 {
		switch {
		case len(raw) < 2:
			return 0
		case raw[1] < 192:
			return int(raw[1])
		case raw[1] < 224 && len(raw) > 2:
			return int(raw[1]-192)<<8 + int(raw[2]) + 192
		case raw[1] == 255:
			at, size = 2, 4
		}
	} else if raw[0]&3 == 3 { // it goes on to the end
		return len(raw) - 1
	} else {
		size = 1 << (raw[0] & 3)
	}
	n := uint64(0)
	for _, b := range raw[min(at, len(raw)):min(at+size, len(raw))] {
		n = n<<8 | uint64(b)
	}
	return int(min(n, longest))
}

// longest is how long a packet is taken to be at most: more than anything is that is read here, and no number too large for a
// machine of 32 bits.
const longest = 1 << 30
