package toml_test

import (
	"bufio"
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/text/toml"
)

// tomllib answers each text, which is JSON on a line, with what it is; a word is "W", what is refused null.
const tomllib = `
import json, sys, tomllib
def plain(v):
    if isinstance(v, dict): return {k: plain(x) for k, x in v.items()}
    if isinstance(v, list): return [plain(x) for x in v]
    return ["T", v] if isinstance(v, str) else "W"
for line in sys.stdin:
    try: out = plain(tomllib.loads(json.loads(line)))
    except (tomllib.TOMLDecodeError, ValueError): out = None
    print(json.dumps(out), flush=True)
`

func plain(v any) any {
	switch v := v.(type) {
	case toml.Table:
		out := map[string]any{}
		for k, x := range v {
			out[k] = plain(x)
		}
		return out
	case []any:
		out := []any{}
		for _, x := range v {
			out = append(out, plain(x))
		}
		return out
	case string:
		return []any{"T", v}
	case toml.Word:
		return "W"
	}
	return v
}

// A text means what Python's reader of TOML says, or is refused by both.
func TestATextMeansWhatPythonSays(t *testing.T) {
	cmd := exec.Command("python3", "-c", tomllib)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	answers := bufio.NewReader(out)
	defer func() {
		require.NoError(t, in.Close())
		require.NoError(t, cmd.Wait())
	}()
	pieces := rapid.SampledFrom([]string{
		"a", "b", "name", "version", `"a b"`, `'c'`, " = ", "=", ".", "[", "]", "[[", "]]", "{", "}", ",", "\n", "\n", "\n", "\r\n", " ", "\t", "# x\n", "#\x01\n",
		`"x"`, `'y'`, `""`, `"""z"""`, "\"\"\"\nz\\\n  w\"\"\"\"\n", "'''\nq'''", `"\u0041\n"`, `"\q"`, `"\uD800"`, `"\U0001F600"`, `"`, `'`, "\\",
		"1", "+1_000", "01", "0x1F", "1.5e3", "1.", ".5", "inf", "-nan", "true", "false", "True", "1979-05-27", "1979-05-27 07:32:00", "1979-13-27", "07:32:00",
		"1979-05-27T07:32:00.5-08:00", "25:00:00", "1__0", "[1, 2,]", "{a=1}", "{a.b=1, c=[]}", "{a=1,}", "[packages]\n", "[[packages]]\n", "[a.b]\n", "[[a.b]]\n", "[a]\n",
		"a.b = 1\n", "a.b.c = 2\n", "b = 1\n", "name = \"tide\"\n", "é", "\x7f", "\x00", "[packages.conditions]\n", "[[packages.conditions]]\n", "a = {b = 1}\n", "a = [{b = 1}]\n",
	})
	keys := rapid.SampledFrom([]string{"a", "b", "a.b", "b.a", "a.b.c", `"a"`, "a . b", "'b'.c", "c", "d.e"})
	values := rapid.SampledFrom([]string{
		"1", `"x"`, "'y'", "[1, \"x\", [2]]", "{a = 1}", "{a.b = 1, a.c = 2}", "[]", "{}", "[{a = 1}, {b = 2}]", "1979-05-27 07:32:00", "[\n1, # x\n2,\n]", "'''\nq\n'''",
	})
	statement := rapid.Custom(func(t *rapid.T) string {
		switch rapid.IntRange(0, 9).Draw(t, "kind") {
		case 0, 1:
			return "[" + keys.Draw(t, "table") + "]\n"
		case 2, 3:
			return "[[" + keys.Draw(t, "list") + "]]\n"
		case 4:
			return pieces.Draw(t, "anything")
		}
		return keys.Draw(t, "key") + " = " + values.Draw(t, "value") + "\n"
	})
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.OneOf(pieces, statement, statement), 1, 10).Draw(t, "pieces"), "")
		if rapid.Bool().Draw(t, "whole") {
			text = strings.Join(rapid.SliceOfN(statement, 1, 6).Draw(t, "statements"), "")
		}
		line, err := json.Marshal(text)
		require.NoError(t, err)
		_, err = in.Write(append(line, '\n'))
		require.NoError(t, err)
		answer, err := answers.ReadBytes('\n')
		require.NoError(t, err)
		ours, err := toml.Parse([]byte(text))
		have := []byte("null")
		if err == nil {
			have, err = json.Marshal(plain(ours))
			require.NoError(t, err)
		}
		assert.JSONEq(t, string(answer), string(have), "%q", text)
	})
}

func TestWhatIsWrongIsSaidWithItsLine(t *testing.T) {
	for text, says := range map[string]string{
		"a = 1\nb\n":               "line 2: a key without = stands here",
		"a = 1\na = 2\n":           "line 2: a stands here twice",
		"[a]\n\n[a]\n":             "line 3: a stands here twice",
		"a = \"x\n":                "line 1: a text is not closed on its line",
		"a = \xff":                 "line 1: it is not UTF-8",
		"a = [1,\n2\n":             "line 3: a list is not closed",
		"a = what\n":               "line 1: a value stands here that is none",
		"a = 1 b = 2\n":            "line 1: something stands behind what could be understood",
		strings.Repeat("a=[", 300): "line 1: ",
	} {
		_, err := toml.Parse([]byte(text))
		require.ErrorContains(t, err, says, "%q", text)
	}
	_, err := toml.Parse([]byte("a = " + strings.Repeat("[", 1_000_000)))
	require.ErrorContains(t, err, "lists stand too deep in each other")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("version = \"1.0\"\n[[packages]]\nname = \"tide\"\n[[packages.conditions]]\nkey = \"evr\"\ncomparator = \"=\"\nvalue = \"1-1\"\n"))
	f.Fuzz(func(_ *testing.T, text []byte) {
		_, _ = toml.Parse(text)
	})
}
