package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Roles of an operator.
const (
	RoleReader   = "reader"   // looks
	RoleOperator = "operator" // looks, publishes, rolls out, heals, invites
)

// Operator is a person or program that signs in.
type Operator struct {
	Name    string
	Role    string
	Created time.Time

	Session []byte // by which they call, and which goes on when they are given a new token; nil for none
}

// ErrLastOperator is returned where nobody would be left who may change anything.
var ErrLastOperator = errors.New("nobody would be left who may change anything")

// leaving makes a change of operators that leaves somebody who may change anything, where there was somebody.
func leaving(ctx context.Context, tx *sql.Tx, change func() error) error {
	const count = "SELECT COUNT(*) FROM operators WHERE role = ?"
	var before, after int
	if err := tx.QueryRowContext(ctx, count, RoleOperator).Scan(&before); err != nil {
		return err
	}
	if err := change(); err != nil {
		return err
	}
	if err := tx.QueryRowContext(ctx, count, RoleOperator).Scan(&after); err != nil {
		return err
	}
	if before > 0 && after == 0 {
		return ErrLastOperator
	}
	return nil
}

// AddOperator stores an operator under the hash of the token, or gives an
// operator of that name a new token and role.
func (s *Store) AddOperator(ctx context.Context, o Operator, hash []byte, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		// Whoever has the old token is signed in no more, but for who asks: they would never see the new one.
		if _, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE operator = ? AND id IS NOT ?", o.Name, o.Session); err != nil {
			return err
		}
		return leaving(ctx, tx, func() error {
			_, err := tx.ExecContext(
				ctx,
				"INSERT INTO operators (name, role, token, created) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET role = excluded.role, "+
					"token = excluded.token",
				o.Name,
				o.Role,
				hash,
				unix(o.Created),
			)
			return err
		})
	})
}

// RemoveOperator takes an operator and its sessions away.
func (s *Store) RemoveOperator(ctx context.Context, name string, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		return leaving(ctx, tx, func() error {
			res, err := tx.ExecContext(ctx, "DELETE FROM operators WHERE name = ?", name)
			if err != nil {
				return err
			}
			if n, err := res.RowsAffected(); err != nil || n == 0 {
				return errors.Join(err, fmt.Errorf("operator %s: %w", name, ErrNotFound))
			}
			return nil
		})
	})
}

func scanOperator(row scanner) (Operator, error) {
	var o Operator
	var created int64
	err := row.Scan(&o.Name, &o.Role, &created)
	if errors.Is(err, sql.ErrNoRows) {
		return o, fmt.Errorf("operator: %w", ErrNotFound)
	}
	o.Created = fromUnix(created)
	return o, err
}

// OperatorByToken returns the operator whose token has that hash.
func (s *Store) OperatorByToken(ctx context.Context, hash []byte) (Operator, error) {
	return scanOperator(s.read.QueryRowContext(ctx, "SELECT name, role, created FROM operators WHERE token = ?", hash))
}

// Operators returns all operators, by name.
func (s *Store) Operators(ctx context.Context) ([]Operator, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT name, role, created FROM operators ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Operator
	for rows.Next() {
		o, err := scanOperator(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, rows.Err()
}

// AddSession stores a browser's session under the hash of its cookie, and drops
// those that have ended.
func (s *Store) AddSession(ctx context.Context, hash []byte, operator string, now, expires time.Time) error {
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE expires < ?", unix(now)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO sessions (id, operator, expires) VALUES (?, ?, ?)", hash, operator, unix(expires))
		return err
	})
}

// OperatorBySession returns the operator of a session that has not ended.
func (s *Store) OperatorBySession(ctx context.Context, hash []byte, now time.Time) (Operator, error) {
	return scanOperator(
		s.read.QueryRowContext(
			ctx,
			"SELECT o.name, o.role, o.created FROM sessions s JOIN operators o ON o.name = s.operator WHERE s.id = ? AND s.expires > ?",
			hash,
			unix(now),
		),
	)
}

// EndSession forgets a session.
func (s *Store) EndSession(ctx context.Context, hash []byte) error {
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE id = ?", hash)
		return err
	})
}
