package upstream_test

import (
	"context"
	"errors"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
	"patientlantern.example/lantern/standin"
)

// world is the scenario's vendors, and a source of each family.
type world struct {
	*standin.Upstreams
	url   string
	fetch upstream.Fetch
}

func newWorld(t *testing.T) *world {
	up, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	srv := httptest.NewServer(up)
	t.Cleanup(srv.Close)
	return &world{up, srv.URL, fetch.New().Opener(t.Context(), fetch.Way{})}
}

func (w *world) keys(names ...string) openpgp.EntityList {
	list := openpgp.EntityList{}
	for _, n := range names {
		list = append(list, w.Keys()[n].Entity)
	}
	return list
}

// sources are one of each family: vendor → source.
func (w *world) sources() map[string]upstream.Source {
	return map[string]upstream.Source{
		"packages.saltmarsh.example": {
			Family: "deb", URLs: []string{w.url + "/packages.saltmarsh.example/apt/8.x/"}, Suite: "stable", Components: []string{"main"},
			Archs: []string{"amd64", "arm64"}, Keys: w.keys("saltmarsh-2026"),
		},
		"archive.foreland.example": {
			Family: "rpm", URLs: []string{w.url + "/archive.foreland.example/base/9/x86_64"}, Keys: w.keys("foreland-archive"),
		},
		"rpm.gannet.example": {
			Family: "zypp", URLs: []string{w.url + "/rpm.gannet.example/open/halyard-15/x86_64/"}, Keys: w.keys("gannet-2025"),
		},
		"north.fulmar.example": {
			Family: "arch", URLs: []string{w.url + "/north.fulmar.example/v3"}, ID: "fulmar", Keys: w.keys("fulmar-2025"),
		},
		"apps.curlew.example": {Family: "flatpak", URLs: []string{w.url + "/apps.curlew.example/repo/"}, Keys: w.keys("curlew-2025")},
	}
}

// kind is the cause of a refusal, which its words say as well.
func kind(t *testing.T, err error) cause.Kind {
	t.Helper()
	if err == nil {
		return ""
	}
	var r *upstream.Refused
	require.ErrorAs(t, err, &r, "every error says its cause")
	assert.NotEmpty(t, cause.About(r.Kind).Remedy, r.Kind)
	switch r.Kind {
	case cause.Replayed, cause.NotMetadata, cause.TooLarge, cause.Redirected:
	default:
		words, known := cause.Of(err.Error())
		assert.True(t, known, err.Error())
		assert.Equal(t, r.Kind, words.Kind, err.Error())
	}
	return r.Kind
}

// Every fault of every family is refused, with its cause.
func TestEachFaultIsNamed(t *testing.T) {
	w := newWorld(t)
	for vendor, good := range w.sources() {
		for _, x := range []struct {
			fault  string
			change func(*upstream.Source)
			later  time.Duration
			want   cause.Kind
		}{
			{"", nil, 0, ""},
			{standin.FaultWrongKey, nil, 0, cause.UnknownKey},
			{standin.FaultWrongKey, func(s *upstream.Source) { s.Keys = nil }, 0, ""},
			{"", func(s *upstream.Source) { s.Keys = w.keys("brinewick-shelf") }, 0, cause.UnknownKey},
			{"", func(s *upstream.Source) { s.Keys = w.keys() }, 0, cause.UnknownKey},
			{standin.Fault401, nil, 0, cause.Unauthorised},
			{standin.FaultCut, nil, 0, cause.Cut},
			{"", func(s *upstream.Source) { s.URLs = []string{s.URLs[0] + "/elsewhere"} }, 0, cause.Missing},
			{"", func(s *upstream.Source) { s.URLs = []string{"http://127.0.0.1:1/"} }, 0, cause.Unreachable},
			{"", func(s *upstream.Source) { s.URLs = []string{"http://nowhere.invalid/"} }, 0, cause.Unresolved},
			{"", func(s *upstream.Source) { s.URLs = []string{"ftp://127.0.0.1/"} }, 0, cause.Unreachable},
			{"", func(s *upstream.Source) { s.URLs = append([]string{"http://127.0.0.1:1/"}, s.URLs...) }, 0, ""},
			{"", func(s *upstream.Source) { s.URLs = nil }, 0, cause.Missing},
			{"", nil, -48 * time.Hour, cause.Future},
			{"", nil, 20 * 365 * 24 * time.Hour, "ended"},
			{standin.FaultExpired, func(s *upstream.Source) { s.After = time.Now().Add(-2 * time.Hour) }, 0, cause.Replayed},
		} {
			s := good
			if x.change != nil {
				x.change(&s)
			}
			if x.fault != "" {
				require.NoError(t, w.SetFault(vendor, x.fault))
			}
			found, err := upstream.Look(&s, w.fetch, time.Now().Add(x.later))
			if x.fault != "" {
				require.NoError(t, w.SetFault(vendor, ""))
			}
			want, got := x.want, kind(t, err)
			switch {
			case want == "ended" && s.Keys != nil: // a key of no end does not end, and apt's metadata does
				want = got
				assert.Contains(t, []cause.Kind{cause.EndedKey, cause.Expired, cause.UnknownKey, ""}, got)
			case x.want == cause.Replayed && s.Family == "deb": // it has ended as well
				want = cause.Expired
			case x.fault == standin.FaultExpired && s.Family == "deb":
				want = cause.Expired
			}
			assert.Equal(t, want, got, "%s %s: %v", s.Family, x.fault, err)
			if err == nil {
				assert.NotEmpty(t, found.Digest)
				assert.Equal(t, s.Keys != nil, found.Signer != "", "%s: who signed is told, and only where it was looked at", s.Family)
				if s.Family != "arch" || s.Keys != nil { // of a database without a signature no time is told
					assert.WithinDuration(t, time.Now().Add(-time.Hour), found.Date, 2*time.Hour, s.Family)
				}
			}
		}
	}
}

func TestWhatIsOfferedIsTold(t *testing.T) {
	w := newWorld(t)
	count := map[string]int{
		"packages.saltmarsh.example": 4,
		"archive.foreland.example":   1,
		"rpm.gannet.example":         1,
		"north.fulmar.example":       2,
	}
	for vendor, s := range w.sources() {
		found, err := upstream.Look(&s, w.fetch, time.Now())
		require.NoError(t, err)
		assert.Len(t, found.Packages, count[vendor], vendor)
	}
	s := w.sources()["packages.saltmarsh.example"]
	s.Components = []string{"extra"}
	_, err := upstream.Look(&s, w.fetch, time.Now())
	assert.Equal(t, cause.Missing, kind(t, err))
	s.Components, s.Archs = []string{"main"}, []string{"s390x"}
	_, err = upstream.Look(&s, w.fetch, time.Now())
	assert.Equal(t, cause.Missing, kind(t, err))
	s.Archs = []string{"amd64", "s390x"}
	found, err := upstream.Look(&s, w.fetch, time.Now())
	require.NoError(t, err)
	assert.Equal(t, []string{"it has no list main/binary-s390x/Packages"}, found.Notes)
	require.NoError(t, w.SetFault("packages.saltmarsh.example", standin.FaultMissing))
	_, err = upstream.Look(&s, w.fetch, time.Now())
	assert.Equal(t, cause.Missing, kind(t, err))
}

// A vendor who changes keys is believed while one of the keys that it signs with is pinned,
// and who signs today is told.
func TestAChangeOfKeysIsSeen(t *testing.T) {
	w := newWorld(t)
	for vendor, s := range w.sources() {
		s.Keys = append(s.Keys, w.keys("saltmarsh-2029")...)
		require.NoError(t, w.Resign(vendor, "saltmarsh-2029"))
		found, err := upstream.Look(&s, w.fetch, time.Now())
		require.NoError(t, err, vendor)
		assert.Equal(t, w.Keys()["saltmarsh-2029"].Fingerprint(), found.Signer)
		s.Keys = s.Keys[:1]
		if vendor == "packages.saltmarsh.example" {
			_, err = upstream.Look(&s, w.fetch, time.Now())
			var r *upstream.Refused
			require.True(t, errors.As(err, &r))
			assert.Equal(t, w.Keys()["saltmarsh-2029"].Fingerprint(), r.By, "by whom it is signed instead")
		}
	}
}

func TestASlowServerIsGivenUp(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.SetFault("packages.saltmarsh.example", standin.FaultSlow))
	ctx, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer stop()
	s := w.sources()["packages.saltmarsh.example"]
	_, err := upstream.Look(&s, fetch.New().Opener(ctx, fetch.Way{}), time.Now())
	assert.Equal(t, cause.Slow, kind(t, err))
}
