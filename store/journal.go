package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// Entry is one line of the journal: who had what changed, when, and why.
type Entry struct {
	Seq     int64
	At      time.Time
	Actor   string // operator:NAME, host:NAME or service
	Command string
	Kind    string // of what changed: host, revision, rollout, …
	Name    string // which; empty for several of the kind
	Why     string
	Detail  json.RawMessage // or nil

	// Passing entries are told and not kept: nothing came of them that anybody asks for later.
	Passing bool
}

// Change is what goes into one transaction with rows, and what follows it.
type Change struct {
	// Note returns what the journal says. It is called when the rows stand, in the
	// transaction, so that it knows the numbers that were given.
	Note func() []Entry
	// Then is called after the commit and before anybody is told. It must not wait.
	Then func()
}

// Noted is a change that leaves entries and nothing else.
func Noted(entries ...Entry) Change { return Change{Note: func() []Entry { return entries }} }

// Tell names who is told of each entry that stands, in their order. It is called by the
// writer, so it must not wait. It must be set before the first write.
func (s *Store) Tell(told func([]Entry)) { s.told = told }

const noteSQL = "INSERT INTO journal (at, actor, command, kind, name, why, detail) VALUES (?, ?, ?, ?, ?, ?, ?)"

// note writes the entries of a batch and numbers them. chain is the hash of the newest entry
// of the audit chain; it returns what that is now.
func note(ctx context.Context, tx *sql.Tx, stmt *sql.Stmt, list []Entry, chain []byte) ([]byte, error) {
	for i := range list {
		e := &list[i]
		if e.Passing {
			continue
		}
		res, err := stmt.ExecContext(ctx, unix(e.At), e.Actor, e.Command, e.Kind, e.Name, e.Why, string(e.Detail))
		if err != nil {
			return nil, err
		}
		if e.Seq, err = res.LastInsertId(); err != nil {
			return nil, err
		}
		if !e.Audited() {
			continue
		}
		chain = e.link(chain)
		if _, err := tx.ExecContext(ctx, "UPDATE journal SET hash = ? WHERE seq = ?", chain, e.Seq); err != nil {
			return nil, err
		}
	}
	return chain, nil
}

// Note writes entries that go with no rows.
func (s *Store) Note(ctx context.Context, entries ...Entry) error {
	return s.doAll(ctx, Noted(entries...), func(context.Context, *sql.Tx) error { return nil })
}

// JournalQuery says which entries are wanted. What is empty does not count.
type JournalQuery struct {
	Kind, Name string
	After      int64 // entries with higher numbers only
	Before     int64 // entries with lower numbers only
	Limit      int
	Oldest     bool // the oldest first; else the newest
	Audited    bool // only entries of the audit chain
	Actor      string
	Command    string
}

// Journal returns entries.
func (s *Store) Journal(ctx context.Context, q JournalQuery) ([]Entry, error) {
	order := "DESC"
	if q.Oldest {
		order = "ASC"
	}
	rows, err := s.read.QueryContext(ctx, `SELECT seq, at, actor, command, kind, name, why, detail FROM journal
		WHERE seq > ? AND (? = 0 OR seq < ?) AND (? = '' OR kind = ?) AND (? = '' OR name = ?)
		AND (NOT ? OR hash IS NOT NULL) AND (? = '' OR actor = ?) AND (? = '' OR command = ?) ORDER BY seq `+order+` LIMIT ?`,
		q.After, q.Before, q.Before, q.Kind, q.Kind, q.Name, q.Name, q.Audited, q.Actor, q.Actor,
		q.Command, q.Command, q.Limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Entry
	for rows.Next() {
		var e Entry
		var at int64
		var detail string
		if err := rows.Scan(&e.Seq, &at, &e.Actor, &e.Command, &e.Kind, &e.Name, &e.Why, &detail); err != nil {
			return nil, err
		}
		e.At = fromUnix(at)
		if detail != "" {
			e.Detail = json.RawMessage(detail)
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// NewestEntry returns the number of the newest entry, 0 where there is none.
func (s *Store) NewestEntry(ctx context.Context) (seq int64, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT coalesce(max(seq), 0) FROM journal").Scan(&seq)
	return seq, err
}
