package aptline

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func values(words []Word) string {
	var out []string
	for _, w := range words {
		out = append(out, w.Value)
	}
	return strings.Join(out, "|")
}

func TestParseTakesALineAsAptDoes(t *testing.T) {
	for _, c := range []struct {
		name, line, typ, uri, suite, components, err string
		kind                                         Kind
	}{
		{"plain", "deb http://a.example/d s main extra", "deb", "http://a.example/d", "s", "main|extra", "", Entry},
		{"tabs and blanks around", "\t deb  http://a.example/d\ts  main \r", "deb", "http://a.example/d", "s", "main", "", Entry},
		{"source", "deb-src http://a.example/d s main", "deb-src", "http://a.example/d", "s", "main", "", Entry},
		{"comment behind", "deb http://a.example/d s main # why", "deb", "http://a.example/d", "s", "main", "", Entry},
		{"flat", "deb http://a.example/d ./", "deb", "http://a.example/d", "./", "", "", Entry},
		{"flat with component", "deb http://a.example/d ./ main", "deb", "http://a.example/d", "./", "", "absolute Suite Component", Malformed},
		{"quotes", `deb "cdrom:[Skerry disc]/" "s" main`, "deb", "cdrom:[Skerry disc]/", "s", "main", "", Entry},
		{"percent", "deb http://a.example/%7Ed s main", "deb", "http://a.example/~d", "s", "main", "", Entry},
		{"no component", "deb http://a.example/d s", "deb", "http://a.example/d", "s", "", "Component", Malformed},
		{"no suite", "deb http://a.example/d", "deb", "http://a.example/d", "", "", "Suite", Malformed},
		{"no colon", "deb a.example s main", "deb", "a.example", "s", "", "URI parse", Malformed},
		{"only a type", "deb", "", "", "", "", "type", Malformed},
		{"other type", "rpm http://a.example/d s main", "", "", "", "", "unknown type rpm", Malformed},
		{"type of another case", "Deb http://a.example/d s main", "", "", "", "", "unknown type Deb", Malformed},
		{"open quote", `deb "http://a.example/d s main`, "deb", "", "", "", "URI", Malformed},
		{"switched off", "#deb http://a.example/d s main", "deb", "http://a.example/d", "s", "main", "", Off},
		{"switched off twice", "# # deb http://a.example/d s main", "deb", "http://a.example/d", "s", "main", "", Off},
		{"prose", "# deb lines look like this", "", "", "", "", "", Comment},
		{"blank", " \t", "", "", "", "", "", Blank},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := Parse([]byte(c.line + "\n"))
			require.Len(t, f.Lines, 1)
			l := f.Lines[0]
			assert.Equal(t, c.kind, l.Kind)
			assert.Equal(t, c.err, l.Err)
			assert.Equal(t, c.typ, l.Type)
			assert.Equal(t, c.uri, l.URI.Value)
			assert.Equal(t, c.suite, l.Suite.Value)
			assert.Equal(t, c.components, values(l.Components))
		})
	}
}

func TestParseReadsOptions(t *testing.T) {
	for _, c := range []struct{ line, want, err string }{
		{"deb [arch=amd64] http://a.example s m", "arch=amd64", ""},
		{"deb [ arch=amd64  trusted=yes ] http://a.example s m", "arch=amd64;trusted=yes", ""},
		{"deb [arch=amd64,arm64 signed-by=/k.asc] http://a.example s m", "arch=amd64,arm64;signed-by=/k.asc", ""},
		{"deb [note=a#b] http://a.example s m", "note=a#b", ""},
		{"deb [] http://a.example s m", "", ""},
		{"deb [arch] http://a.example s m", "", "[option] not assignment"},
		{"deb [arch=] http://a.example s m", "", "[option] no value"},
		{"deb [=amd64] http://a.example s m", "", "[option] no key"},
		{"deb [a ] http://a.example s m", "", "[option] too short"},
		{"deb [arch=amd64", "arch=amd64", "[option] unparsable"},
	} {
		t.Run(c.line, func(t *testing.T) {
			l := Parse([]byte(c.line)).Lines[0]
			var got []string
			for _, o := range l.Options {
				got = append(got, o.Key+"="+o.Value)
			}
			assert.Equal(t, c.want, strings.Join(got, ";"))
			assert.Equal(t, c.err, l.Err)
		})
	}
}

func TestEditChangesOnlyWhatItMust(t *testing.T) {
	for _, c := range []struct {
		name, in, want string
		edit           func(*File)
	}{
		{"add a component", "deb  http://a.example  s  main\t# x\r\n", "deb  http://a.example  s  main extra\t# x\r\n", func(f *File) { f.SetComponents(0, []string{"main", "extra"}) }},
		{"drop the middle", "deb http://a.example s a  b  c\n", "deb http://a.example s a  c\n", func(f *File) { f.SetComponents(0, []string{"c", "a"}) }},
		{"drop the first", "deb http://a.example s a  b c\n", "deb http://a.example s b c\n", func(f *File) { f.SetComponents(0, []string{"b", "c"}) }},
		{"replace all", "deb http://a.example s a b", "deb http://a.example s x y", func(f *File) { f.SetComponents(0, []string{"x", "y"}) }},
		{"off", "\n deb http://a.example s a", "\n#  deb http://a.example s a", func(f *File) { f.SwitchOff(1) }},
		{"on", "#deb http://a.example s a\n", "deb http://a.example s a\n", func(f *File) { f.SwitchOn(0) }},
		{"on, many signs", " ## #  deb http://a.example s a\n", "  deb http://a.example s a\n", func(f *File) { f.SwitchOn(0) }},
		{"first option", "deb http://a.example s a\n", "deb [arch=amd64] http://a.example s a\n", func(f *File) { f.SetOption(0, "arch", "amd64") }},
		{"one more option", "deb [ trusted=yes ] http://a.example s a\n", "deb [ trusted=yes arch=amd64 ] http://a.example s a\n", func(f *File) { f.SetOption(0, "arch", "amd64") }},
		{"another value", "deb [arch=i386 trusted=yes] http://a.example s a\n", "deb [arch=amd64 trusted=yes] http://a.example s a\n", func(f *File) { f.SetOption(0, "arch", "amd64") }},
		{"drop a line", "# a\ndeb http://a.example s a\n# b\n", "# a\n# b\n", func(f *File) { f.DropLine(1) }},
		{"add behind a file without a last newline", "# a\r\n# b", "# a\r\n# b\r\ndeb http://a.example s a\r\n", func(f *File) { f.AddLine("deb http://a.example s a") }},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := Parse([]byte(c.in))
			c.edit(f)
			assert.Equal(t, c.want, string(f.Bytes()))
		})
	}
}

func TestSwitchingOffAndOnAgainGivesTheSameBytes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.StringMatching(`[ \t]{0,2}deb(-src)?[ \t]( \[arch=amd64\])?[ ]{0,2}http://a\.example/[a-z]{0,3} [a-z]{1,3}( [a-z]{1,3}){1,3}[ \t]{0,2}\r?`).Draw(t, "line")
		f := Parse([]byte(line + "\n"))
		if f.Lines[0].Kind != Entry {
			t.Skip("not an entry")
		}
		f.SwitchOff(0)
		off := Parse(f.Bytes())
		if off.Lines[0].Kind != Off {
			t.Fatalf("%q is not switched off", f.Bytes())
		}
		off.SwitchOn(0)
		if got := string(off.Bytes()); got != line+"\n" {
			t.Fatalf("%q came back as %q", line, got)
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{
		"", "deb http://a.example s main\n", "deb [arch=amd64] http://a.example s main # x\r\n",
		"# deb [ signed-by=/k ] \"cdrom:[x y]/\" s main", "deb [a=b", "deb [a=]] u: s/\n\x00", "deb [\"]=]]] x", "deb [aaa]", "#\t#deb a:b c d",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		file := Parse(src)
		if string(file.Bytes()) != string(src) {
			t.Fatalf("printed %q for %q", file.Bytes(), src)
		}
		at := 0
		for i, l := range file.Lines {
			if l.Start != at || l.End <= at {
				t.Fatalf("line %d spans %d-%d, want it to start at %d", i, l.Start, l.End, at)
			}
			at = l.End
			if l.Kind == Entry {
				e := Parse(src)
				e.SwitchOff(i)
				off := Parse(e.Bytes())
				if off.Lines[i].Kind != Off {
					t.Fatalf("%q switched off is not off", src[l.Start:l.End])
				}
				off.SwitchOn(i)
				if string(off.Bytes()) != string(src) {
					t.Fatalf("%q switched off and on is %q", src, off.Bytes())
				}
			}
		}
		if at != len(src) {
			t.Fatalf("lines end at %d of %d", at, len(src))
		}
	})
}
