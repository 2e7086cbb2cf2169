package service_test

import (
	"bytes"
	"encoding/json"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
)

// askedOfAll are what is asked of the whole fleet, or of a host among others.
var askedOfAll = []string{
	"hosts", "hosts?where=os.major>%3D12&has=saltmarsh&q=a", "host-names", "hosts/gw-01", "hosts/gw-02", "hosts/gw-02/history",
	"drift", "drift/groups", "cohorts", "field", "keys", "repositories", "whence?package=saltmarsh-server", "preview", "outlook",
	"groups", "days", "channels", "seats", "contracts", "calendar", "rollouts", "dates",
}

// spoilt puts something else in one place of a value, or takes that out.
func spoilt(t *rapid.T, v any) any {
	switch v := v.(type) {
	case map[string]any:
		if len(v) == 0 || rapid.IntRange(0, 9).Draw(t, "here") == 0 {
			break
		}
		keys := slices.Sorted(maps.Keys(v))
		key := rapid.SampledFrom(keys).Draw(t, "field")
		if rapid.IntRange(0, 9).Draw(t, "gone") == 0 {
			delete(v, key)
		} else {
			v[key] = spoilt(t, v[key])
		}
		return v
	case []any:
		if len(v) == 0 || rapid.IntRange(0, 9).Draw(t, "here") == 0 {
			break
		}
		i := rapid.IntRange(0, len(v)-1).Draw(t, "at")
		if rapid.IntRange(0, 4).Draw(t, "twice") == 0 {
			return append(v, v[i])
		}
		v[i] = spoilt(t, v[i])
		return v
	case string:
		return rapid.SampledFrom(odd).Draw(t, "text")
	case bool:
		return !v
	case float64:
		return rapid.SampledFrom([]any{-1, 0, 1 << 40, -1 << 60, 99}).Draw(t, "number")
	}
	return rapid.SampledFrom([]any{nil, "", []any{}, map[string]any{}, "x"}).Draw(t, "value")
}

var odd = []string{
	"", "x", "\x00", "\n", "<script>alert(1)</script>", "../../etc/passwd", "/", "http://[::1", "%zz", "${x}", "$releasever", "[", "(", "*", "**", "]", "{a,b}", "~",
	"é\u202e", "\ufffd", strings.Repeat("a", 5000), "9999999999999999999999", "-1", "1:", "2:1~~-", "release o=(", "/(/", "deb", "rpm", "arch", "zypp", "flatpak",
	"file:///etc/passwd", "http://u:p@h/", "saltmarsh", "embedded:", "2026-13-45T00:00:00Z", "0001-01-01T00:00:00Z", "any", "amd64", "danger", ">= 1", "glob:*",
}

// A host sends what it likes: whatever stands in a survey that is taken, what is asked of the fleet is answered, and policy is published.
func TestWhateverAHostSaysIsAnswered(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	r.Carry()
	p := newPuppet(t, r, "gw-02.brinewick.test")
	read := survey.Read(rootfs.New(os.DirFS(r.Root("gw-03"))), survey.Machine{Arch: "x86_64", Now: r.Clock.Now()})
	texts := read.Masked()
	var docs []api.Document
	for _, text := range texts {
		docs = append(docs, api.Document{Kind: "text", Body: text})
	}
	whole, err := source.Canonical(read.Survey)
	require.NoError(t, err)
	traits, err := source.Canonical(read.Survey.Traits)
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, p.post("/api/agent/documents", api.Documents{Documents: docs}, nil))
	taken, n, most := 0, 0, cell.Rounds(60)
	rapid.Check(t, func(rt *rapid.T) {
		of := map[bool][]byte{true: traits, false: whole}
		on := rapid.IntRange(0, 5).Draw(rt, "traits") == 0
		var v any
		require.NoError(rt, json.Unmarshal(of[on], &v))
		for range rapid.IntRange(1, 4).Draw(rt, "places") {
			v = spoilt(rt, v)
		}
		if n++; n > most {
			return
		}
		of[on], err = json.Marshal(v)
		require.NoError(rt, err)
		if p.post("/api/agent/documents", api.Documents{Documents: []api.Document{{Kind: "traits", Body: of[true]}, {Kind: "survey", Body: of[false]}}}, nil) != http.StatusNoContent {
			return
		}
		taken++
		var out api.CheckInAnswer
		require.Equal(rt, http.StatusOK, p.post("/api/agent/check-in", api.CheckIn{Traits: source.Digest(of[true]), Survey: source.Digest(of[false]), Agent: "test", Instance: "a"}, &out))
		for _, path := range askedOfAll {
			req, err := http.NewRequest(http.MethodGet, r.Server.URL+"/api/"+path, nil)
			require.NoError(rt, err)
			req.Header.Set("Authorization", "Bearer "+r.Operator.Token)
			resp, err := http.DefaultClient.Do(req)
			require.NoError(rt, err)
			var body bytes.Buffer
			_, err = body.ReadFrom(resp.Body)
			resp.Body.Close()
			require.NoError(rt, err)
			if resp.StatusCode >= http.StatusInternalServerError || resp.StatusCode == http.StatusNotFound {
				rt.Fatalf("%s: %d %.300s\ntraits %.3000s\nsurvey %.9000s", path, resp.StatusCode, body.String(), of[true], of[false])
			}
		}
		if _, err := r.Operator.Check(ctx, api.Publication{Files: r.Policy()}); err != nil {
			rt.Fatalf("checking: %v\ntraits %.3000s", err, of[true])
		}
	})
	assert.Positive(t, taken)
}
