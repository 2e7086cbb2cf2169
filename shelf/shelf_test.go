package shelf_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/shelf"
)

const inside, outside = "what stands on the shelf", "what is nobody's business"

// laid makes a folder with a shelf in it, and things beside it that are nobody's business.
func laid(t *testing.T) (dir string) {
	t.Helper()
	top := t.TempDir()
	dir = filepath.Join(top, "shelf")
	for name, text := range map[string]string{
		"shelf/deb/dists/InRelease": inside, "shelf/.git/config": outside, "shelf/deb/.htpasswd": outside, "secret": outside,
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(top, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(top, name), []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink("dists", filepath.Join(dir, "deb/newest")))
	require.NoError(t, os.Symlink("../secret", filepath.Join(dir, "out")))
	require.NoError(t, os.Symlink(filepath.Join(top, "secret"), filepath.Join(dir, "far")))
	require.NoError(t, os.Symlink("..", filepath.Join(dir, "up")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	return dir
}

func TestAShelfIsRead(t *testing.T) {
	srv := httptest.NewServer(shelf.Handler(shelf.Folder(laid(t))))
	defer srv.Close()
	for _, x := range []struct {
		method, path, part string
		status             int
		want               string
	}{
		{"GET", "/deb/dists/InRelease", "", http.StatusOK, inside},
		{"GET", "/deb/newest/InRelease", "", http.StatusOK, inside},
		{"GET", "/deb/./dists/InRelease", "", http.StatusOK, inside},
		{"GET", "/deb/dists/InRelease", "bytes=5-10", http.StatusPartialContent, inside[5:11]},
		{"GET", "/deb/dists/InRelease", "bytes=900-", http.StatusRequestedRangeNotSatisfiable, ""},
		{"HEAD", "/deb/dists/InRelease", "", http.StatusOK, ""},
		{"POST", "/deb/dists/InRelease", "", http.StatusMethodNotAllowed, ""},
		{"PUT", "/deb/new", "", http.StatusMethodNotAllowed, ""},
		{"DELETE", "/deb/dists/InRelease", "", http.StatusMethodNotAllowed, ""},
		{"GET", "/", "", http.StatusNotFound, ""},
		{"GET", "/deb", "", http.StatusNotFound, ""},
		{"GET", "/deb/dists/", "", http.StatusNotFound, ""},
		{"GET", "/pipe", "", http.StatusNotFound, ""},
		{"GET", "/.git/config", "", http.StatusNotFound, ""},
		{"GET", "/out", "", http.StatusNotFound, ""},
		{"GET", "/far", "", http.StatusNotFound, ""},
		{"GET", "/up/secret", "", http.StatusNotFound, ""},
		{"GET", "/gone", "", http.StatusNotFound, ""},
	} {
		req, err := http.NewRequest(x.method, srv.URL+x.path, nil)
		require.NoError(t, err)
		if x.part != "" {
			req.Header.Set("Range", x.part)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		assert.Equal(t, x.status, resp.StatusCode, "%s %s", x.method, x.path)
		if x.want != "" {
			assert.Equal(t, x.want, string(text), x.path)
		}
	}
}

// A file that is the same is not sent again, and one that is another is.
func TestWhatIsTheSameIsNotSentAgain(t *testing.T) {
	dir := laid(t)
	srv := httptest.NewServer(shelf.Handler(shelf.Folder(dir)))
	defer srv.Close()
	resp, err := http.Get(srv.URL + "/deb/dists/InRelease")
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	req, err := http.NewRequest(http.MethodGet, srv.URL+"/deb/dists/InRelease", nil)
	require.NoError(t, err)
	req.Header.Set("If-Modified-Since", resp.Header.Get("Last-Modified"))
	again, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, again.Body.Close())
	assert.Equal(t, http.StatusNotModified, again.StatusCode)
}

// No path leads out of the folder, however it is written.
func TestNothingBesideAShelfIsServed(t *testing.T) {
	h := shelf.Handler(shelf.Folder(laid(t)))
	pieces := []string{"..", ".", "/", "//", "deb", "dists", "InRelease", "out", "far", "up", "secret", "pipe", ".git", "config", "%2e%2e", "\x00", "newest", "shelf"}
	rapid.Check(t, func(t *rapid.T) {
		at := "/" + strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 1, 8).Draw(t, "path"), rapid.SampledFrom([]string{"", "/"}).Draw(t, "between"))
		req := httptest.NewRequest(http.MethodGet, "/", nil)
		req.URL.Path = at
		rec := httptest.NewRecorder()
		h.ServeHTTP(rec, req)
		if strings.Contains(rec.Body.String(), outside) {
			t.Fatalf("%q leads out", at)
		}
		if rec.Code == http.StatusOK && rec.Body.String() != inside {
			t.Fatalf("%q answers %q", at, rec.Body)
		}
	})
}

func TestWhatStandsOnAShelf(t *testing.T) {
	dir := laid(t)
	assert.Empty(t, shelf.Stands(shelf.Folder(dir)))
	assert.Equal(t, "the folder is not there", shelf.Stands(shelf.Folder(dir+"/gone")))
	require.NoError(t, os.Mkdir(dir+"/empty", 0o755))
	assert.Equal(t, "nothing stands in the folder", shelf.Stands(shelf.Folder(dir+"/empty")))
	assert.Equal(t, "the folder cannot be opened", shelf.Stands(shelf.Folder(dir+"/deb/dists/InRelease")))
}
