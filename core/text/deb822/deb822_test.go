package deb822

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// dump writes stanzas as name=value, a line per stanza.
func dump(f *File) string {
	var out strings.Builder
	for i := range f.Stanzas {
		for n := range f.Stanzas[i].Fields {
			fd := &f.Stanzas[i].Fields[n]
			fmt.Fprintf(&out, "%s=%q ", fd.Name, f.Value(fd))
		}
		out.WriteString("\n")
	}
	return out.String()
}

func TestParseFindsStanzasAsAptDoes(t *testing.T) {
	for _, c := range []struct {
		name, in, want string
		broken         bool
	}{
		{"two", "A: 1\nB: 2\n\nA: 3\n", "A=\"1\" B=\"2\" \nA=\"3\" \n", false},
		{"no last newline", "A: 1", "A=\"1\" \n", false},
		{"blank lines around", "\n\nA: 1\n\n\n\nB: 2\n\n", "A=\"1\" \nB=\"2\" \n", false},
		{"continuation", "A: 1\n 2\n\t3\nB: 4\n", "A=\"1\\n 2\\n\\t3\" B=\"4\" \n", false},
		{"value on the next line", "A:\n 1\n", "A=\"1\" \n", false},
		{"a line of blanks joins two", "A: 1\n \nB: 2\n", "A=\"1\" B=\"2\" \n", false},
		{"comments", "# x\nA: 1\n# y\n 2\n#z\n\nB: 3\n# end", "A=\"1\\n 2\" \nB=\"3\" \n", false},
		{"comment only", "# x\n", "", false},
		{"crlf", "A: 1\r\nB: 2\r\n\r\nC: 3\r\n", "A=\"1\" B=\"2\" \nC=\"3\" \n", false},
		{"a line without a colon", "A: 1\nrubbish\nB: 2\n", "A=\"1\" rubbish\nB=\"2\" \n", false},
		{"no colon to the end", "A: 1\n\nrubbish\n", "A=\"1\" \n", true},
		{"blank before the colon", "A : 1\n", "A=\"1\" \n", false},
		{"empty value", "A:\nB: 2\n", "A=\"\" B=\"2\" \n", false},
		{"nothing", "", "", false},
		{"a character at the end", "A: 1\n\nx\n\n", "A=\"1\" \n", false},
		{"two characters at the end", "A: 1\n\nxy", "A=\"1\" \n", true},
		{"a character and blank lines", "x\n\n\n", "", true},
		{"a character behind a comment", "#a\nx", "", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := Parse([]byte(c.in))
			assert.Equal(t, c.want, dump(f))
			assert.Equal(t, c.broken, f.Broken >= 0)
			assert.Equal(t, c.in, string(f.Bytes()))
		})
	}
}

func TestTheLastFieldOfANameIsInForce(t *testing.T) {
	f := Parse([]byte("Suites: a\nsuites: b\n"))
	v, ok := f.Get(0, "SUITES")
	assert.True(t, ok)
	assert.Equal(t, "b", v)
}

func TestFieldsKnowTheirLine(t *testing.T) {
	f := Parse([]byte("# c\n\nA: 1\n# c\nB:\n 2\n\n# c\nC: 3\n"))
	assert.Equal(t, 3, f.Line(f.Stanzas[0].Start))
	assert.Equal(t, 5, f.Line(f.Stanzas[0].Fields[1].Start))
	assert.Equal(t, 9, f.Line(f.Stanzas[1].Start))
}

func TestEditChangesOnlyWhatItMust(t *testing.T) {
	for _, c := range []struct {
		name, in, want string
		edit           func(*File)
	}{
		{"add a word", "A: x  y\nC:  main\n", "A: x  y\nC:  main extra\n", func(f *File) { f.SetWords(0, "C", []string{"main", "extra"}) }},
		{"drop a word", "C: a  b  c # d\n", "C: a  c\n", func(f *File) { f.SetWords(0, "C", []string{"a", "c"}) }},
		{"drop the first word", "C: a  b\n", "C: b\n", func(f *File) { f.SetWords(0, "C", []string{"b"}) }},
		{"words over lines", "C: a\n  b\n  c\nD: 1\n", "C: a\n  c d\nD: 1\n", func(f *File) { f.SetWords(0, "C", []string{"a", "c", "d"}) }},
		{"words around a comment", "C: a\n# why\n b\n", "C: a d\n", func(f *File) { f.SetWords(0, "C", []string{"a", "d"}) }},
		{"new field", "A: 1\r\n\r\nB: 2\r\n", "A: 1\r\nEnabled: no\r\n\r\nB: 2\r\n", func(f *File) { f.SwitchOff(0) }},
		{"new field, no last newline", "A: 1", "A: 1\nEnabled: no", func(f *File) { f.SwitchOff(0) }},
		{"field again", "A: 1\nEnabled: yes\n# c\nB: 2\n", "A: 1\nEnabled: no\n# c\nB: 2\n", func(f *File) { f.SwitchOff(0) }},
		{"empty field", "A:\nB: 2\n", "A: 1\nB: 2\n", func(f *File) { f.Set(0, "A", "1") }},
		{"on again", "A: 1\nEnabled: no\nB: 2\n", "A: 1\nB: 2\n", func(f *File) { f.SwitchOn(0) }},
		{"drop a stanza", "# top\nA: 1\n# in\nB: 2\n\n# next\nC: 3\n", "# top\n# in\n# next\nC: 3\n", func(f *File) { f.DropStanza(0) }},
		{"add a stanza", "A: 1\n", "A: 1\n\nB: 2\n", func(f *File) { f.Add("B: 2\n") }},
		{"add to nothing", "", "B: 2\n", func(f *File) { f.Add("B: 2\n") }},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := Parse([]byte(c.in))
			c.edit(f)
			assert.Equal(t, c.want, string(f.Bytes()))
		})
	}
}

func TestSetThenGetGivesTheValueBack(t *testing.T) {
	text := rapid.StringMatching(`((#[a-z]{0,3}|[A-D]: [a-z]{0,3}|| [a-z]{1,3})\r?\n){0,8}`)
	rapid.Check(t, func(t *rapid.T) {
		f := Parse([]byte(text.Draw(t, "text")))
		if len(f.Stanzas) == 0 {
			t.Skip("no stanza")
		}
		i := rapid.IntRange(0, len(f.Stanzas)-1).Draw(t, "stanza")
		name := rapid.SampledFrom([]string{"A", "B", "E"}).Draw(t, "name")
		f.Set(i, name, "new")
		g := Parse(f.Bytes())
		if len(g.Stanzas) != len(f.Stanzas) {
			t.Fatalf("%d stanzas became %d in %q", len(f.Stanzas), len(g.Stanzas), f.Bytes())
		}
		if v, _ := g.Get(i, name); v != "new" {
			t.Fatalf("got %q back from %q", v, f.Bytes())
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{
		"", "A: 1\nB: 2\n\nC: 3\n", "#x\nTypes: deb\n#y\nURIs:\n http://a.example\r\n\r\n", "A\n:\n\n\n:", "\r\r\n\n:a", "a:", "#", "\n#\n:\n#\n",
		" x\nA:\n\n#\n\t\nB:1\n #c",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		file := Parse(src)
		if string(file.Bytes()) != string(src) {
			t.Fatalf("printed %q for %q", file.Bytes(), src)
		}
		at := 0
		for _, st := range file.Stanzas {
			if st.Start < at || st.End < st.Start || st.End > len(src) {
				t.Fatalf("stanza %d spans %d-%d in %d bytes after %d", st.Number, st.Start, st.End, len(src), at)
			}
			for i := range st.Fields {
				fd := &st.Fields[i]
				if fd.Start < at || fd.End < fd.Start {
					t.Fatalf("field %q spans %d-%d after %d", fd.Name, fd.Start, fd.End, at)
				}
				at = fd.Start
				file.Value(fd)
			}
			at = st.End
		}
		for i := range file.Stanzas {
			e := Parse(src)
			e.SetWords(i, "Components", []string{"main"})
			if got := Parse(e.Bytes()).Words(i, "Components"); len(got) != 1 || got[0] != "main" {
				t.Fatalf("set the list in %q, got %q", src, got)
			}
		}
	})
}
