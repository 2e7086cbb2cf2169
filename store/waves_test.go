package store_test

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

// TestARolloutGoesOnFromWhereItStands: whoever decided it elsewhere has decided nothing, and where a rollout stands is the
// same however another version spelt it.
func TestARolloutGoesOnFromWhereItStands(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	s := open(t, path)
	t.Cleanup(func() { s.Close() })
	_, _, err := s.Publish(ctx, store.Revision{Policy: source.Digest([]byte("a")), Created: now}, []byte("a"), published)
	require.NoError(t, err)
	ro, _ := begin(t, s, "gw", 2)
	raw, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	defer raw.Close()
	since := now.UTC().Truncate(time.Second)
	held := rollout.Course{Opened: 1, Phase: rollout.Held, Since: since}
	for _, c := range []struct {
		name, there string
		stored      bool
	}{
		{"as it was read", `{"opened":1,"phase":"changing","since":"` + since.Format(time.RFC3339) + `"}`, true},
		{"in another order, and with spaces", `{ "phase": "changing", "since": "` + since.Format(time.RFC3339) + `", "opened": 1 }`, true},
		{"with what this version does not know", `{"opened":1,"phase":"changing","since":"` + since.Format(time.RFC3339) + `","quiet":true}`, true},
		{"with what it leaves out", `{"opened":1,"phase":"changing","since":"` + since.Format(time.RFC3339) + `","hold":null,"borne":[]}`, true},
		{"before there were waves", `{}`, true},
		{"a wave further", `{"opened":2,"phase":"changing","since":"` + since.Format(time.RFC3339) + `"}`, false},
		{"a second later", `{"opened":1,"phase":"changing","since":"` + since.Add(time.Second).Format(time.RFC3339) + `"}`, false},
	} {
		_, err := raw.Exec("UPDATE rollouts SET course = ? WHERE id = ?", c.there, ro.ID)
		require.NoError(t, err)
		told := false
		was := rollout.Course{Opened: 1, Phase: rollout.Changing, Since: since}
		stored, err := s.Course(ctx, ro.ID, was, held, now, store.Change{Then: func() { told = true }})
		require.NoError(t, err, c.name)
		assert.Equal(t, c.stored, stored, c.name)
		assert.Equal(t, c.stored, told, c.name)
		is, err := s.Rollout(ctx, ro.ID)
		require.NoError(t, err)
		assert.Equal(t, c.stored, is.Course.Phase == rollout.Held, c.name)
	}
	_, err = s.StopRollout(ctx, ro.ID, "", nil, now, func(store.Stopped) store.Change { return store.Change{} })
	require.NoError(t, err)
	is, err := s.Rollout(ctx, ro.ID)
	require.NoError(t, err)
	stored, err := s.Course(ctx, ro.ID, is.Course, held, now, store.Change{})
	require.NoError(t, err)
	assert.False(t, stored, "one that has ended is not held")
}
