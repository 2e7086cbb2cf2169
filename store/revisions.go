package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Revision is a published policy.
type Revision struct {
	Number  int64
	Policy  string // digest of the folder
	Author  string
	Message string
	Created time.Time

	Proposal int64 // that it comes of, where it is published; 0: none
	After    int64 // a number above which it is to be where it is published; 0: the newest
}

// Publish stores a new revision with the next number. What it comes to on hosts is stored
// when they are given it. Publishing the newest folder again gives its revision back, unless another number is wanted.
func (s *Store) Publish(ctx context.Context, r Revision, folder []byte, c func(r Revision, fresh bool) Change) (Revision, bool, error) {
	if err := s.PutDocuments(ctx, r.Created, Document{Digest: r.Policy, Kind: KindPolicy, Body: folder}); err != nil {
		return r, false, err
	}
	fresh := true
	change := func() Change {
		out := c(r, fresh)
		then := out.Then
		out.Then = func() {
			stored := r // as it is read
			stored.Proposal, stored.After, stored.Created = 0, 0, fromUnix(unix(r.Created))
			s.newest.Store(&stored)
			if then != nil {
				then()
			}
		}
		return out
	}
	err := s.doAll(ctx, late(change), func(ctx context.Context, tx *sql.Tx) error {
		last, err := scanRevision(tx.QueryRowContext(ctx, newestSQL))
		if err == nil && last.Policy == r.Policy && r.After <= last.Number {
			number := r.Proposal
			r, fresh = last, false
			return becomes(ctx, tx, number, last.Number, r)
		}
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		r.Number = max(last.Number, r.After) + 1
		_, err = tx.ExecContext(
			ctx,
			"INSERT INTO revisions (number, policy, author, message, created) VALUES (?, ?, ?, ?, ?)",
			r.Number,
			r.Policy,
			r.Author,
			r.Message,
			unix(r.Created),
		)
		if err != nil {
			return err
		}
		return becomes(ctx, tx, r.Proposal, last.Number, r)
	})
	return r, fresh, err
}

// becomes ends a proposal that is published as a revision; 0 is none. It is ErrNotFound where the newest revision is
// another than the one that it was proposed on.
func becomes(ctx context.Context, tx *sql.Tx, number, newest int64, r Revision) error {
	if number == 0 {
		return nil
	}
	return changeOne(ctx, tx, number, "UPDATE proposals SET ended = ?, revision = ? WHERE number = ? AND ended = 0 AND base = ?",
		unix(r.Created), r.Number, number, newest)
}

type scanner interface{ Scan(...any) error }

func scanRevision(row scanner) (Revision, error) {
	var r Revision
	var created int64
	err := row.Scan(&r.Number, &r.Policy, &r.Author, &r.Message, &created)
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("revision: %w", ErrNotFound)
	}
	r.Created = fromUnix(created)
	return r, err
}

// Revision returns one revision.
func (s *Store) Revision(ctx context.Context, number int64) (Revision, error) {
	return scanRevision(
		s.read.QueryRowContext(ctx, "SELECT number, policy, author, message, created FROM revisions WHERE number = ?", number),
	)
}

// NewestRevision returns the newest revision. Nobody else publishes any, so it is kept at hand: hosts ask for it.
func (s *Store) NewestRevision(context.Context) (Revision, error) {
	if r := s.newest.Load(); r != nil {
		return *r, nil
	}
	return Revision{}, fmt.Errorf("revision: %w", ErrNotFound)
}

// loadNewest reads the newest revision.
func (s *Store) loadNewest(ctx context.Context) error {
	r, err := scanRevision(s.read.QueryRowContext(ctx, newestSQL))
	switch {
	case err == nil:
		s.newest.Store(&r)
	case errors.Is(err, ErrNotFound):
		return nil
	}
	return err
}

const newestSQL = "SELECT number, policy, author, message, created FROM revisions ORDER BY number DESC LIMIT 1"

// Revisions returns all revisions, the newest first.
func (s *Store) Revisions(ctx context.Context) ([]Revision, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT number, policy, author, message, created FROM revisions ORDER BY number DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Revision
	for rows.Next() {
		r, err := scanRevision(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}
