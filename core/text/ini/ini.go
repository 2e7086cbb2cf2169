// Package ini reads the section files of package managers without losing a byte:
// each dialect as its own program reads it, all into one shape that can be
// edited in place.
package ini

import (
	"errors"
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/text/splice"
)

// MaxText is the longest text that is read, in bytes; positions are 32 bits wide.
const MaxText = 64 << 20

// Error says where and why a program stops reading a text.
type Error struct {
	Line    int // from 1
	Message string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Message) }

// Entry is one key with its value. Its texts are asked of the File. It is kept
// small: there may be one for every two bytes of a text.
type Entry struct {
	Line            int32 // from 1
	end             int32 // of its last line, the newline included
	key, keyEnd     int32
	value, valueEnd int32  // as written; empty and at the line's end for a bare key
	flags           uint32 // the signs below, and an index from 1 into File.joined
}

const (
	bare      uint32 = 1 << 31    // without an equals sign
	goesOn    uint32 = 1 << 30    // the line goes on with the value of the entry before
	joinedSet        = goesOn - 1 // where the value is not a stretch of the text
)

// Bare reports whether the entry has no equals sign.
func (e *Entry) Bare() bool { return e.flags&bare != 0 }

// start returns where the line begins that a place is in.
func (f *File) start(at int32) int { return strings.LastIndexByte(f.text[:at], '\n') + 1 }

// Section is one header with the entries up to the next. A text that begins
// with entries has a first Section without header.
type Section struct {
	Line          int32 // of the header, from 1; 0 without header
	Headless      bool
	start, end    int32 // from the header to the next one
	name, nameEnd int32
	first, last   int32 // range of File.entries
}

// File is a text with its sections.
type File struct {
	Sections []Section
	Err      *Error // where the program stops; what stands before it was read

	text    string
	entries []Entry
	joined  []string
	write   writer
	parse   func([]byte) *File
	edits   splice.Edits
}

// writer is what dialects differ in when an entry is written.
type writer struct {
	equals       string                             // between key and value
	encode       func(value string) (string, error) // the value as the dialect writes it
	decode       func(raw string) string            // what a value that was read stands for
	forbiddenKey string
}

// Name returns the name of a section.
func (f *File) Name(s *Section) string { return f.text[s.name:s.nameEnd] }

// Text returns the text of a section, from its header to the next section's.
func (f *File) Text(s *Section) string { return f.text[s.start:s.end] }

// Entries returns the entries of a section, in order.
func (f *File) Entries(s *Section) []Entry { return f.entries[s.first:s.last] }

// Key returns the key of an entry.
func (f *File) Key(e *Entry) string { return f.text[e.key:e.keyEnd] }

// Value returns the value of an entry as the dialect's program reads it.
func (f *File) Value(e *Entry) string {
	if n := e.flags & joinedSet; n > 0 {
		return f.joined[n-1]
	}
	return f.text[e.value:e.valueEnd]
}

// Get returns the last value of a key in one section.
func (f *File) Get(s *Section, key string) (string, bool) {
	if e := f.find(s, key); e != nil {
		return f.Value(e), true
	}
	return "", false
}

func (f *File) find(s *Section, key string) *Entry {
	list := f.Entries(s)
	for i := len(list) - 1; i >= 0; i-- {
		if f.Key(&list[i]) == key {
			return &list[i]
		}
	}
	return nil
}

// before returns the entry of the same key that stands before another.
func (f *File) before(s *Section, e *Entry) *Entry {
	list := f.Entries(s)
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].value < e.value && f.Key(&list[i]) == f.Key(e) {
			return &list[i]
		}
	}
	return nil
}

// ErrValue is returned for keys, names and values that the dialect cannot write.
var ErrValue = errors.New("cannot be written in this format")

// Set asks for a key to have a value: the last entry of that key changes its
// value alone, and a new entry goes behind the last one of the section. What
// would not be read again as it was set is refused.
func (f *File) Set(s *Section, key, value string) error {
	var one splice.Edits
	if err := f.set(&one, s, key, value); err != nil {
		return err
	}
	again := f.parse(one.Apply([]byte(f.text)))
	for i := range f.Sections {
		if &f.Sections[i] != s {
			continue
		}
		if len(again.Sections) != len(f.Sections) || again.Err != nil && f.Err == nil {
			return fmt.Errorf("%s: %w", key, ErrValue)
		}
		if got, ok := again.Get(&again.Sections[i], key); !ok || f.write.decode(got) != value {
			return fmt.Errorf("%s: %w", key, ErrValue)
		}
	}
	return f.set(&f.edits, s, key, value)
}

func (f *File) set(edits *splice.Edits, s *Section, key, value string) error {
	text, err := f.write.encode(value)
	if err != nil {
		return fmt.Errorf("%s: %w", key, err)
	}
	if e := f.find(s, key); e != nil {
		if e.Bare() {
			text = f.write.equals + text
		}
		var others []*Entry // a value over several entries becomes one
		for e.flags&goesOn != 0 {
			others = append(others, e)
			if e = f.before(s, e); e == nil {
				return fmt.Errorf("%s: its value begins in another section: %w", key, ErrValue)
			}
		}
		for _, o := range others {
			edits.Delete(f.start(o.value), int(o.end))
		}
		edits.Replace(int(e.value), int(e.valueEnd), text)
		return nil
	}
	if key == "" || strings.ContainsAny(key, f.write.forbiddenKey) || strings.TrimSpace(key) != key {
		return fmt.Errorf("key %q: %w", key, ErrValue)
	}
	at := s.headerEnd(f.text)
	if list := f.Entries(s); len(list) > 0 {
		at = int(list[len(list)-1].end)
	}
	line := key + f.write.equals + text + "\n"
	if at > 0 && f.text[at-1] != '\n' {
		line = "\n" + line
	}
	edits.Insert(at, line)
	return nil
}

// PutWords puts other words into the value of a key, which blanks and commas part: for each of them those that take its place.
func (f *File) PutWords(s *Section, key string, to func(words []string) [][]string) {
	var words [][2]int
	for e := f.find(s, key); e != nil; e = f.before(s, e) {
		words = append(splice.Words([]byte(f.text), int(e.value), int(e.valueEnd), ", \t\r\n", "#;"), words...)
		if e.flags&goesOn == 0 {
			break
		}
	}
	f.edits.PutWords([]byte(f.text), words, to)
}

// Rename gives every entry of a key in one section another key.
func (f *File) Rename(s *Section, key, to string) {
	list := f.Entries(s)
	for i := range list {
		if e := &list[i]; f.Key(e) == key && e.flags&goesOn == 0 {
			f.edits.Replace(int(e.key), int(e.keyEnd), to)
		}
	}
}

func (s *Section) headerEnd(text string) int {
	if s.Headless {
		return int(s.start)
	}
	if i := strings.IndexByte(text[s.nameEnd:], '\n'); i >= 0 {
		return int(s.nameEnd) + i + 1
	}
	return len(text)
}

// Delete asks for every entry of a key to go from one section.
func (f *File) Delete(s *Section, key string) {
	list := f.Entries(s)
	for i := range list {
		if f.Key(&list[i]) == key {
			f.edits.Delete(f.start(list[i].value), int(list[i].end))
		}
	}
}

// DeleteSection asks for a section to go, with its entries and with what stands
// among them.
func (f *File) DeleteSection(s *Section) { f.edits.Delete(int(s.start), int(s.end)) }

// Add asks for a new section at the end of the text.
func (f *File) Add(name string, pairs ...[2]string) error {
	if name == "" || strings.ContainsAny(name, "]\r\n") {
		return fmt.Errorf("section %q: %w", name, ErrValue)
	}
	var out strings.Builder
	if f.text != "" {
		if !strings.HasSuffix(f.text, "\n") {
			out.WriteByte('\n')
		}
		out.WriteByte('\n')
	}
	fmt.Fprintf(&out, "[%s]\n", name)
	for _, p := range pairs {
		value, err := f.write.encode(p[1])
		if err != nil {
			return fmt.Errorf("%s: %w", p[0], err)
		}
		out.WriteString(p[0] + f.write.equals + value + "\n")
	}
	f.edits.Insert(len(f.text), out.String())
	return nil
}

// Bytes returns the text with the edits that were asked for; without any, the
// very text that was parsed.
func (f *File) Bytes() []byte { return f.edits.Apply([]byte(f.text)) }

// parser is what the dialects share while they read.
type parser struct {
	f      *File
	open   bool // a section is open
	last   bool // a section's name ends at the last bracket of its line
	number int32
}

func begin(text []byte, w writer, parse func([]byte) *File) *parser {
	f := &File{text: string(text), write: w, parse: parse}
	p := &parser{f: f}
	if len(text) > MaxText {
		f.text = ""
		f.Err = &Error{1, fmt.Sprintf("the text is longer than %d MiB", MaxText>>20)}
		return p
	}
	f.entries = make([]Entry, 0, min(strings.Count(f.text, "="), strings.Count(f.text, "\n")+1))
	return p
}

// next returns the bounds of the line at at: its end without the newline, and
// the start of the next.
func (p *parser) next(at int) (end, after int) {
	p.number++
	if i := strings.IndexByte(p.f.text[at:], '\n'); i >= 0 {
		return at + i, at + i + 1
	}
	return len(p.f.text), len(p.f.text)
}

func (p *parser) section(at, name, nameEnd int) {
	p.finish(at)
	n := int32(len(p.f.entries))
	p.f.Sections = append(
		p.f.Sections,
		Section{Line: p.number, start: int32(at), name: int32(name), nameEnd: int32(nameEnd), first: n, last: n},
	)
	p.open = true
}

// headless opens the section of entries without a header.
func (p *parser) headless(at int) {
	if !p.open {
		p.f.Sections = append(p.f.Sections, Section{Headless: true, start: int32(at), name: int32(at), nameEnd: int32(at)})
		p.open = true
	}
}

func (p *parser) entry(e Entry) *Entry {
	e.Line = p.number
	p.f.entries = append(p.f.entries, e)
	s := &p.f.Sections[len(p.f.Sections)-1]
	s.last = int32(len(p.f.entries))
	return &p.f.entries[len(p.f.entries)-1]
}

func (p *parser) join(e *Entry, value string) {
	p.f.joined = append(p.f.joined, value)
	e.flags |= uint32(len(p.f.joined))
}

// finish ends the section that is open, and the reading at the end of the text.
func (p *parser) finish(at int) {
	if at == len(p.f.text) && cap(p.f.entries) > len(p.f.entries) {
		p.f.entries = append(make([]Entry, 0, len(p.f.entries)), p.f.entries...)
	}
	if n := len(p.f.Sections); n > 0 {
		p.f.Sections[n-1].end = int32(at)
	}
}

func (p *parser) fail(message string) {
	if p.f.Err == nil {
		p.f.Err = &Error{int(p.number), message}
	}
}

// itself is for dialects without escapes.
func itself(value string) string { return value }

// oneLine refuses values that do not stand on one line or that lose blanks.
func oneLine(value string) (string, error) {
	if strings.ContainsAny(value, "\r\n\x00") || strings.TrimSpace(value) != value {
		return "", fmt.Errorf("value %q: %w", value, ErrValue)
	}
	return value, nil
}
