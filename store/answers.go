package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"sync"
)

// Answer is what hosts answered when they were asked which packages they have. Most of a fleet is asked the same and answers alike,
// so it stands once for all of them, in memory and in the database.
type Answer struct {
	Digest string
	Text   json.RawMessage

	once sync.Once
	is   any
}

// NewAnswer is an answer of a text.
func NewAnswer(text json.RawMessage) *Answer {
	sum := sha256.Sum256(text)
	return &Answer{Digest: hex.EncodeToString(sum[:16]), Text: text}
}

// Read is what a reader makes of the text. The first one reads it for all.
func (a *Answer) Read(read func(json.RawMessage) any) any {
	a.once.Do(func() { a.is = read(a.Text) })
	return a.is
}

const answerSQL = "SELECT EXISTS (SELECT 1 FROM answers WHERE digest = ?)"

// putAnswer stores an answer, where it does not stand there yet.
func (s *Store) putAnswer(ctx context.Context, tx *sql.Tx, a *Answer) error {
	var stands bool
	if err := s.often(ctx, tx, answerSQL).QueryRowContext(ctx, a.Digest).Scan(&stands); err != nil || stands {
		return err
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO answers (digest, body) VALUES (?, ?)", a.Digest, s.enc.EncodeAll(a.Text, nil))
	return err
}

// forgetAnswers drops what no host answers any more. It looks beside the writer, which others wait for.
func (s *Store) forgetAnswers(ctx context.Context) error {
	const unused = "digest NOT IN (SELECT packages FROM hosts)"
	old, err := column[string](ctx, s.read, "SELECT digest FROM answers WHERE "+unused)
	if err != nil || len(old) == 0 {
		return err
	}
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error { // one may have been given again meanwhile
		_, err := tx.ExecContext(ctx, "DELETE FROM answers WHERE digest IN (SELECT value FROM json_each(?)) AND "+unused, texts(old))
		return err
	})
}

// answers are all that are stored, by their digests.
func (s *Store) answers(ctx context.Context) (map[string]*Answer, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT digest, body FROM answers")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]*Answer{}
	for rows.Next() {
		var digest string
		var body sql.RawBytes
		if err := rows.Scan(&digest, &body); err != nil {
			return nil, err
		}
		text, err := s.dec.DecodeAll(body, nil)
		if err != nil {
			return nil, fmt.Errorf("what hosts answered of packages (%s) is damaged: %w", digest, err)
		}
		out[digest] = &Answer{Digest: digest, Text: text}
	}
	return out, rows.Err()
}
