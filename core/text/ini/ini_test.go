package ini_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/text/ini"
)

// dialects are all ways to read a section file.
var dialects = map[string]func([]byte) *ini.File{
	"rpm":     ini.ParseRPM,
	"zypp":    func(text []byte) *ini.File { return ini.ParseZypp(text, "baseurl", "gpgkey") },
	"pacman":  ini.ParsePacman,
	"keyfile": ini.ParseKeyFile,
}

// show writes what was read on one line a section: its name, then key=value.
func show(f *ini.File) string {
	var out strings.Builder
	for i := range f.Sections {
		s := &f.Sections[i]
		fmt.Fprintf(&out, "%d[%s]", s.Line, f.Name(s))
		for _, e := range f.Entries(s) {
			fmt.Fprintf(&out, " %d:%s=%q", e.Line, f.Key(&e), f.Value(&e))
		}
		out.WriteString("\n")
	}
	if f.Err != nil {
		fmt.Fprintf(&out, "%v\n", f.Err)
	}
	return out.String()
}

func TestDialects(t *testing.T) {
	for _, c := range []struct{ dialect, text, want string }{
		{"rpm", "[a]\nname = x y \n", "1[a] 2:name=\"x y\"\n"},
		{"rpm", "[a]\nbaseurl=http://a\n  http://b\n\n", "1[a] 2:baseurl=\"http://a\\nhttp://b\"\n"},
		{"rpm", "[a]\nname='q'\nkey=\"\n", "1[a] 2:name=\"q\" 3:key=\"\\\"\"\n"},
		{"rpm", "[a] # c\n#x\n;y\nk=v # no comment\n", "1[a] 4:k=\"v # no comment\"\n"},
		{"rpm", " [a]x\nk=v\n", "1[a] 2:k=\"v\"\n"},
		{"rpm", "[a]xy\n", "line 1: text after the section's name\n"},
		{"rpm", "k=v\n", "line 1: missing section header\n"},
		{"rpm", "[a]\nk\n", "1[a]\nline 2: missing '='\n"},
		{"rpm", "[a]\n=v\n", "1[a]\nline 2: missing key\n"},
		{"rpm", "[a]\n k=v\n", "1[a]\nline 2: a line that continues nothing\n"},
		{"rpm", "[]\n", "line 1: empty section name\n"},
		{"rpm", "\xef\xbb\xbf[a]\n", "1[a]\n"},
		{"rpm", "[a]\nk= \r\n", "1[a] 2:k=\"\\r\"\n"},
		{"zypp", "[a]b]\nk = v \n", "1[a]b] 2:k=\"v\"\n"},
		{"zypp", "[a]\nbaseurl=http://a\nhttp://b/?c=d\n", "1[a] 2:baseurl=\"http://a\" 3:baseurl=\"http://b/?c=d\"\n"},
		{"zypp", "[a]\nname=x\nhttp://b/\n", "1[a] 2:name=\"x\"\nline 3: neither a section nor a key with a value (a key holds none of :/?|,\\)\n"},
		{"zypp", "; c\n=v\n", "0[] 2:=\"v\"\n"},
		{"pacman", "[a]\nServer = x\nColor\n", "1[a] 2:Server=\"x\" 3:Color=\"\"\n"},
		{"pacman", "Include = /x\n[ a ]\n", "0[] 1:Include=\"/x\"\n2[ a ]\n"},
		{"pacman", "[a\n#c\nServer = x # y\x00z\n", "0[] 1:[a=\"\" 3:Server=\"x # y\"\n"},
		{"keyfile", "[g]\nk=v \nk[de]= w\n", "1[g] 2:k=\"v \" 3:k[de]=\"w\"\n"},
		{"keyfile", "[g]\r\nk=v\r\nl=w\r", "1[g] 2:k=\"v\" 3:l=\"w\\r\"\n"},
		{"keyfile", "k=v\n", "line 1: the file does not begin with a group\n"},
		{"keyfile", "[g]x\n", "line 1: neither a group nor a key with a value nor a comment\n"},
		{"keyfile", "[g]\nk[ ]=v\n", "1[g]\nline 2: the name of the key is not valid\n"},
		{"keyfile", "[g]\nEncoding=latin1\n", "1[g] 2:Encoding=\"latin1\"\nline 2: the encoding is not UTF-8\n"},
	} {
		assert.Equal(t, c.want, show(dialects[c.dialect]([]byte(c.text))), "%s %q", c.dialect, c.text)
	}
}

func TestEditsChangeOnlyWhatTheyMust(t *testing.T) {
	const text = "# head\n[a]\n# why\nenabled = 1   # odd\nbaseurl=http://a\n\n[b]\nname=B"
	edit := func(do func(f *ini.File)) string {
		f := ini.ParseZypp([]byte(text), "baseurl")
		do(f)
		return string(f.Bytes())
	}
	set := func(f *ini.File, s int, key, value string) { require.NoError(t, f.Set(&f.Sections[s], key, value)) }
	assert.Equal(t, strings.Replace(text, "1   # odd", "0", 1), edit(func(f *ini.File) { set(f, 0, "enabled", "0") }))
	assert.Equal(t, strings.Replace(text, "http://a\n", "http://a\npriority=5\n", 1), edit(func(f *ini.File) { set(f, 0, "priority", "5") }))
	assert.Equal(t, text+"\nx=y\n", edit(func(f *ini.File) { set(f, 1, "x", "y") }))
	assert.Equal(t, strings.Replace(text, "baseurl=http://a\n", "", 1), edit(func(f *ini.File) { f.Delete(&f.Sections[0], "baseurl") }))
	assert.Equal(t, "# head\n[b]\nname=B", edit(func(f *ini.File) { f.DeleteSection(&f.Sections[0]) }))
	assert.Equal(t, text+"\n\n[c]\nk=v\n", edit(func(f *ini.File) { require.NoError(t, f.Add("c", [2]string{"k", "v"})) }))
}

func TestValuesThatCannotBeWrittenAreRefused(t *testing.T) {
	for name, parse := range dialects {
		f := parse([]byte("[a]\nk=v\n"))
		s := &f.Sections[0]
		for _, c := range [][2]string{{"k", "x\x00"}, {"a=b", "x"}, {"", "x"}, {" k", "x"}, {"k\n", "x"}} {
			assert.ErrorIs(t, f.Set(s, c[0], c[1]), ini.ErrValue, "%s %q", name, c)
		}
		assert.ErrorIs(t, f.Add("x]y"), ini.ErrValue)
		assert.Equal(t, "[a]\nk=v\n", string(f.Bytes()), "nothing is left of an edit that was refused")
	}
}

// texts draws section files with the signs that matter.
func texts() *rapid.Generator[string] {
	piece := rapid.SampledFrom([]string{"[a]", "[b]", "[", "]", "a", "k", "=", "= ", " ", "\t", "\n", "\n", "\n", "\r\n", "#", ";", "\"", "'", "\\", "v", "http://x/", ":", "baseurl=", "name=", "\x00", "\xef\xbb\xbf", "\xff", "\v"})
	return rapid.Map(rapid.SliceOfN(piece, 0, 30), func(l []string) string { return strings.Join(l, "") })
}

func TestWhatWasSetIsRead(t *testing.T) {
	gen := texts()
	for name, parse := range dialects {
		rapid.Check(t, func(t *rapid.T) {
			text := gen.Draw(t, "text")
			f := parse([]byte(text))
			if string(f.Bytes()) != text {
				t.Fatalf("%s: printed %q", name, f.Bytes())
			}
			if len(f.Sections) == 0 || f.Err != nil {
				return
			}
			n := rapid.IntRange(0, len(f.Sections)-1).Draw(t, "section")
			if f.Sections[n].Headless && name != "pacman" {
				return
			}
			key := rapid.SampledFrom([]string{"k", "name", "baseurl", "new"}).Draw(t, "key")
			value := rapid.SampledFrom([]string{"1", "", "x y", "\"q\"", "http://h/?a=b", "é", "[x", "#", "a\\b"}).Draw(t, "value")
			if f.Set(&f.Sections[n], key, value) != nil {
				return
			}
			g := parse(f.Bytes())
			if g.Err != nil || len(g.Sections) != len(f.Sections) {
				t.Fatalf("%s: %q set to %q gives %q: %v", name, key, value, f.Bytes(), g.Err)
			}
			got, _ := g.Get(&g.Sections[n], key)
			if name == "keyfile" {
				got = ini.Unescape(got)
			}
			if got != value {
				t.Fatalf("%s: %q was set to %q and reads as %q in %q", name, key, value, got, f.Bytes())
			}
		})
	}
}

func TestCommented(t *testing.T) {
	f := ini.ParsePacman([]byte("[core]\nServer = x\n#[testing]\n#Server = y\n# SigLevel = Never\n\n# [see] the manual\n#[prose]\n# words\n"))
	assert.Equal(t, []ini.CommentedSection{
		{Line: 3, Name: "testing", Entries: [][2]string{{"Server", "y"}, {"SigLevel", "Never"}}}, {Line: 8, Name: "prose"},
	}, f.Commented())
}

func TestMemoryStaysWithinSixteenTimesTheText(t *testing.T) {
	for _, line := range []string{"[a]\n", "a=\n", "=\n", "a\n", "\n", "[\n", "#\n", "x\n", " \n"} {
		text := []byte("[a]\nbaseurl=x\n" + strings.Repeat(line, 200_000/len(line)))
		for name, parse := range dialects {
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			f := parse(text)
			runtime.GC()
			runtime.ReadMemStats(&after)
			assert.Less(t, int(after.HeapAlloc)-int(before.HeapAlloc), 16*len(text), "%s %q", name, line)
			runtime.KeepAlive(f)
		}
	}
}

func FuzzRPM(f *testing.F)     { fuzz(f, "rpm") }
func FuzzZypp(f *testing.F)    { fuzz(f, "zypp") }
func FuzzPacman(f *testing.F)  { fuzz(f, "pacman") }
func FuzzKeyFile(f *testing.F) { fuzz(f, "keyfile") }

func fuzz(f *testing.F, dialect string) {
	for _, seed := range []string{
		"[a]\nname = x\nbaseurl=http://a\n  http://b\n", "#[x]\n#k=v\n", "[options]\nArchitecture = auto\nColor\n[core]\nServer = http://x/$repo\nInclude = /etc/x\n",
		"[core]\nrepo_version=1\n[remote \"x\"]\nurl=https://x/\nxa.title[de]=\\s\n", "\xef\xbb\xbf[a]\r\nk=\"\r\n", "[a\n=\n]", "[a]]b\nx y=z\nfoo\n",
	} {
		f.Add(seed, "k", "v")
	}
	f.Fuzz(func(t *testing.T, text, key, value string) {
		file := dialects[dialect]([]byte(text))
		if string(file.Bytes()) != text {
			t.Fatalf("printed %q", file.Bytes())
		}
		last := int32(0)
		for i := range file.Sections {
			s := &file.Sections[i]
			_ = file.Name(s)
			for _, e := range file.Entries(s) {
				if e.Line < last {
					t.Fatalf("line %d after line %d", e.Line, last)
				}
				last = e.Line
				_, _ = file.Key(&e), file.Value(&e)
			}
		}
		for _, c := range file.Commented() {
			_ = c.Name
		}
		if file.Err != nil || len(file.Sections) == 0 || file.Sections[0].Headless || len(text) > 3000 {
			return
		}
		if file.Set(&file.Sections[0], key, value) != nil {
			return
		}
		again := dialects[dialect](file.Bytes())
		if again.Err != nil || len(again.Sections) == 0 {
			t.Fatalf("%q=%q gives %q: %v", key, value, file.Bytes(), again.Err)
		}
		got, _ := again.Get(&again.Sections[0], key)
		if dialect == "keyfile" {
			got = ini.Unescape(got)
		}
		if got != value {
			t.Fatalf("%q=%q reads as %q in %q", key, value, got, file.Bytes())
		}
	})
}
