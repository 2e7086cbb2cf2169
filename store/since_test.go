package store_test

import (
	"encoding/json"
	"testing"
	"time"

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
