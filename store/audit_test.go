package store_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/store"
)

// Whatever is done to one entry of the chain past the service, it is found to the row; what
// hosts say of themselves is not of the chain and can go.
func TestABrokenChainIsFoundToTheRow(t *testing.T) {
	for _, what := range []string{"change", "remove", "cut"} {
		for at := range 4 {
			t.Run(fmt.Sprint(what, at), func(t *testing.T) { breakChain(t, what, at) })
		}
	}
}

func breakChain(t *testing.T, what string, at int) {
	path := filepath.Join(t.TempDir(), "lantern.db")
	s, err := store.Open(ctx, path)
	require.NoError(t, err)
	var chained []int64
	for i := range 8 {
		e := store.Entry{At: now, Actor: "operator:mira", Command: "publish-policy", Kind: "revision", Name: fmt.Sprint(i), Why: "because"}
		if i%2 == 0 {
			e.Actor, e.Kind = "host:gw-01", "host"
		} else {
			chained = append(chained, int64(i+1))
		}
		require.NoError(t, s.Note(ctx, e))
	}
	whole, err := s.VerifyChain(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, len(chained), whole.Entries)
	assert.Zero(t, whole.Broken)
	require.NoError(t, s.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("UPDATE journal SET why = 'other' WHERE seq = ?", chained[at])
	require.ErrorContains(t, err, "never changed")
	_, err = db.Exec("DELETE FROM journal WHERE seq = ?", chained[at])
	require.ErrorContains(t, err, "never taken out")
	_, err = db.Exec("DROP TRIGGER journal_is_not_changed; DROP TRIGGER journal_is_not_cut")
	require.NoError(t, err)
	broken := chained[at]
	switch what {
	case "change":
		_, err = db.Exec("UPDATE journal SET why = 'other' WHERE seq = ?", chained[at])
	case "remove":
		_, err = db.Exec("DELETE FROM journal WHERE seq = ?", chained[at])
		if broken = 0; at+1 < len(chained) {
			broken = chained[at+1]
		}
	case "cut":
		_, err = db.Exec("DELETE FROM journal WHERE seq >= ?", chained[at])
		broken = 0
	}
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s, err = store.Open(ctx, path)
	require.NoError(t, err)
	defer s.Close()
	after, err := s.VerifyChain(ctx, whole.Head)
	require.NoError(t, err)
	assert.Equal(t, broken, after.Broken)
	if broken == 0 {
		assert.False(t, after.Met, "what was cut off is seen by the head that was noted")
	}
}
