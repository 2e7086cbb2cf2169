package deb822

import (
	"bytes"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/text/splice"
)

func (f *File) eol() string {
	if i := bytes.IndexByte(f.src, '\n'); i > 0 && f.src[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

// Set gives stanza i the field name with that value: the field that is in force
// is replaced, or a new one is put behind the stanza's last field.
func (f *File) Set(i int, name, value string) {
	st := &f.Stanzas[i]
	if fd := st.Field(name); fd != nil {
		from, to := f.valueSpan(fd)
		if from == to && from > 0 && f.src[from-1] == ':' {
			value = " " + value
		}
		f.edits.Replace(from, to, value)
		return
	}
	line := name + ": " + value + f.eol()
	if st.End > 0 && f.src[st.End-1] != '\n' {
		f.edits.Insert(st.End, f.eol()+strings.TrimSuffix(line, f.eol()))
		return
	}
	f.edits.Insert(st.End, line)
}

// valueSpan returns the bytes of src that hold the field's value, trimmed.
func (f *File) valueSpan(fd *Field) (int, int) {
	end := fd.valEnd
	for end > fd.valueFrom && isSpace(f.text[end-1]) {
		end--
	}
	if end == fd.valueFrom {
		return fd.ValueStart, fd.ValueStart
	}
	return fd.ValueStart, f.source(end-1) + 1
}

// Drop removes every field of that name from stanza i.
func (f *File) Drop(i int, name string) {
	for _, fd := range f.Stanzas[i].Fields {
		if strings.EqualFold(fd.Name, name) {
			f.edits.Delete(fd.Start, fd.End)
		}
	}
}

// SetWords gives the named list field of stanza i the wanted words: those that
// stand there keep their place, the others go, missing ones are put behind the
// last.
func (f *File) SetWords(i int, name string, want []string) {
	fd := f.Stanzas[i].Field(name)
	if fd == nil || len(want) == 0 {
		f.Set(i, name, strings.Join(want, " "))
		return
	}
	from, to := f.valueSpan(fd)
	raw := f.src[from:to]
	if bytes.Contains(raw, []byte("\n#")) { // a comment between the words: write the list anew
		f.edits.Replace(from, to, strings.Join(want, " "))
		return
	}
	type span struct{ start, end int }
	var words []span
	for at := 0; at < len(raw); {
		for at < len(raw) && isSpace(raw[at]) {
			at++
		}
		begin := at
		for at < len(raw) && !isSpace(raw[at]) {
			at++
		}
		if at > begin {
			words = append(words, span{begin, at})
		}
	}
	var out []byte
	var have []string
	last := 0
	for _, w := range words {
		word := string(raw[w.start:w.end])
		if slices.Contains(want, word) && !slices.Contains(have, word) {
			if len(have) == 0 {
				last = w.start
			}
			out = append(out, raw[last:w.end]...)
			have = append(have, word)
		}
		last = w.end
	}
	for _, word := range want {
		if !slices.Contains(have, word) {
			if len(out) > 0 {
				out = append(out, ' ')
			}
			out = append(out, word...)
			have = append(have, word)
		}
	}
	f.edits.Replace(from, to, string(out))
}

// PutWords puts other words into the named list field of stanza i: for each of them those that take its place.
func (f *File) PutWords(i int, name string, to func(words []string) [][]string) {
	fd := f.Stanzas[i].Field(name)
	if fd == nil {
		return
	}
	from, end := f.valueSpan(fd)
	f.edits.PutWords(f.src, splice.Words(f.src, from, end, " \t\r\n", "#"), to)
}

// DropStanza removes stanza i, with the blank lines behind it. Comments stay.
func (f *File) DropStanza(i int) {
	st := &f.Stanzas[i]
	at := st.Start
	for n := range st.Fields {
		f.edits.Delete(st.Fields[n].Start, st.Fields[n].End)
		at = st.Fields[n].End
	}
	end := at
	for end < len(f.src) && (f.src[end] == '\n' || f.src[end] == '\r') {
		end++
	}
	f.edits.Delete(at, end)
}

// SwitchOff says Enabled: no in stanza i.
func (f *File) SwitchOff(i int) { f.Set(i, "Enabled", "no") }

// SwitchOn takes Enabled: no out of stanza i again.
func (f *File) SwitchOn(i int) { f.Drop(i, "Enabled") }

// Add puts text, whole lines, behind the last stanza, a blank line between.
func (f *File) Add(text string) {
	eol := f.eol()
	n := len(f.src)
	switch {
	case n == 0:
	case f.src[n-1] != '\n':
		f.edits.Insert(n, eol+eol)
	case n < 2 || !bytes.HasSuffix(bytes.ReplaceAll(f.src, []byte{'\r'}, nil), []byte("\n\n")):
		f.edits.Insert(n, eol)
	}
	f.edits.Insert(n, strings.ReplaceAll(text, "\n", eol))
}
