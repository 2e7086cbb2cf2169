package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"
)

// Shelf is a folder of the service's machine that is served to hosts.
type Shelf struct {
	Name   string
	Folder string // below the folder of all shelves
	Author string
	Added  time.Time
}

// PutShelf stores a shelf, in the place of one of that name.
func (s *Store) PutShelf(ctx context.Context, x Shelf, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO shelves (name, folder, author, added) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO UPDATE "+
			"SET folder = excluded.folder, author = excluded.author, added = excluded.added", x.Name, x.Folder, x.Author, unix(x.Added))
		return err
	})
}

// RemoveShelf takes a shelf away; the folder stays.
func (s *Store) RemoveShelf(ctx context.Context, name string, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM shelves WHERE name = ?", name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n > 0 {
			return err
		}
		return fmt.Errorf("shelf %s: %w", name, ErrNotFound)
	})
}

// Shelves returns all shelves, by name.
func (s *Store) Shelves(ctx context.Context) (out []Shelf, err error) {
	rows, err := s.read.QueryContext(ctx, "SELECT name, folder, author, added FROM shelves ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var x Shelf
		var added int64
		if err := rows.Scan(&x.Name, &x.Folder, &x.Author, &added); err != nil {
			return nil, err
		}
		x.Added = fromUnix(added)
		out = append(out, x)
	}
	return out, rows.Err()
}
