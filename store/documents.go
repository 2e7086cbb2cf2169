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

// kinds numbers the kinds of document.
var kinds = map[string]uint8{KindTraits: 1, KindSurvey: 2, KindSheet: 4, KindText: 8, KindPolicy: 16}

// Document is an immutable text that is named by its digest and its kind: what is one
// thing can never be made another by somebody who sends the same bytes.
type Document struct {
	Digest string
	Kind   string
	Body   []byte
}

// digests remembers which documents there are, so that a check-in with nothing
// new asks no database.
type digests struct {
	sync.RWMutex
	kinds map[string]uint8
}

func (s *Store) loadKnown(ctx context.Context) error {
	s.known.kinds = map[string]uint8{}
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
		s.known.kinds[d] |= kinds[k]
	}
	return rows.Err()
}

// Known reports whether a document of that kind is stored.
func (s *Store) Known(digest, kind string) bool {
	s.known.RLock()
	defer s.known.RUnlock()
	return s.known.kinds[digest]&kinds[kind] != 0
}

// What is stored again was not known: something else stands there in its place.
const putDocumentSQL = "INSERT INTO documents (digest, kind, body, created) VALUES (?, ?, ?, ?) " +
	"ON CONFLICT DO UPDATE SET body = excluded.body"

// PutDocuments stores documents; those that are there already are left alone.
func (s *Store) PutDocuments(ctx context.Context, now time.Time, docs ...Document) error {
	var fresh []Document
	for _, d := range docs {
		if kinds[d.Kind] == 0 {
			return fmt.Errorf("a document of kind %q is not known", d.Kind)
		}
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
			if _, err := tx.ExecContext(ctx, putDocumentSQL,
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
		s.known.kinds[d.Digest] |= kinds[d.Kind]
	}
	return nil
}

const bodySQL = "SELECT body FROM documents WHERE digest = ? AND kind = ?"

// Document returns a stored document.
func (s *Store) Document(ctx context.Context, digest, kind string) (Document, error) {
	body, err := s.unpack(ctx, digest, kind, nil)
	return Document{Digest: digest, Kind: kind, Body: body}, err
}

// bodies are the buffers of documents that are only read.
var bodies = sync.Pool{New: func() any { return new([]byte) }}

// mostKeptBody bounds the buffers that are kept, in bytes.
const mostKeptBody = 1 << 20

// ReadDocument hands a stored document to read, which keeps nothing of the body.
func (s *Store) ReadDocument(ctx context.Context, digest, kind string, read func(body []byte) error) error {
	kept := bodies.Get().(*[]byte)
	defer bodies.Put(kept)
	body, err := s.unpack(ctx, digest, kind, (*kept)[:0])
	if err != nil {
		return err
	}
	if cap(body) <= mostKeptBody {
		*kept = body
	}
	if err := read(body); err != nil {
		return s.misread(digest, kind, body, err)
	}
	return nil
}

// unpack reads a stored document behind what stands in a buffer.
func (s *Store) unpack(ctx context.Context, digest, kind string, to []byte) ([]byte, error) {
	var packed []byte
	err := s.body.QueryRowContext(ctx, digest, kind).Scan(&packed)
	if errors.Is(err, sql.ErrNoRows) && s.Known(digest, kind) {
		return nil, s.spoilt(digest, kind, err)
	} else if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("%s %s: %w", kind, digest, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	body, err := s.dec.DecodeAll(packed, to)
	if err != nil {
		return nil, s.spoilt(digest, kind, err)
	}
	return body, nil
}

// mostSwept bounds how many documents one transaction forgets.
const mostSwept = 500

// Sweep forgets the documents that are older than before and that keep does not name, and
// gives the space back. It returns how many there were.
func (s *Store) Sweep(ctx context.Context, before time.Time, keep func(kind, digest string) bool) (int, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT kind, digest FROM documents WHERE created < ?", unix(before))
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	var gone []Document
	for rows.Next() {
		var d Document
		if err := rows.Scan(&d.Kind, &d.Digest); err != nil {
			return 0, err
		}
		if !keep(d.Kind, d.Digest) {
			gone = append(gone, d)
		}
	}
	if err := rows.Err(); err != nil {
		return 0, err
	}
	for from := 0; from < len(gone); from += mostSwept {
		if err := s.Drop(ctx, gone[from:min(from+mostSwept, len(gone))]...); err != nil {
			return from, err
		}
	}
	if len(gone) > 0 {
		_, err = s.write.ExecContext(ctx, "PRAGMA incremental_vacuum")
	}
	return len(gone), err
}

// Drop removes documents. What is asked for meanwhile is sent again: it is not known
// any more before it goes.
func (s *Store) Drop(ctx context.Context, gone ...Document) error {
	s.known.forget(gone...)
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		for _, d := range gone {
			if _, err := tx.ExecContext(ctx, "DELETE FROM documents WHERE digest = ? AND kind = ?", d.Digest, d.Kind); err != nil {
				return err
			}
		}
		return nil
	})
}
