package keyring

import (
	"bytes"
	"crypto"
	"encoding/base64"
	"errors"
	"slices"

	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

var (
	errCutArmor = errors.New("the armour is cut off or damaged")
	errNoPacket = errors.New("neither OpenPGP packets nor armour stand in it")
)

// marker is a packet that says nothing: RFC 9580, section 5.8.
const marker = "\xca\x03PGP"

// wholePackets takes the packets out of a key file as sqv does, which apt asks since 2.9.15: they are
// those of all armoured blocks, or the file itself. What is damaged is an error, and sqv then
// takes nothing of the file; an empty one holds nothing.
func wholePackets(data []byte) ([]byte, error) {
	if len(data) == 0 || isBinary(data) {
		return data, nil
	}
	out, found, rest := []byte(nil), false, data
	for {
		lead, body, ok := wholeBlock(rest)
		if !ok {
			break
		}
		packets, after, err := wholeBody(body, lead)
		if err != nil {
			return nil, err
		}
		out, found, rest = append(out, packets...), true, after
	}
	if !found {
		return nil, errNoPacket
	}
	return out, nil
}

// whole takes a key file apart as sqv does.
func whole(data []byte, at At) ([]*certificate, error) {
	raw, err := wholePackets(data)
	if err != nil {
		return nil, err
	}
	list, err := parted(raw, at, nil)
	for i, c := range list {
		switch {
		case err != nil:
		case i == 0 && len(bytes.ReplaceAll(raw[:c.at], []byte(marker), nil)) > 0:
			err = errors.New("what stands in front of its first key belongs to none")
		case len(c.body) == 0 || c.body[0] != 4 && c.body[0] != 6:
			err = errors.New("a primary key of a version stands in it that is not supported")
		case c.private && c.body[0] == 4 && numbers[c.body[5]] == 0:
			err = errors.New("a private key of a kind stands in it that is not supported")
		}
	}
	return list, err
}

// shunnedCurves are those that sqv of Debian does not know.
var shunnedCurves = []packet.Curve{
	packet.CurveSecP256k1, packet.CurveBrainpoolP256, packet.CurveBrainpoolP384, packet.CurveBrainpoolP512,
}

// shun says why sqv takes no signature by a certificate under the policy that Debian's apt gives
// it, /usr/share/apt/default-sequoia.config; empty where it does. Of its dates those of 2024 and
// of February 2026 are over.
func (c *certificate) shun() string {
	if c.primary == nil {
		return ""
	}
	const as = "sqv, which checks signatures for apt, takes none of "
	if curve, err := c.primary.Curve(); err == nil && slices.Contains(shunnedCurves, curve) {
		return as + "the curve " + algorithm(c.primary)
	}
	if kind := tooWeak(c.primary); kind != "" {
		return as + kind
	}
	own, strong := 0, 0
	count := func(list []*packet.Signature) {
		for _, sig := range list {
			if sig.IssuerKeyId == nil || *sig.IssuerKeyId != c.primary.KeyId {
				continue
			}
			own++
			if sig.Hash != crypto.SHA1 && sig.Hash != crypto.MD5 && sig.Hash != crypto.RIPEMD160 {
				strong++
			}
		}
	}
	count(c.direct)
	for _, u := range c.users {
		count(u.signatures)
	}
	if own > 0 && strong == 0 {
		return as + "a key that is bound together with SHA-1 alone"
	}
	return ""
}

// lead is what stands in front of each line of an armoured block: blanks, or the signs of a mail that quotes
// another one.
type lead struct {
	text    []byte
	quotes  bool
	tight   bool // no blank ends it: then it may not stand in front of the last line
	through bool // it stands on the empty line, and has to on each line up to the end
}

const quoteSigns = ">|]}"

// leadOf reads what stands in front of the first line of a block.
func leadOf(text []byte) (l lead, ok bool) {
	rest := bytes.TrimLeft(text, " \t\r"+quoteSigns)
	tight := len(text) > 0 && bytes.IndexByte([]byte(quoteSigns), text[len(text)-1]) >= 0
	return lead{text: text, quotes: bytes.ContainsAny(text, quoteSigns), tight: tight}, len(rest) == 0
}

// off takes it off a line.
func (l *lead) off(line []byte) (rest []byte, stood bool) {
	if len(l.text) == 0 || !bytes.HasPrefix(line, l.text) {
		return line, false
	}
	return line[len(l.text):], true
}

// wholeBlock finds the next line that begins a block of any kind, and passes its headers over.
func wholeBlock(text []byte) (l lead, body []byte, ok bool) {
	for len(text) > 0 && !ok {
		var line []byte
		line, text, _ = bytes.Cut(text, []byte("\n"))
		if at := bytes.Index(line, []byte(armorStart+" ")); at >= 0 {
			l, ok = leadOf(line[:at])
		}
	}
	for ok && len(text) > 0 {
		line, rest, _ := bytes.Cut(text, []byte("\n"))
		line, stood := l.off(line)
		line = bytes.TrimSpace(line)
		if len(line) > 0 && !bytes.Contains(line, []byte(": ")) {
			break
		}
		if text = rest; len(line) == 0 {
			l.through = stood
			break
		}
	}
	return l, text, ok
}

// wholeBody decodes a block to its end, which has to be there.
func wholeBody(text []byte, l lead) (packets, rest []byte, err error) {
	var letters []byte
	for len(text) > 0 {
		var line []byte
		line, text, _ = bytes.Cut(text, []byte("\n"))
		if bytes.HasPrefix(bytes.TrimLeft(line, " \t\r"+quoteSigns), []byte("-----END PGP")) {
			if _, stood := l.off(line); l.tight && stood {
				break
			}
			packets, err = base64.StdEncoding.DecodeString(string(letters))
			if err != nil {
				return nil, nil, errCutArmor
			}
			return packets, text, nil
		}
		line, stood := l.off(line)
		bare := bytes.TrimSpace(line)
		sum := bytes.HasPrefix(bare, []byte("=")) // which is not looked at
		if (l.through || l.quotes) && !stood || l.quotes && sum && !bytes.HasSuffix(line, bare) {
			break
		}
		if !sum {
			letters = append(letters, bare...)
		}
	}
	return nil, nil, errCutArmor
}
