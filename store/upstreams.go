package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// Upstream is what was seen behind a place that packages come from.
type Upstream struct {
	Place string
	Look  []byte // JSON
	List  []byte // packed; nil: leave what is stored
}

// PutUpstream stores how a look ended.
func (s *Store) PutUpstream(ctx context.Context, u Upstream, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO upstreams (place, look, list) VALUES (?, ?, ?) "+
			"ON CONFLICT (place) DO UPDATE SET look = excluded.look, list = coalesce(excluded.list, list)", u.Place, string(u.Look), u.List)
		return err
	})
}

// Upstreams gives how each look ended, without the packages.
func (s *Store) Upstreams(ctx context.Context, each func(Upstream) error) error {
	rows, err := s.read.QueryContext(ctx, "SELECT place, look FROM upstreams")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var u Upstream
		var look string
		if err := rows.Scan(&u.Place, &look); err != nil {
			return err
		}
		u.Look = []byte(look)
		if err := each(u); err != nil {
			return err
		}
	}
	return rows.Err()
}

// UpstreamList reads the packages of a place, packed.
func (s *Store) UpstreamList(ctx context.Context, place string) (list []byte, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT list FROM upstreams WHERE place = ?", place).Scan(&list)
	if errors.Is(err, sql.ErrNoRows) || err == nil && list == nil {
		err = ErrNotFound
	}
	if err != nil {
		return nil, fmt.Errorf("the packages of the place %s: %w", place, err)
	}
	return list, nil
}

// ForgetUpstreams drops places.
func (s *Store) ForgetUpstreams(ctx context.Context, places []string) error {
	if len(places) == 0 {
		return nil
	}
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		for _, p := range places {
			if _, err := tx.ExecContext(ctx, "DELETE FROM upstreams WHERE place = ?", p); err != nil {
				return err
			}
		}
		return nil
	})
}
