package keyring

import (
	"bytes"
	"crypto/sha1" // fingerprints of version 4 are made with it
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// IsKeybox reports whether data is a keybox, the file in which gpg keeps
// certificates since version 2.1. Its first blob is a header with a sign.
func IsKeybox(data []byte) bool { return len(data) >= 12 && string(data[8:12]) == "KBXf" }

// unbox returns the certificates of a keybox, one behind the other, as gpg takes them out of it. The format
// is that of kbx/keybox-blob.c of GnuPG, whose programs find those that stand before something that is no blob: they
// come with an error, and so do those beside a blob in which no certificate is found.
func unbox(data []byte) ([]byte, error) {
	var out []byte
	var spoilt error
	for len(data) > 0 {
		size := uint64(0)
		if len(data) >= 5 {
			size = uint64(binary.BigEndian.Uint32(data))
		}
		if size < 5 || size > uint64(len(data)) {
			return out, fmt.Errorf("%w: the keybox ends within a blob", ErrNoKey)
		}
		blob := data[:size]
		data = data[size:]
		if blob[4] != 2 { // 1 is a header, 2 holds OpenPGP, 3 X.509
			continue
		}
		found, err := certificateOf(blob)
		if err != nil { // gpg goes on behind it
			spoilt = fmt.Errorf("%w: %s", ErrNoKey, err)
			continue
		}
		out = append(out, found...)
	}
	return out, spoilt
}

// certificateOf returns the certificate that gpg finds in a blob.
func certificateOf(blob []byte) ([]byte, error) {
	if len(blob) < 20 {
		return nil, errors.New("a blob of the keybox is too short")
	}
	at, length := uint64(binary.BigEndian.Uint32(blob[8:])), uint64(binary.BigEndian.Uint32(blob[12:]))
	if at+length > uint64(len(blob)) {
		return nil, errors.New("a blob of the keybox points out of itself")
	}
	found, err := kept(blob[at : at+length])
	if err == nil && !listed(blob, found) {
		err = errors.New("gpg does not find the certificate of a blob of the keybox, whose list names another one")
	}
	return found, err
}

// kept returns what gpg makes of the certificate in a blob: what is no packet, or of a kind that has no place in
// it, is passed over, byte by byte where it must be, and what is cut off ends it.
func kept(image []byte) (out []byte, err error) {
	keys := 0
	for at := 0; at < len(image); {
		raw := image[at:]
		if raw[0]&0x80 == 0 {
			at++
			continue
		}
		if !delimited(raw) { // its head is passed over
			at += 1 + int(raw[0]>>6&1)
			continue
		}
		tag, head, said := headOf(raw)
		if head > len(raw) {
			break
		}
		p := &packet.OpaquePacket{Tag: tag, Contents: raw[head:min(head+said, len(raw))]}
		cut := len(p.Contents) < said
		at += head + said
		switch tag {
		case tagPublicKey, tagPublicSubkey, tagUserID, tagUserAttribute, tagSignature, tagSecretKey, tagSecretSubkey:
		default:
			continue
		}
		if !readable(p) || cut && (tag != tagSignature || signature(p) == nil) {
			continue
		}
		if tag == tagPublicKey || tag == tagSecretKey {
			keys++
		}
		if keys == 0 {
			return nil, errors.New("a blob of the keybox does not begin with a public key")
		}
		if keys > 1 {
			return nil, errors.New("more than one certificate stands in a blob of the keybox")
		}
		if cut { // it says that it is longer than the text, and all of it stands there
			out = append(out, packed(tag, p.Contents)...)
		} else {
			out = append(out, raw[:head+said]...)
		}
	}
	if keys == 0 {
		return nil, errors.New("no public key stands in a blob of the keybox")
	}
	return out, nil
}

// headOf reads how a packet begins: its kind, how long its head is and what it says that the rest is.
func headOf(raw []byte) (tag uint8, head, said int) {
	tag, head = raw[0]&0x3f, 2
	if raw[0]&0x40 == 0 {
		tag, head = raw[0]&0x3f>>2, 1
		if raw[0]&3 != 3 {
			head += 1 << (raw[0] & 3)
		}
	} else if len(raw) > 1 {
		switch {
		case raw[1] == 255:
			head = 6
		case raw[1] >= 192:
			head = 3
		}
	}
	return tag, head, declared(raw)
}

// packed is a packet of a kind with a head that says how long it is.
func packed(tag uint8, body []byte) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{0xc0 | tag, 255}, uint32(len(body))), body...)
}

// listed reports whether the list of keys that a blob has names one of a certificate in its place: by the last half of a
// fingerprint in it gpg finds who signed.
func listed(blob, certificate []byte) bool {
	count, size := int(binary.BigEndian.Uint16(blob[16:])), int(binary.BigEndian.Uint16(blob[18:]))
	packets := packet.NewOpaqueReader(bytes.NewReader(certificate))
	for place := 0; place < count; {
		p, err := packets.Next()
		if err != nil {
			return false
		}
		if p.Tag != tagPublicKey && p.Tag != tagPublicSubkey {
			continue
		}
		if p.Contents[0] != 4 {
			return true // that of other versions is another one, and is not looked at
		}
		sum := sha1.Sum(append(binary.BigEndian.AppendUint16([]byte{0x99}, uint16(len(p.Contents))), p.Contents...))
		at := 20 + place*size
		if at+sha1.Size > len(blob) {
			return false
		}
		const part = 12 // of a fingerprint that is not looked at
		if bytes.Equal(blob[at+part:at+sha1.Size], sum[part:]) {
			return true
		}
		place++
	}
	return false
}

// Unbox returns the certificates of a keybox, one behind the other, and data itself where
// it is none.
func Unbox(data []byte) []byte {
	if !IsKeybox(data) {
		return data
	}
	out, _ := unbox(data) // up to where it is one
	return out
}
