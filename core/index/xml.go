package index

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Kinds of token.
const (
	opens = iota
	closes
	alone // <x/>
	text
	nothing // a comment or the like
)

// mostTag bounds a tag, in bytes.
const mostTag = 1 << 16

var (
	errCut      = fmt.Errorf("it is cut off in the middle: %w", io.ErrUnexpectedEOF)
	errDeclares = errors.New("it declares a document type of its own, which no list of packages needs")
)

// scanner reads XML as far as lists of packages use it, in one pass: tags, text, sections of
// characters. encoding/xml does this right as well, and ten times slower.
type scanner struct {
	in   *bufio.Reader
	buf  []byte // of the token
	want bool   // texts are wanted

	seen  int  // how much of a tag was looked at
	quote byte // what a value began with that has not ended; 0: none
}

func newScanner(r io.Reader) *scanner { return &scanner{in: bufio.NewReaderSize(r, 1<<16)} }

// next returns the next token: of a tag what stands between its brackets, of text the text.
// It stays good until the next call. At the end it returns io.EOF.
func (s *scanner) next() (kind int, token []byte, err error) {
	for kind, token, err = s.one(); kind == nothing && err == nil; {
		kind, token, err = s.one()
	}
	return kind, token, err
}

func (s *scanner) one() (kind int, token []byte, err error) {
	s.buf = s.buf[:0]
	for {
		b, err := s.in.ReadSlice('<')
		full, end := false, false
		if err != nil {
			full, end = errors.Is(err, bufio.ErrBufferFull), errors.Is(err, io.EOF)
			if !full && !end {
				return 0, nil, err
			}
		}
		if !end && !full {
			b = b[:len(b)-1]
		}
		if s.want && len(s.buf)+len(b) <= 2*longest {
			s.buf = append(s.buf, b...)
		} else if s.want {
			return 0, nil, errLong
		}
		if end {
			if len(bytes.TrimSpace(b)) > 0 {
				return 0, nil, errCut
			}
			return 0, nil, io.EOF
		}
		if !full {
			break
		}
	}
	if s.want && len(s.buf) > 0 {
		return text, s.buf, s.in.UnreadByte()
	}
	return s.tag()
}

// tag reads what follows a "<".
func (s *scanner) tag() (kind int, token []byte, err error) {
	b, err := s.in.ReadSlice('>')
	if err == nil && plainTag(b) {
		return kindOf(b[:len(b)-1]) // nearly every tag is so, and is looked at where it stands
	}
	s.buf, s.seen, s.quote = s.buf[:0], 0, 0
	for {
		if s.buf = append(s.buf, b...); len(s.buf) > mostTag {
			return 0, nil, errLong
		}
		switch {
		case errors.Is(err, io.EOF):
			return 0, nil, errCut
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return 0, nil, err
		case err == nil && s.whole():
			return s.kind()
		}
		b, err = s.in.ReadSlice('>')
	}
}

// passAlone goes past the elements without content, and the text between them, that stand whole in what has been read. It stops
// before whatever is told by its name, or is no plain tag.
func (s *scanner) passAlone() {
	b, _ := s.in.Peek(s.in.Buffered()) // no more than there is: it cannot fail
	at := 0
	for {
		from := bytes.IndexByte(b[at:], '<')
		if from < 0 {
			break
		}
		tag := b[at+from+1:]
		end := bytes.IndexByte(tag, '>')
		if end < 2 || tag[end-1] != '/' || !plainTag(tag[:end]) || tag[0] == '/' {
			break
		}
		at += from + 1 + end + 1
	}
	_, _ = s.in.Discard(at) // of what there is
}

// plainTag reports whether a tag ends where its first ">" stands, and is no comment or the like.
func plainTag(tag []byte) bool {
	return len(tag) > 0 && tag[0] != '!' && tag[0] != '?' && bytes.IndexByte(tag, '\'') < 0 && bytes.Count(tag, quoteMark)%2 == 0
}

// whole reports whether the tag has come to its end: a ">" may stand in a value, in a
// comment and in a section of characters.
func (s *scanner) whole() bool {
	t := s.buf
	switch {
	case bytes.HasPrefix(t, []byte("!--")):
		return len(t) >= 6 && bytes.HasSuffix(t, []byte("-->"))
	case bytes.HasPrefix(t, []byte("![CDATA[")):
		return bytes.HasSuffix(t, []byte("]]>"))
	case bytes.HasPrefix(t, []byte("?")):
		return bytes.HasSuffix(t, []byte("?>"))
	}
	for ; s.seen < len(t); s.seen++ {
		switch c := t[s.seen]; {
		case s.quote == 0 && (c == '"' || c == '\''):
			s.quote = c
		case c == s.quote:
			s.quote = 0
		}
	}
	return s.quote == 0
}

func (s *scanner) kind() (kind int, token []byte, err error) {
	t := s.buf[:len(s.buf)-1]
	switch {
	case bytes.HasPrefix(t, []byte("![CDATA[")):
		if s.want {
			return text, escape(t[len("![CDATA[") : len(t)-len("]]")]), nil
		}
		return nothing, nil, nil
	case bytes.HasPrefix(t, []byte("!--")), bytes.HasPrefix(t, []byte("?")):
		return nothing, nil, nil
	case bytes.HasPrefix(t, []byte("!")):
		return 0, nil, errDeclares
	}
	return kindOf(t)
}

// kindOf tells what kind of tag it is, by its text.
func kindOf(t []byte) (kind int, token []byte, err error) {
	switch {
	case len(t) > 0 && t[0] == '/':
		return closes, bytes.TrimSpace(t[1:]), nil
	case len(t) > 0 && t[len(t)-1] == '/':
		return alone, t[:len(t)-1], nil
	}
	return opens, t, nil
}

// escape turns characters of a section into what they would be as text.
func escape(b []byte) []byte { return bytes.ReplaceAll(b, []byte("&"), []byte("&amp;")) }

var quoteMark = []byte{'"'}

// element is the name of a tag.
func element(tag []byte) []byte {
	for i, c := range tag {
		if c == ' ' || c == '\t' || c == '\r' || c == '\n' {
			return tag[:i]
		}
	}
	return tag
}

// attribute returns a value of a tag.
func attribute(tag []byte, name string) (string, error) {
	rest := tag[len(element(tag)):]
	for {
		rest = bytes.TrimLeft(rest, " \t\r\n")
		i := bytes.IndexByte(rest, '=')
		if i < 0 {
			return "", nil
		}
		key := bytes.TrimRight(rest[:i], " \t\r\n")
		rest = bytes.TrimLeft(rest[i+1:], " \t\r\n")
		if len(rest) == 0 || rest[0] != '"' && rest[0] != '\'' {
			return "", errors.New("a value of it stands without quotes")
		}
		j := bytes.IndexByte(rest[1:], rest[0])
		if j < 0 {
			return "", errCut
		}
		if string(key) == name {
			return plain(rest[1 : j+1])
		}
		rest = rest[j+2:]
	}
}

var named = map[string]string{"amp": "&", "lt": "<", "gt": ">", "quot": `"`, "apos": "'"}

// plain puts in what the references of a text stand for.
func plain(b []byte) (string, error) {
	if bytes.IndexByte(b, '&') < 0 {
		return string(b), nil
	}
	var out strings.Builder
	for s := string(b); s != ""; {
		before, rest, found := strings.Cut(s, "&")
		out.WriteString(before)
		if !found {
			break
		}
		name, after, ended := strings.Cut(rest, ";")
		char, known := named[name]
		if digits, numeric := strings.CutPrefix(name, "#"); numeric {
			base := 10
			if hex, isHex := strings.CutPrefix(digits, "x"); isHex {
				digits, base = hex, 16
			}
			n, err := strconv.ParseUint(digits, base, 32)
			known = err == nil && n > 0 && utf8.ValidRune(rune(n)) && n <= utf8.MaxRune
			char = string(rune(n))
		}
		if !ended || !known {
			return "", fmt.Errorf("it refers to &%.20s, which is nothing", name)
		}
		out.WriteString(char)
		s = after
	}
	return out.String(), nil
}
