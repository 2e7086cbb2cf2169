// Package aptline reads and edits apt's one-line source lists, sources.list(5).
//
// Parse takes any bytes and loses none: Bytes gives back what was read, and an
// edit changes only the bytes that it must. How a line is taken follows apt 2.6
// as Debian packages it; docs/fidelity.md tells how that was seen.
package aptline

import (
	"bytes"
	"strings"

	"patientlantern.example/lantern/core/text/percent"
	"patientlantern.example/lantern/core/text/splice"
)

// Kind says what a line is to apt.
type Kind uint8

// The kinds of line. An Off line is a comment that apt would accept as an entry
// without its leading # signs: operators switch entries off like that.
const (
	Blank Kind = iota
	Comment
	Entry
	Off
	Malformed
)

// File is a source list, read.
type File struct {
	src   []byte
	Lines []Line
	edits splice.Edits
}

// words is a store that the components of many lines are cut from.
type words struct{ free []Word }

// take moves list into the store and returns it from there.
func (w *words) take(list []Word) []Word {
	if len(w.free) < len(list) {
		w.free = make([]Word, max(512, len(list)))
	}
	out := w.free[:len(list):len(list)]
	copy(out, list)
	w.free = w.free[len(list):]
	return out
}

// Line is one line of a File. Offsets count bytes from the start of the file.
type Line struct {
	Start, End int // End is behind the line's newline, if it has one
	Kind       Kind
	Type       string   // deb or deb-src, for Entry and Off
	Options    []Option // in order, as written
	URI        Word
	Suite      Word
	Components []Word
	Err        string // why apt refuses a Malformed line, in apt's words
	body       int    // where the entry's type begins
}

// Word is one word of an entry: its value after apt's unquoting, and its place.
type Word struct {
	Value      string
	Start, End int
}

// Option is one [key=value] of an entry.
type Option struct {
	Key, Value string
	Start, End int
}

// Parse reads src, which the File keeps and must not be changed afterwards.
func Parse(src []byte) *File {
	f := &File{src: src, Lines: make([]Line, 0, bytes.Count(src, []byte{'\n'})+1)}
	p := parser{src: src, text: string(src)} // words are cut from text and share its memory
	for at := 0; at < len(src); {
		end := len(src)
		next := end
		if i := bytes.IndexByte(src[at:], '\n'); i >= 0 {
			end = at + i
			next = end + 1
		}
		f.Lines = append(f.Lines, Line{Start: at, End: next})
		p.line(&f.Lines[len(f.Lines)-1], at, end)
		at = next
	}
	return f
}

// Bytes returns the file's text with all edits made.
func (f *File) Bytes() []byte { return f.edits.Apply(f.src) }

// Option returns the value of the last option of that key, as apt takes it.
func (l *Line) Option(key string) (string, bool) {
	for i := len(l.Options) - 1; i >= 0; i-- {
		if l.Options[i].Key == key {
			return l.Options[i].Value, true
		}
	}
	return "", false
}

// line reads the line src[start:end] into l.
func (p *parser) line(l *Line, start, end int) {
	stop := commentStart(p.src, start, end)
	from, to := trim(p.src, start, stop)
	if from < to {
		p.at, p.end = from, to
		p.entry(l)
		return
	}
	if stop == end { // nothing but blanks
		return
	}
	l.Kind = Comment
	// A comment: would apt take it without its leading signs?
	at := stop
	for at < end && (p.src[at] == '#' || p.src[at] == ' ' || p.src[at] == '\t') {
		at++
	}
	from, to = trim(p.src, at, commentStart(p.src, at, end))
	if !strings.HasPrefix(p.text[from:to], "deb") {
		return
	}
	p.at, p.end = from, to
	if p.entry(l); l.Kind == Entry {
		l.Kind = Off
		return
	}
	*l = Line{Start: l.Start, End: l.End, Kind: Comment}
}

// commentStart returns where apt cuts the line src[start:end]: at the first #
// that no open [ stands before.
func commentStart(src []byte, start, end int) int {
	i := bytes.IndexByte(src[start:end], '#')
	if i < 0 {
		return end
	}
	open := 0
	for at := start; at < end; at++ {
		switch src[at] {
		case '[':
			open++
		case ']':
			open--
		case '#':
			if open <= 0 {
				return at
			}
		}
	}
	return end
}

// trim drops what apt strips off both ends of a line: blanks, tabs and carriage returns.
func trim(src []byte, from, to int) (int, int) {
	for from < to && (src[from] == ' ' || src[from] == '\t' || src[from] == '\r') {
		from++
	}
	for to > from && (src[to-1] == ' ' || src[to-1] == '\t' || src[to-1] == '\r') {
		to--
	}
	return from, to
}

// isSpace is isspace(3) in the C locale, which apt uses for the words of a line.
func isSpace(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' }

type parser struct {
	src     []byte
	text    string // the same
	at, end int
	comps   []Word // of the line that is being read
	store   words
	opts    []Option
}

// entry reads one entry of src[at:end], which is trimmed and not empty.
func (p *parser) entry(l *Line) {
	l.Kind = Malformed
	l.body = p.at
	// A NUL ends the line for the C strings that apt reads words from.
	if i := strings.IndexByte(p.text[p.at:p.end], 0); i >= 0 {
		p.end = p.at + i
	}
	i := p.at
	for i < p.end && p.src[i] != ' ' && p.src[i] != '\t' && p.src[i] != '\v' {
		i++
	}
	if i == p.at || i == p.end {
		l.Err = "type"
		return
	}
	switch l.Type = p.text[p.at:i]; l.Type {
	case "deb", "deb-src":
	default:
		l.Err, l.Type = "unknown type "+l.Type, ""
		return
	}
	p.at = i
	p.skipSpace()
	if p.at < p.end && p.src[p.at] == '[' {
		p.at++
		p.skipSpace()
		if l.Err = p.options(l); l.Err != "" {
			return
		}
		p.skipSpace()
	}
	var ok bool
	if l.URI, ok = p.word(); !ok {
		l.Err = "URI"
		return
	}
	if l.Suite, ok = p.word(); !ok {
		l.Err = "Suite"
		return
	}
	if strings.IndexByte(l.URI.Value, ':') < 0 {
		l.Err = "URI parse"
		return
	}
	w, ok := p.word()
	if s := l.Suite.Value; s != "" && s[len(s)-1] == '/' {
		if ok {
			l.Err = "absolute Suite Component"
			return
		}
		l.Kind = Entry
		return
	}
	if !ok {
		l.Err = "Component"
		return
	}
	p.comps = p.comps[:0]
	for ; ok; w, ok = p.word() {
		p.comps = append(p.comps, w)
	}
	l.Components = p.store.take(p.comps)
	l.Kind = Entry
}

func (p *parser) options(l *Line) string {
	first := len(p.opts)
	defer func() { l.Options = p.opts[first:len(p.opts):len(p.opts)] }()
	for p.at >= p.end || p.src[p.at] != ']' {
		from := p.at
		w, ok := p.word()
		if !ok {
			return "[option] unparsable"
		}
		if len(w.Value) < 3 {
			return "[option] too short"
		}
		if w.Value[len(w.Value)-1] == ']' {
			// The last option may touch the closing bracket.
			for p.at >= p.end || p.src[p.at] != ']' {
				p.at--
				if p.at < from {
					return "[option] unparsable"
				}
			}
			w.Value = w.Value[:len(w.Value)-1]
			w.End = p.at
		}
		i := strings.IndexByte(w.Value, '=')
		switch {
		case i < 0:
			return "[option] not assignment"
		case i == 0:
			return "[option] no key"
		case i == len(w.Value)-1:
			return "[option] no value"
		}
		if len(p.opts) == cap(p.opts) { // lines keep what was cut from the old ones
			p.opts = append(make([]Option, 0, max(512, 2*(len(p.opts)-first))), p.opts[first:]...)
			first = 0
		}
		p.opts = append(p.opts, Option{w.Value[:i], w.Value[i+1:], w.Start, w.End})
	}
	p.at++
	return ""
}

func (p *parser) skipSpace() {
	for p.at < p.end && isSpace(p.src[p.at]) {
		p.at++
	}
}

// Kinds of byte inside a word.
const (
	ordinary = iota
	space
	quote
	bracket
	escape
)

var kinds = [256]uint8{' ': space, '\t': space, '\n': space, '\v': space, '\f': space, '\r': space, '"': quote, '[': bracket, '%': escape}

// word reads one word as apt does: double quotes are taken off, [ ] may hold
// blanks, %xx is decoded, and only a blank (not a tab) may stand before it.
func (p *parser) word() (Word, bool) {
	c := p.at
	for c < p.end && p.src[c] == ' ' {
		c++
	}
	if c >= p.end {
		return Word{}, false
	}
	begin := c
	plain := true
	text := p.text[:p.end]
scan:
	for c < len(text) {
		var closing byte
		switch kinds[text[c]] {
		case ordinary:
			c++
			continue
		case space:
			break scan
		case quote:
			closing, plain = '"', false
		case bracket:
			closing = ']'
		case escape:
			plain = false
		}
		if closing != 0 {
			i := strings.IndexByte(text[c+1:], closing)
			if i < 0 {
				return Word{}, false
			}
			plain = plain && !strings.ContainsAny(text[c+1:c+1+i], `%"`)
			c += 1 + i
		}
		c++
	}
	w := Word{Start: begin, End: c}
	if plain && begin == p.at {
		w.Value = p.text[begin:c]
	} else {
		w.Value = percent.Unquote(p.text[p.at:c])
	}
	for c < p.end && isSpace(p.src[c]) {
		c++
	}
	p.at = c
	return w, true
}
