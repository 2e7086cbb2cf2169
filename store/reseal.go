package store

import (
	"context"
	"database/sql"
	"runtime"

	"golang.org/x/sync/errgroup"
)

// kept is a secret as it stands somewhere: keys of its row, and the statement that replaces it there.
type kept struct {
	a, b, c    string
	replace    string
	old, fresh []byte
}

// keptSecrets are where secrets stand: how they are read, and how one is replaced that is still the same.
var keptSecrets = []struct{ read, replace string }{
	{
		"SELECT name, '', '', login FROM accounts",
		"UPDATE accounts SET login = ?4 WHERE name = ?1 AND ?2 = '' AND ?3 = '' AND login = ?5",
	},
	{
		"SELECT host, account, contract, access FROM seats WHERE length(access) > 0",
		"UPDATE seats SET access = ?4 WHERE host = ?1 AND account = ?2 AND contract = ?3 AND access = ?5",
	},
	{
		"SELECT CAST(id AS TEXT), '', '', secret FROM webhooks",
		"UPDATE webhooks SET secret = ?4 WHERE id = CAST(?1 AS INTEGER) AND ?2 = '' AND ?3 = '' AND secret = ?5",
	},
}

// Reseal replaces every secret by what reseal makes of it, all or nothing, and returns how many there were. What
// reseal does takes long for many, so others commit meanwhile; the caller sees to it that nobody stores another
// secret. One that goes meanwhile is gone.
func (s *Store) Reseal(ctx context.Context, reseal func([]byte) ([]byte, error), c Change) (int, error) {
	all, err := s.secrets(ctx)
	if err != nil {
		return 0, err
	}
	group, going := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i := range all {
		group.Go(func() (err error) {
			if err = going.Err(); err == nil {
				all[i].fresh, err = reseal(all[i].old)
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	n := int64(0)
	err = s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		n = 0
		for i := range all {
			k := &all[i]
			res, err := tx.ExecContext(ctx, k.replace, k.a, k.b, k.c, k.fresh, k.old)
			if err != nil {
				return err
			}
			done, err := res.RowsAffected()
			if err != nil {
				return err
			}
			n += done
		}
		return nil
	})
	return int(n), err
}

// secrets are all that are kept.
func (s *Store) secrets(ctx context.Context) (out []kept, err error) {
	for _, q := range keptSecrets {
		rows, err := s.read.QueryContext(ctx, q.read)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			k := kept{replace: q.replace}
			if err := rows.Scan(&k.a, &k.b, &k.c, &k.old); err != nil {
				rows.Close()
				return nil, err
			}
			out = append(out, k)
		}
		if err := rows.Err(); err != nil {
			rows.Close()
			return nil, err
		}
		if err := rows.Close(); err != nil {
			return nil, err
		}
	}
	return out, nil
}
