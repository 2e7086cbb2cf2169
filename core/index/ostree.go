package index

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"math/bits"
	"strings"
	"time"
)

var errVariant = errors.New("it is no summary of ostree, or a broken one")

// Summary is what a summary of ostree says beside its refs.
type Summary struct {
	Modified time.Time // zero: it does not say
	Expires  time.Time // zero: never
}

// OSTree reads a summary: a GVariant of the type (a(s(taya{sv}))a{sv}), little-endian. Refs
// that are no applications and no runtimes are left out.
func OSTree(data []byte, visit func(Package)) (s Summary, err error) {
	refs, meta, ok := pair(data, 8)
	if !ok {
		return s, errVariant
	}
	list, ok := elements(refs, 8)
	if !ok {
		return s, errVariant
	}
	out := counter{visit: func(Package) {}}
	for _, e := range list {
		name, body, ok := pair(e, 8)
		named, isText := cstring(name)
		if !ok || !isText || len(body) < 9 {
			return s, errVariant
		}
		inner, _, ok := pairAt(body, 8, 8) // behind the number stands the checksum
		if !ok || len(inner) < 8 {
			return s, errVariant
		}
		p := strings.Split(named, "/")
		if len(p) != 4 || p[0] != "app" && p[0] != Runtime {
			continue
		}
		ref := Package{Name: p[1], Version: p[3], Arch: p[2]}
		if err := out.give(ref); err != nil {
			return s, err
		}
		if ref.Commit = hex.EncodeToString(inner[8:]); p[0] == Runtime {
			ref.Source = Runtime
		}
		visit(ref)
	}
	return summaryOf(meta)
}

// summaryOf reads what stands beside the refs, or beside the parts.
func summaryOf(meta []byte) (s Summary, err error) {
	values, ok := dictionary(meta)
	if !ok {
		return s, errVariant
	}
	s.Modified = bigEndianTime(values["ostree.summary.last-modified"])
	s.Expires = bigEndianTime(values["ostree.summary.expires"])
	return s, nil
}

// Sub is a part of a remote that an indexed summary names: its name is an architecture, or a
// subset and an architecture.
type Sub struct {
	Name   string
	Digest string // SHA-256 of the part, unpacked, in hex
}

// OSTreeIndex reads an indexed summary, summary.idx: a GVariant of the type
// (a{s(ayaaya{sv})}a{sv}), little-endian.
func OSTreeIndex(data []byte) (s Summary, subs []Sub, err error) {
	list, meta, ok := pair(data, 8)
	if !ok {
		return s, nil, errVariant
	}
	entries, ok := elements(list, 8)
	if !ok {
		return s, nil, errVariant
	}
	for _, e := range entries {
		name, body, ok := pair(e, 8)
		id, isText := cstring(name)
		if !ok || !isText {
			return s, nil, errVariant
		}
		// Three parts of no fixed size: the ends of the first two stand behind the third.
		end, ok := offset(body, width(len(body)))
		if !ok || end != 32 {
			return s, nil, errVariant
		}
		subs = append(subs, Sub{id, hex.EncodeToString(body[:end])})
	}
	s, err = summaryOf(meta)
	return s, subs, err
}

// OSTreeSignatures are the signatures that stand beside a summary: a dictionary whose
// "ostree.gpgsigs" is a list of them.
func OSTreeSignatures(data []byte) ([][]byte, error) {
	values, ok := dictionary(data)
	if !ok {
		return nil, errVariant
	}
	v, is := strings.CutSuffix(string(values["ostree.gpgsigs"]), "\x00aay")
	if !is {
		return nil, nil
	}
	list, ok := elements([]byte(v), 1)
	if !ok {
		return nil, errVariant
	}
	return list, nil
}

// bigEndianTime is a variant of type t that holds a time with its bytes turned round.
func bigEndianTime(v []byte) time.Time {
	if len(v) != 10 || v[8] != 0 || v[9] != 't' {
		return time.Time{}
	}
	n := binary.BigEndian.Uint64(v)
	if n == 0 || n > 1<<40 {
		return time.Time{}
	}
	return time.Unix(int64(n), 0).UTC()
}

// width is that of the offsets in something so long, in bytes.
func width(length int) int {
	switch bits.Len(uint(length)) {
	case 0, 1, 2, 3, 4, 5, 6, 7, 8:
		return 1
	case 9, 10, 11, 12, 13, 14, 15, 16:
		return 2
	}
	return 4
}

// offset reads the offset that ends at an index, counted from the end.
func offset(data []byte, back int) (int, bool) {
	w := width(len(data))
	if back > len(data) || back < w {
		return 0, false
	}
	var b [4]byte
	copy(b[:], data[len(data)-back:len(data)-back+w])
	n := int(binary.LittleEndian.Uint32(b[:]))
	return n, n <= len(data)
}

// pair parts a pair whose first element has no fixed size.
func pair(data []byte, align int) (first, second []byte, ok bool) { return pairAt(data, 0, align) }

// pairAt is pair where what stands before at is of fixed size and belongs to the first.
func pairAt(data []byte, at, align int) (first, second []byte, ok bool) {
	w := width(len(data))
	end, ok := offset(data, w)
	from := (end + align - 1) / align * align
	if !ok || end < at || from > len(data)-w {
		if ok && end <= len(data)-w && end >= at { // nothing stands behind it
			return data[:end], nil, true
		}
		return nil, nil, false
	}
	return data[:end], data[from : len(data)-w], true
}

// elements parts an array whose elements have no fixed size.
func elements(data []byte, align int) ([][]byte, bool) {
	if len(data) == 0 {
		return nil, true
	}
	w := width(len(data))
	last, ok := offset(data, w)
	if !ok || (len(data)-last)%w != 0 {
		return nil, false
	}
	n := (len(data) - last) / w
	if n > 4*MostPackages {
		return nil, false
	}
	out := make([][]byte, 0, n)
	begin := 0
	for i := range n {
		end, ok := offset(data, len(data)-last-i*w)
		begin = (begin + align - 1) / align * align
		if !ok || end > last || begin > end {
			return nil, false
		}
		out = append(out, data[begin:end])
		begin = end
	}
	return out, true
}

// dictionary reads an a{sv}: of each value its bytes, a zero and its type.
func dictionary(data []byte) (map[string][]byte, bool) {
	list, ok := elements(data, 8)
	if !ok {
		return nil, false
	}
	out := map[string][]byte{}
	for _, e := range list {
		name, value, ok := pair(e, 8)
		key, isText := cstring(name)
		if !ok || !isText {
			return nil, false
		}
		out[key] = value
	}
	return out, true
}

func cstring(b []byte) (string, bool) {
	if len(b) == 0 || b[len(b)-1] != 0 {
		return "", false
	}
	return string(b[:len(b)-1]), true
}
