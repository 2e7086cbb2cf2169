package web_test

import (
	"compress/gzip"
	"encoding/base64"
	"io"
	"net/http"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// The console's files are packed, and not sent again to who has them.
func TestTheConsolesFilesAreSentOnce(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	get := func(path string, headers ...string) (*http.Response, string) {
		req, err := http.NewRequest(http.MethodGet, r.Server.URL+path, nil)
		require.NoError(t, err)
		for i := 0; i < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		resp, err := (&http.Transport{DisableCompression: true}).RoundTrip(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp, string(b)
	}
	page, html := get("/")
	require.Equal(t, http.StatusOK, page.StatusCode)
	script := regexp.MustCompile(`/assets/index-[A-Za-z0-9_-]+\.js`).FindString(html)
	require.NotEmpty(t, script)
	plain, text := get(script)
	packed, short := get(script, "Accept-Encoding", "gzip, deflate, br, zstd")
	assert.Equal(t, []string{"", "br"}, []string{plain.Header.Get("Content-Encoding"), packed.Header.Get("Content-Encoding")})
	assert.Less(t, len(short), len(text)/2)
	assert.Contains(t, packed.Header.Get("Cache-Control"), "immutable")
	tags := map[string]bool{}
	for wanted, coding := range map[string]string{
		"": "", "gzip": "gzip", "gzip;q=0": "", "gzip;q=0.2, zstd": "zstd", "zstd;q=0.1, br;q=0.2": "br", "*": "br", "*;q=0, gzip": "gzip", "br;q=0, *": "zstd", "identity": "",
	} {
		got, body := get(script, "Accept-Encoding", wanted)
		assert.Equal(t, coding, got.Header.Get("Content-Encoding"), wanted)
		assert.Equal(t, text, unpacked(t, coding, body), wanted)
		tags[got.Header.Get("ETag")] = true
	}
	assert.Len(t, tags, 4, "other bytes have another tag")
	for _, end := range []string{".br", ".zst"} {
		hidden, _ := get(script + end)
		assert.Equal(t, http.StatusNotFound, hidden.StatusCode)
	}
	for _, path := range []string{"/", "/drift", "/assets/lantern.svg", script} {
		first, _ := get(path)
		require.NotEmpty(t, first.Header.Get("ETag"), path)
		again, body := get(path, "If-None-Match", first.Header.Get("ETag"))
		assert.Equal(t, []any{http.StatusNotModified, ""}, []any{again.StatusCode, body}, path)
	}
	icon, _ := get("/assets/lantern.svg")
	assert.Equal(t, "no-cache", icon.Header.Get("Cache-Control"), "its name stays the same when its bytes change")
	gone, _ := get("/assets/index-gone0000.js")
	assert.Equal(t, http.StatusNotFound, gone.StatusCode)
	assert.Empty(t, gone.Header.Get("Cache-Control"))

	// What an operator asks for is packed too, and the stream of events is not.
	list, body := get("/api/hosts?per_page=1", "Authorization", "Bearer "+r.Operator.Token, "Accept-Encoding", "gzip")
	require.Equal(t, http.StatusOK, list.StatusCode)
	require.Equal(t, "gzip", list.Header.Get("Content-Encoding"))
	assert.Contains(t, unpacked(t, "gzip", body), `"hosts"`)
}

// unpacked is what a body says.
func unpacked(t *testing.T, coding, body string) string {
	t.Helper()
	var z io.Reader = strings.NewReader(body)
	var err error
	switch coding {
	case "gzip":
		z, err = gzip.NewReader(z)
	case "zstd":
		z, err = zstd.NewReader(z)
	case "br":
		out, err := exec.Command("node", "-e",
			"process.stdout.write(require('zlib').brotliDecompressSync(Buffer.from(process.argv[1], 'base64')))",
			base64.StdEncoding.EncodeToString([]byte(body))).Output()
		require.NoError(t, err)
		return string(out)
	}
	require.NoError(t, err)
	out, err := io.ReadAll(z)
	require.NoError(t, err)
	return string(out)
}
