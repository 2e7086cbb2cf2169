package agent

import (
	"crypto/ed25519"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
)

func TestReadUpdateNamesTheSourceThatFailed(t *testing.T) {
	now := &source.Survey{Sources: []source.Source{
		{Family: "deb", File: "/etc/apt/sources.list", Line: 1, Enabled: true, EffURLs: []string{"http://a.example/d/"}, EffSuites: []string{"mussel", "mussel-updates"}},
		{Family: "deb", File: "/etc/apt/sources.list", Line: 2, Enabled: false, EffURLs: []string{"http://off.example/"}, EffSuites: []string{"x"}},
		{Family: "deb", File: "/etc/apt/sources.list.d/v.sources", Line: 3, Enabled: true, EffURLs: []string{"http://v.example/"}, EffSuites: []string{"stable"}},
		{Family: "deb", File: "/etc/apt/sources.list.d/flat.list", Line: 1, Enabled: true, EffURLs: []string{"http://f.example/"}, EffSuites: []string{"./"}},
	}}
	out, named := readUpdate(`Hit:1 http://a.example/d mussel InRelease
Err:2 http://a.example/d mussel-updates InRelease
  404  Not Found [IP: 127.0.0.1 80]
Get:3 http://v.example stable InRelease [1 kB]
Err:4 http://v.example stable/main amd64 Packages
  Hash Sum mismatch
Err:5 http://f.example ./ InRelease
Reading package lists...
E: Release file for http://a.example/d/dists/mussel/InRelease is expired (invalid since 2d 3h). Updates for this repository will not be applied.
`, now, "/")
	assert.True(t, named)
	var got []string
	for _, o := range out {
		state := "ok"
		if !o.OK {
			state = o.Message
		}
		got = append(got, o.URL+" "+o.Suite+": "+state)
	}
	assert.Equal(t, []string{
		"http://a.example/d/ mussel: Release file for http://a.example/d/dists/mussel/InRelease is expired (invalid since 2d 3h). Updates for this repository will not be applied.", "http://a.example/d/ mussel-updates: 404  Not Found [IP: 127.0.0.1 80]",
		"http://v.example/ stable: Hash Sum mismatch", "http://f.example/ ./: apt-get could not fetch it",
	}, got)
	// Of a list of mirrors apt names the one that it has asked.
	listed := &source.Survey{Files: []source.File{{Path: "/l", Mirrors: []string{"http://near.example/d priority:1", "http://a.example/d priority:2"}}},
		Sources: []source.Source{{Family: "deb", File: "/f", Line: 1, Enabled: true, EffURLs: []string{"mirror+file:/l/"}, EffSuites: []string{"mussel"}}}}
	out, named = readUpdate("Err:1 http://near.example/d mussel InRelease\n  not signed\n", listed, "/")
	assert.True(t, named)
	assert.Equal(t, []api.SourceOutcome{{File: "/f", Line: 1, URL: "mirror+file:/l/", Suite: "mussel", Message: "not signed"}}, out)
	_, named = readUpdate("E: Malformed entry 1 in list file\n", now, "/")
	assert.False(t, named)
}

func TestAptsComplaintsAreOneLine(t *testing.T) {
	assert.Equal(t, "first; second", aptOutput{"Hit:1 x\nE: first\nW: warned\nE: second\nE: The list of sources could not be read.\n"}.errors())
	assert.Equal(t, "no E at all", aptOutput{"no E\nat all\n"}.errors())
}

func TestFreeSpaceIsSentWhenItChangedMuch(t *testing.T) {
	old := map[string]int64{"/": 1000, "/boot": 100}
	for _, c := range []struct {
		root, boot int64
		want       bool
	}{{1000, 100, false}, {1040, 100, false}, {1060, 100, true}, {940, 100, true}, {1000, 94, true}} {
		assert.Equal(t, c.want, muchChanged(old, map[string]int64{"/": c.root, "/boot": c.boot}), "%d %d", c.root, c.boot)
	}
	assert.True(t, muchChanged(nil, old))
}

func TestADelayedTokenIsRenewed(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	assert.NoError(t, err)
	at := now
	l := &link{host: "gw-01", key: key, now: func() time.Time { return at }}
	one, err := l.bearer()
	assert.NoError(t, err)
	again, err := l.bearer()
	assert.NoError(t, err)
	assert.Equal(t, one, again)
	at = at.Add(4*time.Minute + 1)
	next, err := l.bearer()
	assert.NoError(t, err)
	assert.NotEqual(t, one, next)
	assert.Equal(t, 2, strings.Count(next, "."))
}
