package fetch_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
)

// forever sends until the caller goes, or so much.
func forever(w http.ResponseWriter, line string, most int) {
	chunk := []byte(strings.Repeat(line, 1+(1<<16)/len(line)))
	for n := 0; n < most; n += len(chunk) {
		if _, err := w.Write(chunk); err != nil {
			return
		}
	}
}

// zeros is a megabyte that becomes a gigabyte.
func zeros() []byte {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	chunk := make([]byte, 1<<20)
	for range 1100 {
		_, _ = w.Write(chunk)
	}
	_ = w.Close()
	return b.Bytes()
}

func repomd(name string, packed []byte) string {
	return fmt.Sprintf(
		`<repomd><revision>1</revision><data type="primary"><checksum type="sha256">%x</checksum><location href="%s"/></data></repomd>`,
		sha256.Sum256(packed),
		name,
	)
}

// Whatever a server answers, it is refused with a cause, in bounded time and memory.
func TestHostileServers(t *testing.T) {
	bomb := zeros()
	answers := map[string]struct {
		family string
		serve  func(w http.ResponseWriter, r *http.Request)
		want   cause.Kind
	}{
		"endless InRelease": {"deb", func(w http.ResponseWriter, r *http.Request) { forever(w, "x", 1<<30) }, cause.TooLarge},
		"endless repomd":    {"rpm", func(w http.ResponseWriter, r *http.Request) { forever(w, "<x/>", 1<<30) }, cause.TooLarge},
		"endless summary":   {"flatpak", func(w http.ResponseWriter, r *http.Request) { forever(w, "x", 1<<30) }, cause.TooLarge},
		"a page": {"deb", func(w http.ResponseWriter, r *http.Request) {
			io.WriteString(w, "<!DOCTYPE html><title>Sign in</title>")
		}, cause.NotMetadata},
		"a page for repomd": {
			"rpm",
			func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "\n<HTML>") },
			cause.NotMetadata,
		},
		"a page for a database": {
			"arch",
			func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "<html>") },
			cause.NotMetadata,
		},
		"nothing": {"flatpak", func(w http.ResponseWriter, r *http.Request) {}, cause.NotMetadata},
		"a bomb": {"rpm", func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "repomd.xml") {
				io.WriteString(w, repomd("primary.xml.gz", bomb))
				return
			}
			_, _ = w.Write(bomb)
		}, cause.TooLarge},
		"an altered list": {"rpm", func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "repomd.xml") {
				io.WriteString(w, repomd("primary.xml", []byte("other")))
				return
			}
			io.WriteString(w, "<metadata/>")
		}, cause.Mismatch},
		"entities": {"rpm", func(w http.ResponseWriter, r *http.Request) {
			io.WriteString(w, `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><repomd>&b;</repomd>`)
		}, cause.NotMetadata},
		"a list elsewhere": {
			"rpm",
			func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, repomd("file:///etc/passwd", nil)) },
			cause.NotMetadata,
		},
		"a zchunk": {
			"rpm",
			func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, repomd("primary.xml.zck", nil)) },
			cause.NotMetadata,
		},
		"a circle": {
			"deb",
			func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, r.URL.Path, http.StatusFound) },
			cause.Redirected,
		},
		"to a file": {"deb", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Location", "file:///etc/passwd")
			w.WriteHeader(302)
		}, cause.Redirected},
		"a redirect to nothing": {
			"deb",
			func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusFound) },
			cause.Redirected,
		},
		"a large head": {
			"deb",
			func(w http.ResponseWriter, r *http.Request) { w.Header().Set("X", strings.Repeat("x", 1<<20)) },
			cause.TooLarge,
		},
		"cut": {"deb", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Length", "1000")
			io.WriteString(w, "x")
			panic(http.ErrAbortHandler)
		}, cause.Cut},
		"no answer": {"deb", func(w http.ResponseWriter, r *http.Request) { panic(http.ErrAbortHandler) }, cause.Cut},
		"a drip": {"deb", func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				io.WriteString(w, "x")
				w.(http.Flusher).Flush()
				select {
				case <-r.Context().Done():
				case <-time.After(20 * time.Millisecond):
				}
			}
		}, cause.Slow},
		"ill":    {"deb", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusBadGateway) }, cause.Server},
		"teapot": {"deb", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusTeapot) }, cause.NotMetadata},
		"no list": {"deb", func(w http.ResponseWriter, r *http.Request) {
			io.WriteString(w, "Date: "+time.Now().UTC().Format(time.RFC1123)+"\n")
		}, cause.Mismatch},
	}
	var before, after runtime.MemStats
	for name, x := range answers {
		srv := httptest.NewServer(http.HandlerFunc(x.serve))
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
		if x.want == cause.Slow {
			stop()
			ctx, stop = context.WithTimeout(t.Context(), 300*time.Millisecond)
		}
		runtime.ReadMemStats(&before)
		_, err := upstream.Look(
			&upstream.Source{Family: x.family, URLs: []string{srv.URL + "/"}, Suite: "stable", Components: []string{"main"},
				Archs: []string{"amd64"}, ID: "plover"},
			fetch.New().Opener(ctx, fetch.Way{}),
			time.Now(),
		)
		runtime.ReadMemStats(&after)
		stop()
		srv.Close()
		var r *upstream.Refused
		if assert.True(t, errors.As(err, &r), "%s: %v", name, err) {
			assert.Equal(t, x.want, r.Kind, "%s: %v", name, err)
			assert.NotContains(t, err.Error(), "\n", name)
			assert.Less(t, len(err.Error()), 400, name)
		}
		assert.Less(t, after.Sys-min(before.Sys, after.Sys), uint64(400<<20), name)
	}
}

// Two mirrors that disagree: the metalink says which one is right.
func TestAMetalinkSaysWhichMirrorIsRight(t *testing.T) {
	list := []byte(`<metadata><package type="rpm"><name>a</name><arch>x</arch><version ver="1" rel="1"/></package></metadata>`)
	good := repomd("primary.xml", list)
	var old, fresh atomic.Int64
	mux := http.NewServeMux()
	mux.HandleFunc("/old/repodata/repomd.xml", func(w http.ResponseWriter, r *http.Request) {
		old.Add(1)
		io.WriteString(w, repomd("primary.xml", []byte("old")))
	})
	mux.HandleFunc("/fresh/repodata/repomd.xml", func(w http.ResponseWriter, r *http.Request) {
		fresh.Add(1)
		io.WriteString(w, good)
	})
	mux.HandleFunc("/fresh/primary.xml", func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write(list) })
	srv := httptest.NewServer(mux)
	defer srv.Close()
	mux.HandleFunc("/metalink", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(
			w,
			`<metalink xmlns="http://www.metalinker.org/"><files><file name="repomd.xml"><verification><hash type="sha256">%x</hash></verification>`+
				`<resources><url preference="50">%[2]s/fresh/repodata/repomd.xml</url><url preference="100">%[2]s/old/repodata/repomd.xml</url></resources>`+
				`</file></files></metalink>`,
			sha256.Sum256([]byte(good)),
			srv.URL,
		)
	})
	found, err := upstream.Look(
		&upstream.Source{Family: "rpm", Metalink: srv.URL + "/metalink"},
		fetch.New().Opener(t.Context(), fetch.Way{}),
		time.Now(),
	)
	require.NoError(t, err)
	assert.Len(t, found.Packages, 1)
	assert.Equal(t, srv.URL+"/fresh/", found.URL)
	assert.Positive(t, old.Load(), "the preferred one was tried first")

	mux.HandleFunc("/mirrors", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "# mirrors\n\n%s/nowhere/\n%[1]s/fresh/\n", srv.URL)
	})
	found, err = upstream.Look(
		&upstream.Source{Family: "zypp", Mirrorlist: srv.URL + "/mirrors"},
		fetch.New().Opener(t.Context(), fetch.Way{}),
		time.Now(),
	)
	require.NoError(t, err)
	assert.Equal(t, srv.URL+"/fresh/", found.URL)
}

// What was had before is asked for by its validator, and never what a login opens.
func TestConditionalRequests(t *testing.T) {
	var whole, same atomic.Int64
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", `"1"`)
		if r.Header.Get("If-None-Match") == `"1"` {
			same.Add(1)
			w.WriteHeader(http.StatusNotModified)
			return
		}
		whole.Add(1)
		io.WriteString(w, "text")
	}))
	defer srv.Close()
	c := fetch.New()
	for _, w := range []fetch.Way{{}, {}, {}, {Login: "a", Password: "b"}, {Login: "a", Password: "b"}} {
		body, err := c.Opener(t.Context(), w)(srv.URL)
		require.NoError(t, err)
		b, err := io.ReadAll(body)
		require.NoError(t, err)
		require.NoError(t, body.Close())
		assert.Equal(t, "text", string(b))
	}
	assert.EqualValues(t, 3, whole.Load())
	assert.EqualValues(t, 2, same.Load())
}

// No more than a few ask one server at once.
func TestOneServerIsAskedByFew(t *testing.T) {
	var now, most atomic.Int64
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := now.Add(1)
		for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
		}
		time.Sleep(20 * time.Millisecond)
		now.Add(-1)
	}))
	defer srv.Close()
	open := fetch.New().Opener(t.Context(), fetch.Way{})
	done := make(chan error)
	for range 10 {
		go func() {
			body, err := open(srv.URL)
			if err == nil {
				err = body.Close()
			}
			done <- err
		}()
	}
	for range 10 {
		require.NoError(t, <-done)
	}
	assert.LessOrEqual(t, most.Load(), int64(2))
}

// Where a server leads on, neither the login nor an address that holds a token goes along.
func TestNoSecretGoesAlong(t *testing.T) {
	var heard http.Header
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { heard = r.Header }))
	defer other.Close()
	to := strings.Replace(other.URL, "127.0.0.1", "localhost", 1)
	srv := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, to, http.StatusFound) }),
	)
	defer srv.Close()
	body, err := fetch.New().
		Opener(t.Context(), fetch.Way{Token: "marker-token", Login: "marker-login", Password: "marker-word"})(
		srv.URL + "/***/",
	)
	require.NoError(t, err)
	require.NoError(t, body.Close())
	require.NotNil(t, heard)
	assert.NotContains(t, fmt.Sprint(heard), "marker")
	assert.Empty(t, heard.Get("Authorization"))
}

// Files of this machine, and addresses of its link, are nobody's upstream.
func TestWhatIsNobodysUpstream(t *testing.T) {
	for _, u := range []string{"file:///etc/passwd", "file:/etc/passwd", "http://169.254.169.254/latest/", "http://[fe80::1%25lo]/"} {
		_, err := fetch.New().Opener(t.Context(), fetch.Way{})(u)
		var r *upstream.Refused
		require.ErrorAs(t, err, &r, u)
		assert.Contains(t, []cause.Kind{cause.Unreachable, cause.Redirected}, r.Kind, u)
	}
}

// A secret of the way to a source is in no word of what went wrong.
func TestNoSecretInWhatWentWrong(t *testing.T) {
	srv := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.Error(w, r.URL.Path, http.StatusForbidden) }),
	)
	defer srv.Close()
	for _, base := range []string{srv.URL + "/***/", "http://127.0.0.1:1/***/", "http://nowhere.invalid/***/"} {
		_, err := upstream.Look(
			&upstream.Source{Family: "rpm", URLs: []string{base}},
			fetch.New().
				Opener(t.Context(), fetch.Way{Token: "marker-token", Login: "marker-login", Password: "marker-word"}),
			time.Now(),
		)
		require.Error(t, err)
		assert.NotContains(t, err.Error(), "marker")
	}
}
