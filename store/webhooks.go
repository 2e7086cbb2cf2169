package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"
)

// Webhook is an address that is told of what happens.
type Webhook struct {
	ID      int64
	URL     string
	Secret  []byte   // encrypted
	About   []string // kinds of entries of the journal
	Author  string
	Created time.Time
	Told    int64  // the newest entry that it was told of, or that is not for it
	Failed  int    // calls in a row that failed
	Error   string // of the last one
	Next    time.Time
}

// AddWebhook stores a webhook, whose number it fills in.
func (s *Store) AddWebhook(ctx context.Context, w *Webhook, c Change) error {
	about, err := json.Marshal(w.About)
	if err != nil {
		return err
	}
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, "INSERT INTO webhooks (url, secret, about, author, created, told) VALUES (?, ?, ?, ?, ?, ?) RETURNING id",
			w.URL, w.Secret, string(about), w.Author, unix(w.Created), w.Told).
			Scan(&w.ID)
	})
}

// Calls stores how telling a webhook goes.
func (s *Store) Calls(ctx context.Context, w *Webhook) error {
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE webhooks SET told = ?, failed = ?, error = ?, next = ? WHERE id = ?",
			w.Told, w.Failed, w.Error, unix(w.Next), w.ID)
		return err
	})
}

// RemoveWebhook takes a webhook away.
func (s *Store) RemoveWebhook(ctx context.Context, id int64, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM webhooks WHERE id = ?", id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n > 0 {
			return err
		}
		return fmt.Errorf("webhook %d: %w", id, ErrNotFound)
	})
}

// Webhooks returns all webhooks.
func (s *Store) Webhooks(ctx context.Context) (out []Webhook, err error) {
	rows, err := s.read.QueryContext(
		ctx,
		"SELECT id, url, secret, about, author, created, told, failed, "+
			"error, next FROM webhooks ORDER BY id",
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var w Webhook
		var about []byte
		var created, next int64
		if err := rows.Scan(&w.ID, &w.URL, &w.Secret, &about, &w.Author, &created, &w.Told, &w.Failed, &w.Error, &next); err != nil {
			return nil, err
		}
		w.Created, w.Next = fromUnix(created), fromUnix(next)
		if err := json.Unmarshal(about, &w.About); err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, rows.Err()
}
