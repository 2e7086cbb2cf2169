package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"patientlantern.example/lantern/core/source"
)

// Kinds of document.
const (
	KindTraits = "traits"
	KindSurvey = "survey"
	KindSheet  = "sheet"
	KindText   = "text"
	KindPolicy = "policy"
)

// Document is an immutable text that is named by its digest.
type Document struct {
	Digest string
	Kind   string
	Body   []byte
}

// digests remembers which documents there are, so that a check-in with nothing
// new asks no database.
type digests struct {
	sync.RWMutex
	kinds map[string]string
}

func (s *Store) loadKnown(ctx context.Context) error {
	s.known.kinds = map[string]string{}
	rows, err := s.read.QueryContext(ctx, "SELECT digest, kind FROM documents")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var d, k string
		if err := rows.Scan(&d, &k); err != nil {
			return err
		}
		s.known.kinds[d] = k
	}
	return rows.Err()
}

// Known reports whether a document of that kind is stored.
func (s *Store) Known(digest, kind string) bool {
	s.known.RLock()
	defer s.known.RUnlock()
	return s.known.kinds[digest] == kind
}

// PutDocuments stores documents; those that are there already are left alone.
func (s *Store) PutDocuments(ctx context.Context, now time.Time, docs ...Document) error {
	var fresh []Document
	for _, d := range docs {
		if !s.Known(d.Digest, d.Kind) {
			fresh = append(fresh, d)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	err := s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		for _, d := range fresh {
			if source.Digest(d.Body) != d.Digest {
				return fmt.Errorf("document %s does not have that digest", d.Digest)
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO documents (digest, kind, body, created) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET kind = excluded.kind",
				d.Digest, d.Kind, s.enc.EncodeAll(d.Body, nil), unix(now)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.known.Lock()
	defer s.known.Unlock()
	for _, d := range fresh {
		s.known.kinds[d.Digest] = d.Kind
	}
	return nil
}

// Document returns a stored document.
func (s *Store) Document(ctx context.Context, digest string) (Document, error) {
	d := Document{Digest: digest}
	var packed []byte
	err := s.read.QueryRowContext(ctx, "SELECT kind, body FROM documents WHERE digest = ?", digest).Scan(&d.Kind, &packed)
	if errors.Is(err, sql.ErrNoRows) {
		return d, fmt.Errorf("document %s: %w", digest, ErrNotFound)
	}
	if err != nil {
		return d, err
	}
	d.Body, err = s.dec.DecodeAll(packed, nil)
	return d, err
}
