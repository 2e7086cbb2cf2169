package service_test

import (
	"compress/gzip"
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"

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
	packed, short := get(script, "Accept-Encoding", "br, gzip;q=0.8")
	assert.Equal(t, []string{"", "gzip"}, []string{plain.Header.Get("Content-Encoding"), packed.Header.Get("Content-Encoding")})
	assert.Less(t, len(short), len(text)/2)
	assert.Contains(t, packed.Header.Get("Cache-Control"), "immutable")
	refused, whole := get(script, "Accept-Encoding", "gzip;q=0")
	assert.Equal(t, []any{"", text}, []any{refused.Header.Get("Content-Encoding"), whole})
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
	z, err := gzip.NewReader(strings.NewReader(body))
	require.NoError(t, err)
	unpacked, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Contains(t, string(unpacked), `"hosts"`)
}
