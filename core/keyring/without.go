package keyring

import (
	"errors"
	"slices"
)

// ErrApart is returned where a certificate cannot be taken out of a text without harm to the others.
var ErrApart = errors.New("its certificates cannot be taken apart")

// Without takes certificates out of a text, in armour or binary, and says how many are left; the
// others stay to the byte, in armour that is made anew. A keybox is not written: ErrApart.
func Without(data []byte, gone func(fingerprint string) bool) (out []byte, left int, err error) {
	if IsKeybox(data) {
		return nil, 0, ErrApart
	}
	raw, err := dearmor(data)
	if err != nil {
		return nil, 0, ErrApart
	}
	list, _ := split(raw, At{})
	taken, from := 0, 0
	for i, c := range list {
		ends := len(raw)
		if i+1 < len(list) {
			ends = list[i+1].at
		}
		if gone(c.fingerprint()) {
			taken++
		} else {
			out = append(out, raw[from:ends]...) // with what stands in front of the first one
			left++
		}
		from = ends
	}
	switch {
	case taken == 0:
		return data, left, nil
	case left == 0:
		return nil, 0, nil
	case !apart(raw, out, gone):
		return nil, left, ErrApart
	case isBinary(data):
		return out, left, nil
	}
	return armoured(out), left, nil
}

// apart reports whether of two streams the second has the certificates of the first, but for those that go.
func apart(raw, out []byte, gone func(fingerprint string) bool) bool {
	fingerprints := func(raw []byte) (of []string) {
		list, _ := split(raw, At{})
		for _, c := range list {
			of = append(of, c.fingerprint())
		}
		return of
	}
	return slices.Equal(slices.DeleteFunc(fingerprints(raw), gone), fingerprints(out))
}

// Certificate is one certificate of a text as an armoured block of its own; nil where the text has none of
// that fingerprint.
func Certificate(data []byte, fingerprint string) []byte {
	raw, _ := dearmor(data)
	if IsKeybox(raw) {
		raw = Unbox(raw)
	}
	out, left, err := Without(raw, func(f string) bool { return f != fingerprint })
	if err != nil || left == 0 {
		return nil
	}
	return armoured(out)
}
