package store

import (
	"context"
	"database/sql"
)

// Verdict is what comparing a sheet with a survey came to, for a host to which the sheet
// before was carried last.
type Verdict struct {
	Sheet, Before, Survey string
	Base                  string // sheet and survey, with a blank between them; empty without one
	Body                  []byte // JSON
}

// PutVerdicts stores what a build of the program worked out.
func (s *Store) PutVerdicts(ctx context.Context, build string, list []Verdict) error {
	if len(list) == 0 {
		return nil
	}
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		stmt, err := tx.PrepareContext(
			ctx,
			"INSERT INTO verdicts (build, sheet, before, survey, base, body) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
		)
		if err != nil {
			return err
		}
		defer stmt.Close()
		for _, v := range list {
			if _, err := stmt.ExecContext(ctx, build, v.Sheet, v.Before, v.Survey, v.Base, s.enc.EncodeAll(v.Body, nil)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Verdicts gives each verdict of a build.
func (s *Store) Verdicts(ctx context.Context, build string, each func(Verdict) error) error {
	rows, err := s.read.QueryContext(ctx, "SELECT sheet, before, survey, base, body FROM verdicts WHERE build = ?", build)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var v Verdict
		var packed []byte
		if err := rows.Scan(&v.Sheet, &v.Before, &v.Survey, &v.Base, &packed); err != nil {
			return err
		}
		if v.Body, err = s.dec.DecodeAll(packed, nil); err != nil {
			continue // it is worked out again
		}
		if err := each(v); err != nil {
			return err
		}
	}
	return rows.Err()
}

// ForgetVerdicts drops the verdicts of other builds, and those that keep does not name.
func (s *Store) ForgetVerdicts(ctx context.Context, build string, keep func(Verdict) bool) error {
	rows, err := s.read.QueryContext(ctx, "SELECT sheet, before, survey, base FROM verdicts WHERE build = ?", build)
	if err != nil {
		return err
	}
	defer rows.Close()
	var gone []Verdict
	for rows.Next() {
		var v Verdict
		if err := rows.Scan(&v.Sheet, &v.Before, &v.Survey, &v.Base); err != nil {
			return err
		}
		if !keep(v) {
			gone = append(gone, v)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		for _, v := range gone {
			if _, err := tx.ExecContext(
				ctx,
				"DELETE FROM verdicts WHERE build = ? AND sheet = ? AND before = ? AND survey = ? AND base = ?",
				build,
				v.Sheet,
				v.Before,
				v.Survey,
				v.Base,
			); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM verdicts WHERE build != ?", build)
		return err
	})
}
