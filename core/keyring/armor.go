package keyring

import (
	"bytes"
	"encoding/base64"
	"errors"
)

// errArmor is returned for armour that gpg refuses.
var errArmor = errors.New("the armour is damaged")

// binaryTags are the packets with which gpg takes a text for binary at once.
var binaryTags = map[byte]bool{
	1: true, tagSignature: true, 3: true, 4: true, tagSecretKey: true, tagPublicKey: true, tagSecretSubkey: true, 8: true, 9: true,
	tagMarker: true, 11: true, tagTrust: true, tagUserID: true, tagPublicSubkey: true, tagUserAttribute: true, 18: true, 19: true,
}

// begins reports whether a file begins with what gpg imports from, in armour or not.
func begins(data []byte) bool {
	return isBinary(data) || data[0] == 0xc0|tagComment || data[0] == 0xc0|tagOldComment ||
		IsKeybox(data) || bytes.Contains(data, []byte(armorStart))
}

// isBinary reports whether a text begins like a packet rather than like armour.
func isBinary(data []byte) bool { return len(data) > 0 && binaryTags[tagOf(data[0])] }

// armorPiece is how much gpg takes out of a block at once. What stands before the piece in which the block turns out to
// be damaged has been read by then.
const armorPiece = 8192

// dearmor returns the packets of all armoured blocks in data, or data itself where it is
// not armoured; as gpg reads armour (g10/armor.c): words may stand around the blocks, a
// checksum must be there, and what is no letter of base64 is passed over.
func dearmor(data []byte) ([]byte, error) {
	if isBinary(data) || IsKeybox(data) || !bytes.Contains(data, []byte(armorStart)) {
		return data, nil
	}
	var out []byte
	for rest := data; ; {
		body, headless, ok := blockBody(rest)
		if !ok {
			return out, nil
		}
		if headless && len(rest) != len(data) {
			body = body[min(len(body), restPos):]
		}
		block, after, err := radix(body)
		if err != nil {
			return append(out, block[:len(block)/armorPiece*armorPiece]...), err
		}
		out = append(out, block...)
		rest = after
	}
}

// restPos is from where on gpg reads the first line of a block without an empty line that stands behind another:
// it goes on where it was in the line with the checksum.
const restPos = len("=abcd\n")

// blockBody finds the next block and passes its headers over; headless where no empty line ends them, which gpg
// takes.
func blockBody(text []byte) (body []byte, headless, ok bool) {
	for len(text) > 0 {
		line, rest, _ := bytes.Cut(text, []byte("\n"))
		text = rest
		if !isBlockStart(line) {
			continue
		}
		for len(text) > 0 {
			line, rest, _ = bytes.Cut(text, []byte("\n"))
			line = bytes.TrimRight(line, " \t\r")
			if len(line) == 0 {
				return rest, false, true
			}
			colon := bytes.IndexByte(line, ':')
			if colon < 0 {
				return text, true, true
			}
			if colon+1 < len(line) && line[colon+1] != ' ' {
				break // gpg calls it an invalid header and gives the block up
			}
			text = rest
		}
	}
	return nil, false, false
}

// isBlockStart reports whether a line begins a block of certificates.
func isBlockStart(line []byte) bool {
	line = bytes.TrimRight(line, " \t\r")
	return string(line) == armorStart+" PUBLIC KEY BLOCK-----" || string(line) == armorStart+" PRIVATE KEY BLOCK-----" ||
		string(line) == armorStart+" ARMORED FILE-----"
}

const letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"

var isLetter = func() (set [256]bool) {
	for i := range len(letters) {
		set[letters[i]] = true
	}
	return set
}()

// radix decodes base64 up to its padding, its checksum or the end of the block.
func radix(text []byte) (out, rest []byte, err error) {
	var plain []byte
	at := 0
	for ; at < len(text); at++ {
		c := text[at]
		if c == '=' || c == '-' && bytes.HasPrefix(text[at:], []byte("-----END")) {
			break
		}
		if isLetter[c] {
			plain = append(plain, c)
		}
	}
	out = make([]byte, base64.RawStdEncoding.DecodedLen(len(plain)))
	if len(plain)%4 == 1 {
		plain = plain[:len(plain)-1]
	}
	n, _ := base64.RawStdEncoding.Decode(out, plain) // nothing but letters stands in it
	out, rest = out[:n], text[at:]
	if len(rest) > 0 && rest[0] == '-' {
		return nil, rest, errArmor // there is no checksum
	}
	for len(rest) > 0 && rest[0] == '=' { // padding
		rest = rest[1:]
		for len(rest) > 0 && (rest[0] == '\n' || rest[0] == '\r' || rest[0] == ' ' || rest[0] == '\t') {
			rest = rest[1:]
		}
		if len(rest) > 0 && isLetter[rest[0]] { // with fewer than four it is cut off
			sum, err := base64.StdEncoding.DecodeString(string(rest[:min(4, len(rest))]))
			if err != nil || !bytes.Equal(sum, checksum(out)) || len(rest) == 4 { // where the text ends with it, gpg misses the rest
				return out, rest, errArmor
			}
			break
		}
		if len(rest) > 0 && rest[0] != '=' { // no checksum, which may be; the rest of the line is none of the next block
			_, rest, _ = bytes.Cut(rest, []byte("\n"))
		}
	}
	return out, rest, nil
}

// checksum is the CRC-24 of RFC 4880, section 6.1.
func checksum(data []byte) []byte {
	crc := uint32(0xb704ce)
	for _, b := range data {
		crc ^= uint32(b) << 16
		for range 8 {
			if crc <<= 1; crc&0x1000000 != 0 {
				crc ^= 0x1864cfb
			}
		}
	}
	return []byte{byte(crc >> 16), byte(crc >> 8), byte(crc)}
}
