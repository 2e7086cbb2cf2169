package store

import (
	"context"
	"database/sql"
	"io/fs"
	"path/filepath"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
)

// older makes a database as a version before wrote it, with a revision that was carried.
func older(t *testing.T, version int64) (path, digest string) {
	t.Helper()
	path = filepath.Join(t.TempDir(), "lantern.db")
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=foreign_keys(1)")
	require.NoError(t, err)
	defer db.Close()
	sub, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	require.NoError(t, err)
	_, err = p.UpTo(context.Background(), version)
	require.NoError(t, err)
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	body := []byte(`{"policy.yaml":""}`)
	digest = source.Digest(body)
	for _, q := range []struct {
		text string
		args []any
	}{
		{"INSERT INTO documents (digest, kind, body, created) VALUES (?, 'policy', ?, 1)", []any{digest, enc.EncodeAll(body, nil)}},
		{"INSERT INTO revisions (number, policy, author, message, created) VALUES (1, ?, 'first', 'm', 1)", []any{digest}},
		{"INSERT INTO rollouts (kind, revision, author, begun) VALUES ('rollout', 1, 'first', 1)", nil},
		{"INSERT INTO hosts (name, key, joined, revision, task) VALUES ('gw-01.brinewick.test', x'00', 1, 1, 1)", nil},
		{"INSERT INTO rollout_hosts (rollout, host, state, updated) VALUES (1, 'gw-01.brinewick.test', 'working', 1)", nil},
	} {
		_, err := db.Exec(q.text, q.args...)
		require.NoError(t, err, q.text)
	}
	return path, digest
}

func TestADatabaseOfAnOlderVersionKeepsEverything(t *testing.T) {
	ctx := context.Background()
	path, digest := older(t, 2)
	for range 2 { // and once more
		s, err := Open(ctx, path)
		require.NoError(t, err)
		require.NoError(t, s.Check(ctx))
		d, err := s.Document(ctx, digest, KindPolicy)
		require.NoError(t, err)
		assert.Equal(t, `{"policy.yaml":""}`, string(d.Body))
		assert.True(t, s.Known(digest, KindPolicy))
		assert.False(t, s.Known(digest, KindText))
		list, err := s.Revisions(ctx)
		require.NoError(t, err)
		require.Len(t, list, 1)
		hosts, err := s.Hosts(ctx)
		require.NoError(t, err)
		require.Len(t, hosts, 1)
		assert.EqualValues(t, 1, hosts[0].Task)
		open, err := s.LiveRollouts(ctx)
		require.NoError(t, err)
		require.Len(t, open, 1)
		require.NoError(t, s.Close())
	}
	s, err := Open(ctx, path)
	require.NoError(t, err)
	ro, err := s.Rollout(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, rollout.Counts{rollout.Working: 1}, ro.Counts)
	over := false
	require.NoError(t, s.LeaveBehind(ctx, ro, []string{"gw-01.brinewick.test"}, time.Now(), func(ended bool) Change { over = ended; return Change{} }))
	assert.True(t, over)
	require.NoError(t, s.Close())
}

// TestAMigrationThatWasInterruptedIsRunAgain forgets that the newest migration was run, as
// a crash between its work and the note of it does.
func TestAMigrationThatWasInterruptedIsRunAgain(t *testing.T) {
	ctx := context.Background()
	path, digest := older(t, 4)
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("DELETE FROM goose_db_version WHERE version_id = 4")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s, err := Open(ctx, path)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Document(ctx, digest, KindPolicy)
	require.NoError(t, err)
}

func TestADatabaseOfANewerVersionIsRefusedInWords(t *testing.T) {
	ctx := context.Background()
	path, _ := older(t, 2)
	s, err := Open(ctx, path)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(ctx, path)
	require.ErrorContains(t, err, "it was written by a newer version of this program (its form is 99, and this one knows 20); start that one")
}
