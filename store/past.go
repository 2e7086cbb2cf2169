package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"time"
)

// Past is what a host had from a moment on, by digests.
type Past struct {
	Since      time.Time
	Until      time.Time // zero: it is so still, as far as is known
	Traits     string
	Survey     string
	Sheet      string
	Before     string // the sheet that had been carried last
	BaseSheet  string
	BaseSurvey string
	Revision   int64
}

// PastOf returns what a host had at a moment. Before the first row nothing is known.
func (s *Store) PastOf(ctx context.Context, host string, at time.Time) (p Past, err error) {
	const text = "(SELECT text FROM past_texts WHERE id = "
	var number, since, until int64
	err = s.read.QueryRowContext(ctx, "SELECT host, at, "+text+"traits), "+text+"survey), "+text+"sheet), "+text+"before), "+
		text+"base_sheet), "+text+"base_survey), revision "+
		"FROM pasts WHERE host = (SELECT id FROM past_texts WHERE text = ?) AND at <= ? ORDER BY at DESC, id DESC LIMIT 1",
		host, unix(at)).Scan(&number, &since, &p.Traits, &p.Survey, &p.Sheet, &p.Before, &p.BaseSheet, &p.BaseSurvey, &p.Revision)
	if errors.Is(err, sql.ErrNoRows) {
		return p, fmt.Errorf("what %s had then: %w", host, ErrNotFound)
	}
	if err == nil { // in a statement of its own, each half of pasts is searched by host and moment
		err = s.read.QueryRowContext(ctx, "SELECT coalesce(min(at), 0) FROM pasts WHERE host = ? AND at > ?", number, since).Scan(&until)
	}
	p.Since, p.Until = fromUnix(since), fromUnix(until)
	return p, err
}

// FirstPast returns from when on it is known what a host had; zero where it never is.
func (s *Store) FirstPast(ctx context.Context, host string) (time.Time, error) {
	var at int64
	err := s.read.QueryRowContext(ctx,
		"SELECT coalesce(min(at), 0) FROM pasts WHERE host = (SELECT id FROM past_texts WHERE text = ?)", host).Scan(&at)
	return fromUnix(at), err
}

// PastDocuments returns the digests that the past names, by kind.
func (s *Store) PastDocuments(ctx context.Context) (map[string][]string, error) {
	out := map[string][]string{}
	for column, kind := range map[string]string{
		"traits": KindTraits, "survey": KindSurvey, "sheet": KindSheet, "before": KindSheet, "base_sheet": KindSheet, "base_survey": KindSurvey,
	} {
		list, err := columnOf(ctx, s, column)
		if err != nil {
			return nil, err
		}
		out[kind] = append(out[kind], list...)
	}
	return out, nil
}

func columnOf(ctx context.Context, s *Store, name string) ([]string, error) {
	return column[string](ctx, s.read, "SELECT text FROM past_texts WHERE text <> '' AND id IN (SELECT "+name+" FROM pasts)")
}

// ForgetPast forgets what hosts had before a time, but for what they had at that time.
func (s *Store) ForgetPast(ctx context.Context, before time.Time) error {
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		s.past.forget()
		if _, err := putInOrder(ctx, tx, math.MaxInt32); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM past WHERE (host, at) IN (SELECT p.host, p.at FROM past p WHERE p.at < ?1
			AND EXISTS (SELECT 1 FROM past n WHERE n.host = p.host AND n.at > p.at AND n.at <= ?1) LIMIT 50000)`, unix(before)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM past_texts WHERE id NOT IN (SELECT host FROM past UNION SELECT traits FROM past
			UNION SELECT survey FROM past UNION SELECT sheet FROM past UNION SELECT before FROM past
			UNION SELECT base_sheet FROM past UNION SELECT base_survey FROM past)`)
		return err
	})
}
