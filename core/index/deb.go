package index

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"io"
	"strings"
)

// Control is what counts of one package of dpkg's status or of a list of apt's.
type Control struct{ Package, Version, Architecture, Status, Source string }

// Deb reads a Packages file.
func Deb(r io.Reader, visit func(Package)) error {
	c := counter{visit: visit}
	var refused error
	err := Controls(r, func(s Control) bool {
		source, _, _ := strings.Cut(s.Source, " ") // its version follows
		refused = c.give(s.Package, s.Version, s.Architecture, cmp.Or(source, s.Package))
		return refused == nil
	})
	return errors.Join(refused, err)
}

// Controls hands each stanza that names a package to visit until that returns false. A line
// may be of any length; only its head counts.
func Controls(r io.Reader, visit func(Control) bool) error {
	in := bufio.NewReaderSize(r, 1<<16)
	var s Control
	end := func() (more bool) {
		more = s.Package == "" || visit(s)
		s = Control{}
		return more
	}
	for {
		line, err := in.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) { // the rest of it is of no interest
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = in.ReadSlice('\n')
			}
		} else if text := bytes.TrimRight(line, "\r\n"); len(text) == 0 && err == nil {
			if !end() {
				return nil
			}
		} else {
			s.take(text)
		}
		if errors.Is(err, io.EOF) {
			end()
			return nil
		}
		if err != nil {
			return err
		}
	}
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
	return len(key) == len(name) && bytes.EqualFold(key, []byte(name))
}
