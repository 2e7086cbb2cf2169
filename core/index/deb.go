package index

import (
	"bufio"
	"bytes"
	"errors"
	"hash"
	"hash/fnv"
	"io"
	"strings"
)

// Control is what counts of one package of dpkg's status or of a list of apt's.
type Control struct{ Package, Version, Architecture, Status, Source string }

// Deb reads a Packages file.
func Deb(r io.Reader, visit func(Package)) error {
	c := counter{visit: visit}
	var refused error
	of := says{hash: fnv.New64a()}
	err := controls(r, of.take, func(s Control) bool {
		source, _, _ := strings.Cut(s.Source, " ") // its version follows
		refused = c.give(Package{Name: s.Package, Version: s.Version, Arch: s.Architecture, Source: source, Build: of.end()})
		return refused == nil
	})
	return errors.Join(refused, err)
}

// Controls hands each stanza that names a package to visit until that returns false. A line
// may be of any length; only its head counts.
func Controls(r io.Reader, visit func(Control) bool) error {
	return controls(r, func([]byte) {}, visit)
}

// controls is Controls, which hands each line to also, and nil at the end of a stanza.
func controls(r io.Reader, also func(line []byte), visit func(Control) bool) error {
	in := bufio.NewReaderSize(r, 1<<16)
	var s Control
	end := func() (more bool) {
		more = s.Package == "" || visit(s)
		s = Control{}
		also(nil)
		return more
	}
	for {
		line, err := in.ReadSlice('\n')
		if err != nil && errors.Is(err, bufio.ErrBufferFull) { // the rest of it is of no interest
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = in.ReadSlice('\n')
			}
		} else if text := withoutEnd(line); len(text) == 0 && err == nil {
			if !end() {
				return nil
			}
		} else if len(text) > 0 {
			s.take(text)
			also(text)
		}
		switch {
		case err == nil:
		case errors.Is(err, io.EOF):
			end()
			return nil
		default:
			return err
		}
	}
}

// withoutEnd is a line without what ends it.
func withoutEnd(line []byte) []byte {
	for len(line) > 0 && (line[len(line)-1] == '\n' || line[len(line)-1] == '\r') {
		line = line[:len(line)-1]
	}
	return line
}

// says gathers what apt goes by to tell whether two packages of one version are the same: size and
// relations, however they are spaced, and the sum.
type says struct {
	fields uint64 // of those that are whole, in any order
	field  []byte // the one that is open, without blanks and in lower case; empty: none that counts
	sum    [12]byte
	hash   hash.Hash64 // it need not withstand anybody
}

// relations are the fields that count, but for the sum.
var relations = []string{"installed-size", "depends", "pre-depends", "conflicts", "breaks", "replaces", "multi-arch", "size"}

func (h *says) take(line []byte) {
	if len(line) == 0 {
		h.fields, h.field, h.sum = 0, h.field[:0], [12]byte{}
		return
	}
	if line[0] == ' ' || line[0] == '\t' {
		if len(h.field) > 0 {
			h.add(line)
		}
		return
	}
	h.close()
	i := bytes.IndexByte(line, ':')
	if i < 0 {
		return
	}
	key := line[:i]
	if is(key, "sha256") {
		h.sum = shortSum(bytes.TrimSpace(line[i+1:]))
		return
	}
	for _, name := range relations {
		if is(key, name) {
			h.field = append(h.field, name...)
			h.add(line[i:])
			return
		}
	}
}

// add takes a text to the open field. That "<" is meant as "<=" is apt's way of reading what is old.
func (h *says) add(text []byte) {
	field := h.field
	for i, c := range text {
		if c = folded[c]; c == 0 {
			continue
		}
		field = append(field, c)
		if (c == '<' || c == '>') && i+1 < len(text) && text[i+1] != c && text[i+1] != '=' {
			field = append(field, '=')
		}
	}
	h.field = field
}

// folded is each byte in lower case, and 0 of a blank.
var folded = func() (out [256]byte) {
	for i := range out {
		switch c := byte(i); {
		case c == ' ' || c == '\t' || c == '\r':
		case 'A' <= c && c <= 'Z':
			out[i] = c + 'a' - 'A'
		default:
			out[i] = c
		}
	}
	return out
}()

func (h *says) close() {
	if len(h.field) == 0 {
		return
	}
	h.hash.Reset()
	h.hash.Write(h.field)
	h.fields, h.field = h.fields+h.hash.Sum64(), h.field[:0]
}

// end is what was gathered of a package.
func (h *says) end() Build {
	h.close()
	return Build{uint32(h.fields ^ h.fields>>32), h.sum}
}

func (s *Control) take(line []byte) {
	if len(line) == 0 || line[0] == ' ' || line[0] == '\t' {
		return
	}
	i := bytes.IndexByte(line, ':')
	if i < 0 {
		return
	}
	var field *string
	switch key := line[:i]; {
	case is(key, "package"):
		field = &s.Package
	case is(key, "version"):
		field = &s.Version
	case is(key, "architecture"):
		field = &s.Architecture
	case is(key, "source"):
		field = &s.Source
	case is(key, "status"):
		field = &s.Status
	default:
		return
	}
	*field = string(bytes.TrimSpace(line[i+1:]))
}

func is(key []byte, name string) bool {
	return len(key) == len(name) && key[0]|0x20 == name[0] && bytes.EqualFold(key, []byte(name))
}
