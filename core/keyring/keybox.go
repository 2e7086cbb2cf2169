package keyring

import (
	"encoding/binary"
	"fmt"
)

// IsKeybox reports whether data is a keybox, the file in which gpg keeps
// certificates since version 2.1. Its first blob is a header with a sign.
func IsKeybox(data []byte) bool { return len(data) >= 12 && string(data[8:12]) == "KBXf" }

// unbox returns the certificates of a keybox, one behind the other. The format
// is that of kbx/keybox-blob.c of GnuPG, whose programs find those that stand before something that is no blob: they
// come with an error.
func unbox(data []byte) ([]byte, error) {
	var out []byte
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
		if size < 16 {
			return out, fmt.Errorf("%w: a blob of the keybox is too short", ErrNoKey)
		}
		at, length := uint64(binary.BigEndian.Uint32(blob[8:])), uint64(binary.BigEndian.Uint32(blob[12:]))
		if at+length > size {
			return out, fmt.Errorf("%w: a blob of the keybox points out of itself", ErrNoKey)
		}
		out = append(out, blob[at:at+length]...)
	}
	return out, nil
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
