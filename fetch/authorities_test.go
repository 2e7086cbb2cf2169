package fetch_test

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/fetch"
	"patientlantern.example/lantern/standin"
)

// An authority that comes to be believed by the system is believed at once where a server would not be otherwise, and one
// that goes is believed no more, without a new start.
func TestTheSystemsAuthoritiesAreThoseOfNow(t *testing.T) {
	here := filepath.Join(t.TempDir(), "authorities.pem")
	t.Setenv("SSL_CERT_FILE", here)
	t.Setenv("SSL_CERT_DIR", t.TempDir())
	ours, err := standin.NewAuthority("Brinewick")
	require.NoError(t, err)
	other, err := standin.NewAuthority("Elsewhere")
	require.NoError(t, err)
	believe := func(text string) {
		require.NoError(t, os.WriteFile(here+".new", []byte(text), 0o600))
		require.NoError(t, os.Rename(here+".new", here))
	}
	believe(other.PEM())
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(w, r.Body)
	}))
	server.TLS, err = ours.Server(time.Now())
	require.NoError(t, err)
	server.StartTLS()
	defer server.Close()
	defer fetch.LookAtOnce()()
	client := &http.Client{Transport: fetch.Believe(http.DefaultTransport.(*http.Transport).Clone())}
	ask := func() (string, error) {
		req, err := http.NewRequestWithContext(context.Background(), http.MethodPost, server.URL, bytes.NewReader([]byte("tide")))
		require.NoError(t, err)
		resp, err := client.Do(req)
		if err != nil {
			return "", err
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		return string(text), err
	}
	_, err = ask()
	require.ErrorContains(t, err, "unknown authority")
	believe(other.PEM() + ours.PEM())
	text, err := ask()
	require.NoError(t, err)
	assert.Equal(t, "tide", text)
	believe("half of a file")
	_, err = ask()
	require.NoError(t, err, "where none can be read those of before stay")
	believe(other.PEM())
	_, err = ask()
	require.ErrorContains(t, err, "unknown authority")
}
