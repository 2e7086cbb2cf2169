// Package deb822 reads and edits stanzas of fields: apt's *.sources files, and
// the release, package and status files of the same syntax, deb822(5).
//
// Parse takes any bytes and loses none: Bytes gives back what was read, and an
// edit changes only the bytes that it must. What counts as a stanza and a field
// follows apt 2.6 as Debian packages it, oddities included: a line of blanks
// does not end a stanza, and a line without a colon takes the text up to the
// next colon into its name.
package deb822

import (
	"bytes"
	"slices"
	"sort"
	"strings"

	"patientlantern.example/lantern/core/text/splice"
)

// File is a text of stanzas, read.
type File struct {
	src     []byte
	text    string // src without comment lines, ending in two newlines; names and values are cut from it
	cursor  int    // of source, which is asked for rising offsets
	pieces  []piece
	Stanzas []Stanza
	// Broken is the offset from which apt cannot make a stanza of the rest, or -1.
	Broken   int
	edits    splice.Edits
	newlines []int   // where lines end, found when it is asked for the first time
	fields   []Field // that stanzas are cut from
}

// piece says that text[text:] begins at src[src:].
type piece struct{ text, src int }

// Stanza is one group of fields. Number counts from 1, as apt counts.
type Stanza struct {
	Number     int
	Start, End int // bytes of src, from the first field to behind the last
	Fields     []Field
}

// Field is one field of a stanza.
type Field struct {
	Name              string
	Start             int // of the name, in src
	ValueStart        int // of the value's first character, in src
	End               int // behind the field's last line, in src
	valueFrom, valEnd int // in text
}

// Parse reads src, which the File keeps and must not be changed afterwards.
func Parse(src []byte) *File {
	f := &File{src: src, Broken: -1}
	f.strip()
	f.scan()
	return f
}

// Bytes returns the file's text with all edits made.
func (f *File) Bytes() []byte { return f.edits.Apply(f.src) }

// strip fills text: a line that begins with # is no part of what apt reads.
func (f *File) strip() {
	src := f.src
	// apt ends the last record itself.
	newlines := 0
	for i := len(src) - 1; i >= 0 && (src[i] == '\n' || src[i] == '\r'); i-- {
		if src[i] == '\n' {
			newlines++
		}
	}
	if !bytes.HasPrefix(src, []byte{'#'}) && !bytes.Contains(src, []byte("\n#")) {
		switch {
		case len(src) == 0:
		case newlines >= 2:
			f.text = string(src)
		default:
			f.text = string(src) + "\n\n"[newlines:]
		}
		return
	}
	var b strings.Builder
	b.Grow(len(src) + 2)
	comment := true // whether the line before was one; the first piece begins anyway
	for at := 0; at < len(src); {
		if src[at] == '#' {
			at += lineLength(src[at:])
			comment = true
			continue
		}
		// Everything up to the next comment is one piece.
		end := len(src)
		if i := bytes.Index(src[at:], []byte("\n#")); i >= 0 {
			end = at + i + 1
		}
		if comment {
			f.pieces = append(f.pieces, piece{b.Len(), at})
			comment = false
		}
		b.Write(src[at:end])
		at = end
	}
	if f.text = b.String(); f.text == "" {
		return
	}
	newlines = 0
	for i := len(f.text) - 1; i >= 0 && (f.text[i] == '\n' || f.text[i] == '\r'); i-- {
		if f.text[i] == '\n' {
			newlines++
		}
	}
	if newlines < 2 {
		b.WriteString("\n\n"[newlines:])
		f.text = b.String()
	}
}

// lineLength is the length of the first line, its newline included.
func lineLength(b []byte) int {
	if i := bytes.IndexByte(b, '\n'); i >= 0 {
		return i + 1
	}
	return len(b)
}

// source maps an offset of text to one of src.
func (f *File) source(at int) int {
	if len(f.pieces) == 0 {
		return min(at, len(f.src))
	}
	i := f.cursor
	if i >= len(f.pieces) || f.pieces[i].text > at { // a step back
		i = max(0, sort.Search(len(f.pieces), func(i int) bool { return f.pieces[i].text > at })-1)
	}
	for i+1 < len(f.pieces) && f.pieces[i+1].text <= at {
		i++
	}
	f.cursor = i
	if f.pieces[i].text > at {
		return 0
	}
	return min(f.pieces[i].src+at-f.pieces[i].text, len(f.src))
}

func isSpace(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' }

// room is for how many fields it is made in one go where so many bytes are left: a short file has few.
func room(left int) int { return min(256, 4+left/16) }

// remnant is how much may be left at the end of a text that apt takes no notice of, in bytes, the two newlines
// with which it ends a record among them.
const remnant = 3

// broken notes that nothing can be made of the text from an offset on.
func (f *File) broken(from int) {
	if len(f.text)-from > remnant {
		f.Broken = f.source(from)
	}
}

// scan finds stanzas in text.
func (f *File) scan() {
	t := f.text
	at := 0
	f.Stanzas = make([]Stanza, 0, strings.Count(t, "\n\n"))
	for at < len(t) {
		begin := at
		first := len(f.fields)
		var st Stanza
		done := false
		for at < len(t) && !done {
			if !isSpace(t[at]) {
				if n := len(st.Fields); n > 0 {
					st.Fields[n-1].valEnd = at
				}
				i := strings.IndexByte(t[at:], ':')
				if i < 0 {
					f.broken(begin)
					return
				}
				colon := at + i
				end := colon
				for end > at+1 && isSpace(t[end-1]) {
					end--
				}
				if len(f.fields) == cap(f.fields) { // stanzas keep what was cut from the old ones
					f.fields = append(make([]Field, 0, max(room(len(t)-at), 2*len(st.Fields))), st.Fields...)
					first = 0
				}
				f.fields = append(f.fields, Field{Name: f.text[at:end], Start: f.source(at)})
				st.Fields = f.fields[first:len(f.fields):len(f.fields)]
				at = colon + 1
				for at < len(t) && isSpace(t[at]) {
					if t[at] == '\n' && (at+1 >= len(t) || t[at+1] != ' ') {
						break
					}
					at++
				}
				if at >= len(t) {
					f.broken(begin)
					return
				}
				fd := &st.Fields[len(st.Fields)-1]
				fd.valueFrom, fd.ValueStart = at, f.source(at)
			}
			i := strings.IndexByte(t[at:], '\n')
			if i < 0 {
				break
			}
			at += i
			for at+1 < len(t) && t[at+1] == '\r' {
				at++
			}
			if at+1 < len(t) && t[at+1] == '\n' {
				if n := len(st.Fields); n > 0 {
					st.Fields[n-1].valEnd = at
				}
				for at < len(t) && (t[at] == '\n' || t[at] == '\r') {
					at++
				}
				done = true
				break
			}
			at++
		}
		if !done {
			if len(strings.TrimSpace(t[begin:])) > 0 {
				f.broken(begin)
			}
			return
		}
		if len(st.Fields) == 0 {
			continue
		}
		st.Number = len(f.Stanzas) + 1
		for i := range st.Fields {
			fd := &st.Fields[i]
			fd.End = f.fieldEnd(fd)
		}
		st.Start = st.Fields[0].Start
		st.End = st.Fields[len(st.Fields)-1].End
		f.Stanzas = append(f.Stanzas, st)
	}
}

// fieldEnd returns the offset in src behind the last line of the field's value.
func (f *File) fieldEnd(fd *Field) int {
	end := fd.valEnd
	for end > fd.valueFrom && isSpace(f.text[end-1]) {
		end--
	}
	at := f.source(max(end-1, 0))
	if end == fd.valueFrom {
		at = f.source(end)
	}
	if i := bytes.IndexByte(f.src[at:], '\n'); i >= 0 {
		return at + i + 1
	}
	return len(f.src)
}

// Value returns the field's value as apt takes it: without comment lines and
// without blanks at either end. Continuation lines keep their newlines.
func (f *File) Value(fd *Field) string {
	from, to := fd.valueFrom, fd.valEnd
	for to > from && isSpace(f.text[to-1]) {
		to--
	}
	return f.text[from:to]
}

// Field returns the field of that name which is in force, the last one, or nil.
// Names match without regard to case.
func (s *Stanza) Field(name string) *Field {
	for i := len(s.Fields) - 1; i >= 0; i-- {
		if strings.EqualFold(s.Fields[i].Name, name) {
			return &s.Fields[i]
		}
	}
	return nil
}

// Get returns the value of the named field of stanza i, and whether it is there.
func (f *File) Get(i int, name string) (string, bool) {
	fd := f.Stanzas[i].Field(name)
	if fd == nil {
		return "", false
	}
	return f.Value(fd), true
}

// Words returns the blank-separated words of the named field of stanza i.
func (f *File) Words(i int, name string) []string {
	v, _ := f.Get(i, name)
	return strings.FieldsFunc(v, func(r rune) bool { return r < 128 && isSpace(byte(r)) })
}

// Line returns the line, from 1, that an offset of src stands on.
func (f *File) Line(offset int) int {
	if f.newlines == nil {
		f.newlines = []int{}
		for at, c := range f.src {
			if c == '\n' {
				f.newlines = append(f.newlines, at)
			}
		}
	}
	n, _ := slices.BinarySearch(f.newlines, min(offset, len(f.src)))
	return n + 1
}
