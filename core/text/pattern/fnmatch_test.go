package pattern_test

import (
	"bufio"
	"encoding/json"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/text/pattern"
)

// libc asks the C library.
type libc struct {
	in  io.Writer
	out *bufio.Reader
}

const asker = `
import ctypes, json, sys
c = ctypes.CDLL(None)
for line in sys.stdin:
    p, s = json.loads(line)
    print(json.dumps(c.fnmatch(p.encode(), s.encode(), 0) == 0), flush=True)
`

func newLibc(t *testing.T) *libc {
	cmd := exec.Command("/usr/bin/python3", "-c", asker)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = in.Close()
		_ = cmd.Wait()
	})
	return &libc{in, bufio.NewReader(out)}
}

func (l *libc) matches(t require.TestingT, p, s string) (is bool) {
	q, err := json.Marshal([]string{p, s})
	require.NoError(t, err)
	_, err = l.in.Write(append(q, '\n'))
	require.NoError(t, err)
	line, err := l.out.ReadBytes('\n')
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(line, &is))
	return is
}

func TestFnmatchIsTheLibrarys(t *testing.T) {
	c := newLibc(t)
	for _, p := range []string{
		"", "*", "a", "a*b", "[!1]*", "[^1]*", "[]a]", "[!]a]", "[a-c]x", "[a-]", "[", "[a", "a[", "\\*", "a\\", "[\\]]", "[[:digit:]]*", "[[:nope:]]", "*.*", "a/*", "?b",
		"[a-c-e]", "[--a]", "[c-a]", "[!", "[!a", "[]", "[[]", "[[:digit:]", "**", "*[", "[*]", "[a\\-c]",
	} {
		for _, s := range []string{"", "a", "b", "ab", "a.b", "1", "]", "[", "[a", "a/b/c", "*", "\\", "-", "ax", "c", "d", "!", "[!", "[!a", "5", "[[:digit:]", "^"} {
			assert.Equal(t, c.matches(t, p, s), pattern.Fnmatch(p, s), "%q %q", p, s)
		}
	}
	letters := rapid.StringOfN(rapid.RuneFrom([]rune(`ab19.-/*?[]!^\:`)), 0, 8, -1)
	rapid.Check(t, func(rt *rapid.T) {
		p, s := letters.Draw(rt, "pattern"), letters.Draw(rt, "text")
		require.Equal(rt, c.matches(rt, p, s), pattern.Fnmatch(p, s), "%q %q", p, s)
	})
	assert.True(t, pattern.FnmatchFold("SALT*[a-m]", "saltmarsh-M"))
}

func TestFnmatchEnds(t *testing.T) {
	assert.False(t, pattern.Fnmatch(strings.Repeat("a*", 2_000)+"b", strings.Repeat("a", 4_000)))
}
