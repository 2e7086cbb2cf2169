package store_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	jsonv1 "github.com/go-json-experiment/json/v1"
	"pgregory.net/rapid"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/store"
)

func TestSinceWhenFindingsAreThere(t *testing.T) {
	later := now.Add(time.Hour)
	first := store.Since{}.Follow([]string{"a", "b", "a"}, now, nil)
	next := first.Follow([]string{"b", "c"}, later, nil)
	for key, want := range map[string]time.Time{"b": now, "c": later} {
		at, ok := next.Of(key)
		require.True(t, ok, key)
		assert.Equal(t, want.UnixMilli(), at.UnixMilli(), key)
	}
	_, ok := next.Of("a")
	assert.False(t, ok, "it is gone")
	_, ok = first.Of("a")
	assert.True(t, ok, "what was is not changed")

	// One that an earlier version knew by another key has been there since then.
	renamed := first.Follow([]string{"new"}, later, func(int) string { return "a" })
	at, ok := renamed.Of("new")
	require.True(t, ok)
	assert.Equal(t, now.UnixMilli(), at.UnixMilli())

	b, err := json.Marshal(next)
	require.NoError(t, err)
	var again store.Since
	require.NoError(t, json.Unmarshal(b, &again))
	for _, key := range []string{"b", "c"} {
		want, _ := next.Of(key)
		got, ok := again.Of(key)
		require.True(t, ok)
		assert.True(t, want.Equal(got))
	}
	assert.Empty(t, first.Follow(nil, later, nil))
}

func TestSinceComesBackWhateverTheKeysAre(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		keys := rapid.SliceOf(rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"\xff", "\xfe", "\x00", "a\u2028b", `"`}))).Draw(rt, "keys")
		now := time.UnixMilli(rapid.Int64Range(1, 4e12).Draw(rt, "at"))
		first := store.Since{}.Follow(keys, now, nil)
		text, err := json.Marshal(map[string]any{"since": first})
		require.NoError(rt, err)
		for _, read := range []func([]byte, any) error{json.Unmarshal, func(b []byte, v any) error { return jsonv1.Unmarshal(b, v) }} {
			var again struct{ Since store.Since }
			require.NoError(rt, read(text, &again))
			for _, k := range keys {
				at, there := again.Since.Of(strings.ToValidUTF8(k, "\ufffd"))
				require.True(rt, there || strings.Count(k, "\xff")+strings.Count(k, "\xfe") > 1, "%q", k)
				require.True(rt, !there || at.Equal(now))
			}
		}
	})
	var s store.Since
	require.NoError(t, json.Unmarshal([]byte("null"), &s))
	require.Error(t, json.Unmarshal([]byte(`["a"]`), &s))
	require.Error(t, json.Unmarshal([]byte(`{"a":"yesterday"}`), &s))
}

// However many findings there are, each keeps its time while it is there.
func TestAFindingKeepsItsTime(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		key := rapid.StringMatching(`[a-z]{1,2}`)
		steps := rapid.SliceOfN(rapid.SliceOfN(key, 0, 40), 1, 4).Draw(rt, "steps")
		var s store.Since
		want := map[string]time.Time{}
		for i, keys := range steps {
			at := now.Add(time.Duration(i) * time.Hour)
			s = s.Follow(keys, at, func(i int) string { return "older " + keys[i] })
			next := map[string]time.Time{}
			for _, k := range keys {
				next[k] = at
				if was, ok := want[k]; ok {
					next[k] = was
				}
			}
			want = next
			require.Len(rt, s, len(want))
			for k, since := range want {
				got, ok := s.Of(k)
				require.True(rt, ok, k)
				require.Equal(rt, since.UnixMilli(), got.UnixMilli(), k)
			}
		}
	})
}
