package aptconf

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// askApt lets the real apt-config read a text and list what is below Test.
func askApt(dir, text string) (items []string, refused bool, err error) {
	conf := filepath.Join(dir, "conf")
	if err := os.WriteFile(conf, []byte(text), 0o644); err != nil {
		return nil, false, err
	}
	cmd := exec.Command("apt-config", "dump", "--format", "%f=%v%n", "Test")
	cmd.Env = []string{"APT_CONFIG=" + conf, "LC_ALL=C", "PATH=/usr/bin:/bin"}
	out, runErr := cmd.Output()
	for line := range strings.Lines(string(out)) {
		items = append(items, strings.TrimRight(line, "\n"))
	}
	return items, runErr != nil, nil
}

// dump lists a tree as apt-config does.
func dump(n *node, prefix string) (out []string) {
	for _, c := range n.below {
		name := prefix + c.name
		if prefix != "" {
			name = prefix + "::" + c.name
		}
		out = append(out, name+"="+c.value)
		out = append(out, dump(c, name)...)
	}
	return out
}

func texts() *rapid.Generator[string] {
	name := rapid.SampledFrom([]string{"Test::A", "Test::b::C", "Test::L::", "Test::a", "\"Test::Q\"", "Test::%41", "Test"})
	value := rapid.SampledFrom([]string{`"x"`, `"x y"`, `"a" "b"`, `"a"  "b"`, "bare", `"//no comment"`, `"a#b"`, `"/*"`, "", `"open`, `"x" junk`, `x"y`, "a[b c]d", `"" `})
	piece := rapid.Custom(func(t *rapid.T) string {
		switch rapid.IntRange(0, 9).Draw(t, "shape") {
		case 0:
			return "Test { A " + value.Draw(t, "v") + "; };"
		case 1:
			return "Test::B { \"one\"; \"two\"; " + value.Draw(t, "v") + " };"
		case 2:
			return rapid.SampledFrom([]string{"// comment", "# comment", "/* comment */", "/* over", "*/", "#clear Test::A;", "#clear Test;", "#nonsense x;", "#clear;", "}", "{", ";", "Test { #clear A; };"}).Draw(t, "odd")
		case 3:
			return "Test\n{\n\tA\n\t" + value.Draw(t, "v") + ";\n}"
		default:
			return name.Draw(t, "n") + rapid.SampledFrom([]string{" ", "\t", "  "}).Draw(t, "gap") + value.Draw(t, "v") + rapid.SampledFrom([]string{";", ";", ";", "", " ;", "; // x", ";;", "; # x"}).Draw(t, "end")
		}
	})
	return rapid.Map(rapid.SliceOfN(piece, 1, 5), func(l []string) string { return strings.Join(l, "\n") + "\n" })
}

func TestParseAgreesWithTheRealApt(t *testing.T) {
	dir := t.TempDir()
	gen := texts()
	rapid.Check(t, func(t *rapid.T) {
		text := gen.Draw(t, "text")
		theirs, refused, err := askApt(dir, text)
		if err != nil {
			t.Fatal(err)
		}
		statements, parseErr := Parse([]byte(text))
		if refused != (parseErr != nil) {
			t.Fatalf("apt refuses: %v; we say: %v\n%s", refused, parseErr, text)
		}
		if refused {
			return
		}
		var tree Tree
		for _, s := range statements {
			switch s.Directive {
			case "":
				tree.Set(s.Name, s.Value)
			case "clear":
				tree.Clear(s.Value)
			}
		}
		var ours []string
		for _, l := range dump(&tree.root, "") {
			if strings.HasPrefix(l, "Test") || strings.HasPrefix(l, "test") {
				ours = append(ours, l)
			}
		}
		if !slices.Equal(theirs, ours) {
			t.Fatalf("apt:  %q\nours: %q\n%s", theirs, ours, text)
		}
	})
}

func TestFileContinuesWhatStandsAbove(t *testing.T) {
	var tree Tree
	tree.Set("Dir", "/")
	tree.Set("Dir::Etc", "etc/apt")
	tree.Set("Dir::Etc::sourceparts", "sources.list.d")
	tree.Set("Dir::Etc::sourcelist", "/srv/list")
	for name, want := range map[string]string{"Dir::Etc::sourceparts": "/etc/apt/sources.list.d", "Dir::Etc::sourcelist": "/srv/list", "Dir::Etc": "/etc/apt", "Dir::Nothing": ""} {
		if got := tree.File(name); got != want {
			t.Errorf("%s is %q, want %q", name, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("A { B \"x\"; };\n#clear A;\n/* x */ C::D:: y;"))
	f.Add([]byte("A \"\n{};//#include x"))
	f.Fuzz(func(t *testing.T, text []byte) {
		statements, _ := Parse(text)
		var tree Tree
		for _, s := range statements {
			if s.Line < 1 {
				t.Fatalf("a statement without a line: %+v", s)
			}
			tree.Set(s.Name, s.Value)
		}
	})
}

// Colons right behind colons are part of a name: a block of a list has no item of its own.
func TestColonsBehindColonsArePartOfAName(t *testing.T) {
	var tree Tree
	tree.SetAt("Test::L::", "a", "f", 1)
	tree.SetAt("Test::L::::A", "x", "f", 2)
	var got []string
	tree.Walk(func(name, value, _ string, _ int) { got = append(got, name+"="+value) })
	assert.Equal(t, []string{"Test::L::=a", "Test::L::::A=x"}, got)
}
