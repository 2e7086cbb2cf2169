package sqlitefile_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/sqlitefile"
)

// database makes a database with keys and blobs of the sizes given; keep leaves
// the write-ahead log in place.
func database(t require.TestingT, file string, pageSize int, wal bool, keys []string, sizes []int) (keep func()) {
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	run := func(query string, args ...any) {
		_, err := db.Exec(query, args...)
		require.NoError(t, err)
	}
	run(fmt.Sprintf("PRAGMA page_size=%d", pageSize))
	if wal {
		run("PRAGMA journal_mode=wal")
		run("PRAGMA wal_autocheckpoint=0")
	}
	run("CREATE TABLE names (key TEXT NOT NULL, n INTEGER, body BLOB)")
	run("CREATE INDEX names_key ON names(key)")
	for i, k := range keys {
		run("INSERT INTO names VALUES (?,?,?)", k, i*1000-5, bytes.Repeat([]byte{byte(i)}, sizes[i%len(sizes)]))
	}
	return func() { require.NoError(t, db.Close()) }
}

func open(t require.TestingT, file string) (*sqlitefile.DB, map[string]uint32) {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	var db *sqlitefile.DB
	if log, err := os.ReadFile(file + "-wal"); err == nil {
		db, err = sqlitefile.Open(bytes.NewReader(data), bytes.NewReader(log))
		require.NoError(t, err)
	} else {
		db, err = sqlitefile.Open(bytes.NewReader(data), nil)
		require.NoError(t, err)
	}
	roots, err := db.Roots()
	require.NoError(t, err)
	return db, roots
}

func TestEveryRowIsFoundByScanAndByKey(t *testing.T) {
	base, n := t.TempDir(), 0
	rapid.Check(t, func(t *rapid.T) {
		n++
		file := filepath.Join(base, fmt.Sprint(n))
		keys := rapid.SliceOfN(rapid.StringMatching(`[a-f]{0,2}(x{300})?`), 1, 120).Draw(t, "keys")
		sizes := rapid.SliceOfN(rapid.SampledFrom([]int{0, 1, 20, 460, 480, 500, 3000, 5000, 70000}), 1, 3).Draw(t, "sizes")
		defer database(t, file, rapid.SampledFrom([]int{512, 1024, 4096}).Draw(t, "page"), rapid.Bool().Draw(t, "wal"), keys, sizes)()
		db, roots := open(t, file)
		var seen []string
		ids := map[string][]int64{}
		require.NoError(t, db.Scan(roots["names"], func(id int64, row []sqlitefile.Value) bool {
			i := len(seen)
			key := row[0].(string)
			seen = append(seen, key)
			ids[key] = append(ids[key], id)
			if row[1].(int64) != int64(i*1000-5) || len(row[2].([]byte)) != sizes[i%len(sizes)] {
				t.Fatalf("row %d is %v", i, row[:2])
			}
			return true
		}))
		if !slices.Equal(seen, keys) {
			t.Fatalf("scanned %q, want %q", seen, keys)
		}
		for key, want := range ids {
			got, err := db.Find(roots["names_key"], key)
			require.NoError(t, err)
			if !slices.Equal(got, want) {
				t.Fatalf("%q is at %v, want %v", key, got, want)
			}
			row, err := db.Row(roots["names"], want[0])
			require.NoError(t, err)
			if row[0] != key {
				t.Fatalf("row %d has %v, want %q", want[0], row[0], key)
			}
		}
		none, err := db.Find(roots["names_key"], "zz")
		require.NoError(t, err)
		if len(none) > 0 {
			t.Fatalf("found %v for a key that is not there", none)
		}
	})
}

func TestDamagedDatabasesAreRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "db")
	database(t, file, 512, false, strings.Split(strings.Repeat("a b c ", 40), " "), []int{10, 2000})()
	sound, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, c := range []struct {
		name string
		make func([]byte) []byte
	}{
		{"empty", func([]byte) []byte { return nil }},
		{"another file", func([]byte) []byte { return bytes.Repeat([]byte("x"), 4096) }},
		{"odd page size", func(b []byte) []byte { b[16], b[17] = 3, 3; return b }},
		{"cut", func(b []byte) []byte { return b[:700] }},
		{"zeros", func(b []byte) []byte { return append(b[:100:100], make([]byte, 4000)...) }},
	} {
		data := c.make(bytes.Clone(sound))
		db, err := sqlitefile.Open(bytes.NewReader(data), nil)
		if err == nil {
			var roots map[string]uint32
			if roots, err = db.Roots(); err == nil {
				err = db.Scan(roots["names"], func(int64, []sqlitefile.Value) bool { return true })
			}
		}
		assert.ErrorIs(t, err, sqlitefile.ErrFormat, c.name)
	}
}

func FuzzRead(f *testing.F) {
	file := filepath.Join(f.TempDir(), "db")
	database(f, file, 512, false, []string{"a", "b", "c"}, []int{3, 700})()
	data, err := os.ReadFile(file)
	require.NoError(f, err)
	f.Add(data, []byte{})
	f.Fuzz(func(t *testing.T, data, log []byte) {
		db, err := sqlitefile.Open(bytes.NewReader(data), bytes.NewReader(log))
		if err != nil {
			return
		}
		roots, err := db.Roots()
		if err != nil {
			return
		}
		for _, root := range roots {
			rows := 0
			_ = db.Scan(root, func(int64, []sqlitefile.Value) bool { rows++; return rows < 1000 })
			_, _ = db.Find(root, "b")
			_, _ = db.Row(root, 2)
		}
	})
}
