package store_test

import (
	"database/sql"
	"errors"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

// What stands in the database under a digest that it does not have is known no more, is told of, and is stored anew; what its reader
// does not understand and is what was stored stays.
func TestADamagedDocumentIsKnownNoMore(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lantern.db")
	s := open(t, path)
	whole := store.Document{Digest: source.Digest([]byte(`{"a":1}`)), Kind: store.KindSurvey, Body: []byte(`{"a":1}`)}
	other := store.Document{Digest: source.Digest([]byte("x")), Kind: store.KindText, Body: []byte("x")}
	require.NoError(t, s.PutDocuments(ctx, now, whole, other))
	not := errors.New("not understood")
	err := s.ReadDocument(ctx, whole.Digest, whole.Kind, func([]byte) error { return not })
	require.ErrorIs(t, err, not)
	require.NotErrorIs(t, err, store.ErrDamaged)
	require.True(t, s.Known(whole.Digest, whole.Kind))

	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	defer db.Close()
	for _, spoil := range []string{
		"UPDATE documents SET body = X'0011' WHERE digest = ?", // is not packed
		"UPDATE documents SET body = (SELECT body FROM documents WHERE kind = 'text') WHERE digest = ?",
		"DELETE FROM documents WHERE digest = ?",
	} {
		_, err = db.Exec(spoil, whole.Digest)
		require.NoError(t, err, spoil)
		err = s.ReadDocument(ctx, whole.Digest, whole.Kind, func([]byte) error { return not })
		require.ErrorIs(t, err, store.ErrDamaged, spoil)
		assert.True(t, store.Lost(err))
		assert.False(t, s.Known(whole.Digest, whole.Kind), spoil)
		told := <-s.Damaged()
		assert.Equal(t, whole.Digest, told.Digest)
		assert.Equal(t, whole.Kind, told.Kind)

		require.NoError(t, s.PutDocuments(ctx, now, whole))
		again, err := s.Document(ctx, whole.Digest, whole.Kind)
		require.NoError(t, err, spoil)
		assert.Equal(t, whole.Body, again.Body)
	}
	require.NoError(t, s.Drop(ctx, whole))
	assert.False(t, s.Known(whole.Digest, whole.Kind))
	assert.True(t, s.Known(other.Digest, other.Kind))
	_, err = s.Document(ctx, whole.Digest, whole.Kind)
	require.ErrorIs(t, err, store.ErrNotFound)
}
