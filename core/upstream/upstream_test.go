package upstream_test

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/standin"
)

func TestCheckNamesWhatIsWrongWithAnUpstream(t *testing.T) {
	up, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	srv := httptest.NewServer(up)
	defer srv.Close()
	fetch := func(url string, limit int64) ([]byte, error) {
		resp, err := http.Get(url)
		if err != nil {
			return nil, err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("the server answered %s", resp.Status)
		}
		b, err := io.ReadAll(io.LimitReader(resp.Body, limit+1))
		if int64(len(b)) > limit {
			err = errors.New("the answer is longer than promised")
		}
		return b, err
	}
	const vendor = "packages.saltmarsh.example"
	good := upstream.Source{URL: srv.URL + "/" + vendor + "/apt/8.x/", Suite: "stable", Components: []string{"main"}, Archs: []string{"amd64", "arm64"}, Keys: openpgp.EntityList{up.Keys()["saltmarsh-2026"].Entity}}
	for _, c := range []struct {
		name, fault string
		change      func(*upstream.Source)
		later       time.Duration
		is          error
		want        string
	}{
		{"good", "", nil, 0, nil, ""},
		{"no check wanted", standin.FaultWrongKey, func(s *upstream.Source) { s.Keys = nil }, 0, nil, ""},
		{"wrong key", standin.FaultWrongKey, nil, 0, upstream.ErrSignature, "the signature is not good"},
		{"key of somebody else", "", func(s *upstream.Source) { s.Keys = openpgp.EntityList{up.Keys()["plover-2024"].Entity} }, 0, upstream.ErrSignature, ""},
		{"no key at all", "", func(s *upstream.Source) { s.Keys = openpgp.EntityList{} }, 0, upstream.ErrSignature, ""},
		{"expired", standin.FaultExpired, nil, 0, upstream.ErrExpired, "the metadata has expired on "},
		{"expired by now", "", nil, 8 * 24 * time.Hour, upstream.ErrExpired, ""},
		{"from the future", "", nil, -48 * time.Hour, nil, "the "}, // the signature says so first
		{"401", standin.Fault401, nil, 0, nil, "the server answered 401 Unauthorized"},
		{"cut", standin.FaultCut, nil, 0, nil, "InRelease: "},
		{"indexes missing", standin.FaultMissing, nil, 0, nil, "the server answered 404 Not Found"},
		{"no such suite", "", func(s *upstream.Source) { s.Suite = "testing" }, 0, nil, "the server answered 404 Not Found"},
		{"no such component", "", func(s *upstream.Source) { s.Components = []string{"extra"} }, 0, upstream.ErrMissing, "no index extra/binary-amd64/Packages"},
		{"no such architecture", "", func(s *upstream.Source) { s.Archs = []string{"s390x"} }, 0, upstream.ErrMissing, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.NoError(t, up.SetFault(vendor, c.fault))
			s := good
			if c.change != nil {
				c.change(&s)
			}
			n, err := upstream.Check(s, fetch, time.Now().Add(c.later))
			if c.want == "" && c.is == nil {
				require.NoError(t, err)
				assert.Equal(t, 4, n)
				return
			}
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
			if c.is != nil {
				assert.ErrorIs(t, err, c.is)
			}
		})
	}
}

func TestAnAlteredIndexIsFound(t *testing.T) {
	up, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	srv := httptest.NewServer(up)
	defer srv.Close()
	fetch := func(url string, _ int64) ([]byte, error) {
		resp, err := http.Get(url)
		if err != nil {
			return nil, err
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if len(b) > 0 && url[len(url)-3:] == ".xz" {
			b[len(b)/2] ^= 1
		}
		return b, err
	}
	_, err = upstream.Check(upstream.Source{URL: srv.URL + "/metrics.plover.example/apt/", Suite: "rolling", Components: []string{"main"}, Archs: []string{"amd64"}, Keys: openpgp.EntityList{up.Keys()["plover-2024"].Entity}}, fetch, time.Now())
	assert.ErrorIs(t, err, upstream.ErrHash)
}

func FuzzReadRelease(f *testing.F) {
	f.Add([]byte("Date: Mon, 23 Nov 2026 08:00:00 UTC\nSHA256:\n aa 1 main/binary-amd64/Packages\n"))
	f.Add([]byte("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\nDate: x\n-----BEGIN PGP SIGNATURE-----\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := upstream.ReadRelease(text, openpgp.EntityList{}, time.Unix(1795420800, 0)); err == nil {
			t.Fatal("a release without a good signature was taken")
		}
	})
}
