package deb_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/internal/cell"
)

// What is taken for a file that says nothing but a proxy says nothing else to the real apt,
// however it was altered; and what we write says exactly the proxy.
func TestAProxyFileSaysNothingElseToApt(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	root := t.TempDir()
	bare := dump(t, c, root)
	path := filepath.Join(root, deb.ProxyPath)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	says := func(t require.TestingT, text string) (out []string) {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		for _, line := range dump(t, c, root) {
			if !slices.Contains(bare, line) && !strings.HasSuffix(line, "=") { // what only holds others has no value
				out = append(out, line)
			}
		}
		return out
	}
	good := deb.ProxyFile("http://proxy.reef.brinewick.test:3128", []string{"::1", "mirror.reef.brinewick.test", "mirror_ä.reef.brinewick.test"}).Text
	require.True(t, deb.IsProxyFile(good))
	assert.ElementsMatch(t, []string{
		"Acquire::http::Proxy=http://proxy.reef.brinewick.test:3128", "Acquire::http::Proxy::mirror.reef.brinewick.test=DIRECT", "Acquire::http::Proxy::::1=DIRECT",
		"Acquire::https::Proxy=http://proxy.reef.brinewick.test:3128", "Acquire::https::Proxy::mirror.reef.brinewick.test=DIRECT", "Acquire::https::Proxy::::1=DIRECT",
		"Acquire::http::Proxy::mirror_%c3%a4.reef.brinewick.test=DIRECT", "Acquire::https::Proxy::mirror_%c3%a4.reef.brinewick.test=DIRECT",
	}, says(t, good))

	pieces := []string{
		"Dir::Bin::methods \"/tmp\";", "#clear Acquire;", "#include /tmp/x;", "\"", ";", "}", "{", "//", "/*", "*/", "\\", "::", "\r", "\x00", "\n", " ",
		"Proxy-Auto-Detect", "Acquire::http::Proxy \"DIRECT\";\n", "Acquire::https::Proxy::a \"http://b:1\";\n", "é", "# ", "\t",
	}
	require.True(t, deb.IsProxyFile(good+"Acquire::http::Proxy::a.example \"DIRECT\";\n"))
	rapid.Check(t, func(rt *rapid.T) {
		text := good
		for range rapid.IntRange(1, 3).Draw(rt, "edits") {
			at := rapid.IntRange(0, len(text)).Draw(rt, "at")
			if rapid.Bool().Draw(rt, "at a line") {
				at = strings.LastIndexByte(text[:at], '\n') + 1
			}
			text = text[:at] + rapid.SampledFrom(pieces).Draw(rt, "piece") + text[at:]
		}
		if !deb.IsProxyFile(text) {
			return
		}
		for _, line := range says(rt, text) {
			require.Regexp(rt, `^Acquire::https?::Proxy(::[A-Za-z0-9._:%-]*)?=(DIRECT|https?://[A-Za-z0-9.:-]+)$`, line)
		}
	})
}
