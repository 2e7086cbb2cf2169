package fetch_test

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
)

// What a proxy itself refuses is told apart from what the server behind it does, over HTTP and for a tunnel; servers that are
// asked directly know nothing of it; and what one had of a server is not taken for what another has.
func TestWhatAProxyRefusesIsTheProxys(t *testing.T) {
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("ETag", `"1"`)
		_, _ = io.WriteString(w, "behind")
	}))
	t.Cleanup(behind.Close)
	answering := func(status int) string {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, fetch.Agent, r.UserAgent())
			if r.Header.Get("If-None-Match") != "" {
				w.WriteHeader(http.StatusNotModified)
				return
			}
			w.WriteHeader(status)
			_, _ = io.WriteString(w, "of the proxy")
		}))
		t.Cleanup(s.Close)
		return s.URL
	}
	for _, c := range []struct {
		name, proxy, url string
		want             cause.Kind
		direct           string
		text             string
	}{
		{name: "nobody answers", proxy: "http://127.0.0.1:1", url: behind.URL, want: cause.Proxy},
		{name: "nobody answers, TLS", proxy: "http://127.0.0.1:1", url: "https://a.example/", want: cause.Proxy},
		{name: "who are you", proxy: answering(407), url: behind.URL, want: cause.Proxy},
		{name: "who are you, TLS", proxy: answering(407), url: "https://a.example/", want: cause.Proxy},
		{name: "not there, TLS", proxy: answering(403), url: "https://a.example/", want: cause.Proxy},
		{name: "away behind it", proxy: answering(502), url: behind.URL, want: cause.Server},
		{name: "away behind it, TLS", proxy: answering(502), url: "https://a.example/", want: cause.Unreachable},
		{name: "missing behind it", proxy: answering(404), url: behind.URL, want: cause.Missing},
		{name: "without it", proxy: "http://127.0.0.1:1", url: behind.URL, direct: "127.0.0.1", text: "behind"},
		{name: "through it", proxy: answering(200), url: behind.URL, text: "of the proxy"},
	} {
		t.Run(c.name, func(t *testing.T) {
			client := fetch.New()
			for range 2 { // the second is asked for by what was kept, where anything was
				text, err := had(client.Opener(t.Context(), fetch.Way{}), behind.URL)
				require.NoError(t, err)
				require.Equal(t, "behind", text)
				proxy, err := url.Parse(c.proxy)
				require.NoError(t, err)
				text, err = had(client.Opener(t.Context(), fetch.Way{Proxy: proxy, Direct: strings.Fields(c.direct)}), c.url)
				assert.Equal(t, c.text, text)
				if c.want == "" {
					require.NoError(t, err)
					continue
				}
				var r *upstream.Refused
				require.True(t, errors.As(err, &r), "%v", err)
				assert.Equal(t, c.want, r.Kind, r.Why)
			}
		})
	}
}

func had(open upstream.Fetch, address string) (string, error) {
	body, err := open(address)
	if err != nil {
		return "", err
	}
	defer body.Close()
	b, err := io.ReadAll(body)
	return string(b), err
}
