package diag

import (
	"bytes"
	"strings"
	"unicode/utf8"
)

// mostExcerpt bounds an excerpt, in characters.
const mostExcerpt = 160

// Excerpt returns the line of a text that a place is on, and a line of the same width up
// to a caret under the column. Columns count characters from 1, as YAML's parser gives them.
// Both are empty where the place names no line of the text. Tabs become blanks, so that
// the caret stands right; control characters are left out.
func Excerpt(text []byte, at Pos) (line, caret string) {
	if at.Line < 1 {
		return "", ""
	}
	for range at.Line - 1 {
		i := bytes.IndexByte(text, '\n')
		if i < 0 {
			return "", ""
		}
		text = text[i+1:]
	}
	if i := bytes.IndexByte(text, '\n'); i >= 0 {
		text = text[:i]
	}
	var out, under strings.Builder
	n := 0
	for i := 0; i < len(text) && n < mostExcerpt; {
		r, size := utf8.DecodeRune(text[i:])
		switch {
		case r == '\t':
			r = ' '
		case r < ' ' || r == 0x7f || r == utf8.RuneError:
			r = '·'
		}
		out.WriteRune(r)
		if n < at.Column-1 {
			under.WriteByte(' ')
		}
		i, n = i+size, n+1
	}
	if strings.TrimSpace(out.String()) == "" {
		return "", ""
	}
	return strings.TrimRight(out.String(), " "), under.String() + "^"
}
