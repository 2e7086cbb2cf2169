package store_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/store"
)

// Whatever is done to one entry of the chain past the service, it is found to the row; what
// hosts say of themselves is not of the chain and can go.
func TestABrokenChainIsFoundToTheRow(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir := t.TempDir()
		path := filepath.Join(dir, fmt.Sprintf("%d.db", rapid.IntRange(0, 1<<30).Draw(rt, "file")))
		s, err := store.Open(ctx, path)
		require.NoError(rt, err)
		count := rapid.IntRange(1, 12).Draw(rt, "entries")
		var chained []int64
		for i := range count {
			e := store.Entry{At: now, Actor: "operator:mira", Command: "publish-policy", Kind: "revision", Name: fmt.Sprint(i), Why: "because"}
			if rapid.Bool().Draw(rt, "host") {
				e.Actor, e.Kind = "host:gw-01", "host"
			} else {
				chained = append(chained, int64(i+1))
			}
			require.NoError(rt, s.Note(ctx, e))
		}
		whole, err := s.VerifyChain(ctx, nil)
		require.NoError(rt, err)
		assert.Equal(rt, len(chained), whole.Entries)
		assert.Zero(rt, whole.Broken)
		require.NoError(rt, s.Close())
		if len(chained) == 0 {
			return
		}
		db, err := sql.Open("sqlite", path)
		require.NoError(rt, err)
		at := rapid.IntRange(0, len(chained)-1).Draw(rt, "which")
		_, err = db.Exec("UPDATE journal SET why = 'other' WHERE seq = ?", chained[at])
		require.ErrorContains(rt, err, "never changed")
		_, err = db.Exec("DELETE FROM journal WHERE seq = ?", chained[at])
		require.ErrorContains(rt, err, "never taken out")
		_, err = db.Exec("DROP TRIGGER journal_is_not_changed; DROP TRIGGER journal_is_not_cut")
		require.NoError(rt, err)
		wantBroken := chained[at]
		switch rapid.SampledFrom([]string{"change", "remove", "cut"}).Draw(rt, "what") {
		case "change":
			_, err = db.Exec("UPDATE journal SET why = 'other' WHERE seq = ?", chained[at])
		case "remove":
			_, err = db.Exec("DELETE FROM journal WHERE seq = ?", chained[at])
			if wantBroken = 0; at+1 < len(chained) {
				wantBroken = chained[at+1]
			}
		case "cut":
			_, err = db.Exec("DELETE FROM journal WHERE seq >= ?", chained[at])
			wantBroken = 0
		}
		require.NoError(rt, err)
		require.NoError(rt, db.Close())
		s, err = store.Open(ctx, path)
		require.NoError(rt, err)
		defer s.Close()
		after, err := s.VerifyChain(ctx, whole.Head)
		require.NoError(rt, err)
		assert.Equal(rt, wantBroken, after.Broken)
		if wantBroken == 0 {
			assert.False(rt, after.Met, "what was cut off is seen by the head that was noted")
		}
	})
}
