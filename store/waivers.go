package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"patientlantern.example/lantern/core/drift"
)

// Waiver is a finding that a named person accepts until a date.
type Waiver struct {
	ID      int64
	Host    string // full name; empty for every host
	Finding drift.Finding
	Because string
	Author  string
	Made    time.Time
	Ends    time.Time
}

// AddWaiver stores a waiver and gives it its number.
func (s *Store) AddWaiver(ctx context.Context, w *Waiver, c Change) error {
	text, err := json.Marshal(w.Finding)
	if err != nil {
		return err
	}
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO waivers (host, finding, because, author, made, ends) VALUES (?, ?, ?, ?, ?, ?)",
			w.Host, string(text), w.Because, w.Author, unix(w.Made), unix(w.Ends))
		if err != nil {
			return err
		}
		w.ID, err = res.LastInsertId()
		return err
	})
}

// EndWaiver takes a waiver away before its time.
func (s *Store) EndWaiver(ctx context.Context, id int64, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM waivers WHERE id = ?", id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("waiver %d: %w", id, ErrNotFound))
		}
		return nil
	})
}

// Waivers returns all waivers, those that have ended too, by number.
func (s *Store) Waivers(ctx context.Context) ([]Waiver, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT id, host, finding, because, author, made, ends FROM waivers ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Waiver
	for rows.Next() {
		var w Waiver
		var text string
		var made, ends int64
		if err := rows.Scan(&w.ID, &w.Host, &text, &w.Because, &w.Author, &made, &ends); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &w.Finding); err != nil {
			return nil, fmt.Errorf("waiver %d: %w", w.ID, err)
		}
		w.Made, w.Ends = fromUnix(made), fromUnix(ends)
		out = append(out, w)
	}
	return out, rows.Err()
}
