package store

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"patientlantern.example/lantern/core/rollout"
)

// Host is a host's row.
type Host struct {
	ID       int64
	Name     string
	Key      ed25519.PublicKey
	Joined   time.Time
	LastSeen time.Time
	Labels   map[string]string
	Traits   string // digests of documents
	Survey   string
	Revision int64 // the revision that was last carried to it
	Sheet    string
	Carried  Carried
	Since    Since // finding → first seen
	Free     map[string]int64
	Access   json.RawMessage // what the agent says of the access on the host, or nil
	Agent    string
	Task     int64   // the rollout that the host has to carry out, or 0; follows from the rollouts
	Trouble  string  // what keeps the agent from working
	Packages *Answer // which of the packages that policies ask for are installed, or nil

	Stage     rollout.State   // of its task: waiting, working or behind; empty without one; likewise
	Failure   string          // why the newest rollout that it took part in failed; empty where it did not
	Form      int             // the newest form of sheets that its agent understands; 0: it has not said
	Unfetched int             // sources that could not be refreshed when it was last carried out
	Watched   json.RawMessage // whether its sources could be refreshed when it looked last, or nil
	Traced    json.RawMessage // what its logs say of the files of its findings, or nil
	Zone      string          // its time zone, by the name of the tz database; empty: it has not said
}

// Carried is what the last successful carrying left on a host.
type Carried struct {
	Sheet  string    `json:"sheet,omitempty"`
	Survey string    `json:"survey,omitempty"`
	At     time.Time `json:"at,omitzero"`
	Base   Base      `json:"base,omitzero"`
}

// Base is what a host was like when the policy came, or when somebody accepted it.
type Base struct {
	Sheet  string    `json:"sheet,omitempty"` // that had been carried
	Survey string    `json:"survey,omitempty"`
	At     time.Time `json:"at,omitzero"`
	By     string    `json:"by,omitempty"`    // who accepted it; empty for the first carrying
	Why    string    `json:"why,omitempty"`   // likewise
	Whole  bool      `json:"whole,omitempty"` // the survey tells all that counts; those of older agents do not
}

// Known is the base of a host: of one that an earlier version carried to, what that left.
func (c *Carried) Known() Base {
	if c.Base.Survey != "" {
		return c.Base
	}
	return Base{Sheet: c.Sheet, Survey: c.Survey, At: c.At}
}

// text is the JSON of a map or struct; its emptiness is written {}.
func text(v any) string {
	switch m := v.(type) {
	case map[string]string:
		if len(m) == 0 {
			return "{}"
		}
	case Since:
		if len(m) == 0 {
			return "{}"
		}
	case map[string]int64:
		if len(m) == 0 {
			return "{}"
		}
	}
	b, err := json.Marshal(v)
	if err != nil || string(b) == "null" {
		return "{}"
	}
	return string(b)
}

const (
	putHostSQL = `UPDATE hosts SET last_seen = ?, traits = ?, survey = ?, revision = ?, sheet = ?, since = ?, failure = ?,
	labels = ?, carried = ?, free = ?, access = ?, agent = ?, trouble = ?, packages = ?, unfetched = ?, form = ?, zone = ?, watched = ?,
	traced = ? WHERE id = ?`
	// freshenSQL leaves what of a row seldom changes as it stands.
	freshenSQL = `UPDATE hosts SET last_seen = ?, traits = ?, survey = ?, revision = ?, sheet = ?, since = ?, failure = ? WHERE id = ?`
)

// putHost writes a row, and notes in the history what the host has from now on.
func (s *Store) putHost(ctx context.Context, tx *sql.Tx, h *Host) error {
	carried := "{}"
	if h.Carried != (Carried{}) {
		carried = text(h.Carried)
	}
	access := "[]"
	if len(h.Access) > 0 {
		access = string(h.Access)
	}
	packages := "{}"
	if h.Packages != nil {
		packages = h.Packages.Digest
	}
	if err := s.past.know(ctx, h); err != nil {
		return err
	}
	labels, free := text(h.Labels), text(h.Free)
	lasting := hashed(labels, carried, free, access, h.Agent, h.Trouble, packages, strconv.Itoa(h.Unfetched), strconv.Itoa(h.Form), h.Zone,
		string(h.Watched), string(h.Traced))
	row := [20]any{unix(h.LastSeen), h.Traits, h.Survey, h.Revision, h.Sheet, text(h.Since), h.Failure, h.ID}
	var err error
	if known, there := s.past.hosts[h.ID]; there && known.lasting == lasting {
		_, err = s.past.of.fresh.ExecContext(ctx, row[:8]...)
	} else {
		if h.Packages != nil {
			if err := s.putAnswer(ctx, tx, h.Packages); err != nil {
				return err
			}
		}
		copy(row[7:], []any{labels, carried, free, access, h.Agent, h.Trouble, packages, h.Unfetched, h.Form, h.Zone,
			string(h.Watched), string(h.Traced), h.ID})
		_, err = s.past.of.row.ExecContext(ctx, row[:]...)
	}
	if err != nil {
		return err
	}
	return s.past.note(ctx, h, carried, lasting)
}

// PutHost stores a changed row.
func (s *Store) PutHost(ctx context.Context, h *Host, c Change) error {
	return s.enqueue(ctx, job{one: h, change: c, done: make(chan error, 1)})
}

// Seen notes when hosts were last seen.
func (s *Store) Seen(ctx context.Context, at map[int64]time.Time) error {
	if len(at) == 0 {
		return nil
	}
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		stmt, err := tx.PrepareContext(ctx, "UPDATE hosts SET last_seen = ? WHERE id = ?")
		if err != nil {
			return err
		}
		defer stmt.Close()
		for id, t := range at {
			if _, err := stmt.ExecContext(ctx, unix(t), id); err != nil {
				return err
			}
		}
		return nil
	})
}

// Invite is a one-time permission to join.
type Invite struct {
	Host    string
	Author  string
	Expires time.Time
}

// AddInvite stores an invitation under the hash of its token.
func (s *Store) AddInvite(ctx context.Context, hash []byte, i Invite, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			"INSERT INTO invites (token, host, author, expires) VALUES (?, ?, ?, ?)",
			hash,
			i.Host,
			i.Author,
			unix(i.Expires),
		)
		return err
	})
}

// SameKeyError is returned for a host that joins with the key of another: both were made
// from one image.
type SameKeyError struct{ Host string }

func (e *SameKeyError) Error() string {
	return fmt.Sprintf(
		"the host %s has joined with this very key: both were made from one image; let this one begin anew (lantern-agent forget), then "+
			"join again",
		e.Host,
	)
}

// Join uses an invitation up and stores the host. A host of that name that has
// joined before is given the new key and keeps its history.
// c is made for the row that was stored.
func (s *Store) Join(ctx context.Context, hash []byte, key ed25519.PublicKey, now time.Time, c func(*Host) Change) (*Host, error) {
	h := &Host{Key: key, Joined: now}
	err := s.doAll(ctx, c(h), func(ctx context.Context, tx *sql.Tx) error {
		var expires int64
		err := tx.QueryRowContext(ctx, "DELETE FROM invites WHERE token = ? RETURNING host, expires", hash).Scan(&h.Name, &expires)
		if err != nil || fromUnix(expires).Before(now) {
			return fmt.Errorf("invitation: %w", ErrNotFound)
		}
		var other string
		err = tx.QueryRowContext(ctx, "SELECT name FROM hosts WHERE key = ? AND name != ?", []byte(key), h.Name).Scan(&other)
		if err == nil {
			return &SameKeyError{other}
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		return tx.QueryRowContext(ctx, "INSERT INTO hosts (name, key, joined) VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE SET key = "+
			"excluded.key RETURNING id",
			h.Name, []byte(key), unix(now)).
			Scan(&h.ID)
	})
	return h, err
}

// AddHosts stores many hosts at once, for fleets that are made up.
func (s *Store) AddHosts(ctx context.Context, list []*Host) error {
	for len(list) > 0 {
		n := min(len(list), 5000)
		part := list[:n]
		list = list[n:]
		err := s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
			for _, h := range part {
				if err := tx.QueryRowContext(
					ctx,
					"INSERT INTO hosts (name, key, joined) VALUES (?, ?, ?) RETURNING id",
					h.Name,
					[]byte(h.Key),
					unix(h.Joined),
				).Scan(&h.ID); err != nil {
					return err
				}
				if err := s.putHost(ctx, tx, h); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// RetireHost forgets a host. What it had to carry out is left behind with it. It returns
// the rollouts that ended so.
func (s *Store) RetireHost(ctx context.Context, h *Host, now time.Time, c func(ended []int64) Change) (ended []int64, err error) {
	err = s.doAll(ctx, late(func() Change { return c(ended) }), func(ctx context.Context, tx *sql.Tx) error {
		ended = nil
		delete(s.past.hosts, h.ID) // its number may be given anew
		if _, err := tx.ExecContext(ctx, "DELETE FROM hosts WHERE id = ?", h.ID); err != nil {
			return err
		}
		ids, err := column[int64](
			ctx,
			tx,
			`SELECT rollout FROM rollout_hosts
			WHERE rollout IN (SELECT id FROM rollouts WHERE ended = 0) AND host = ? AND state IN (?, ?, ?)`,
			h.Name,
			string(rollout.Queued),
			string(rollout.Waiting),
			string(rollout.Working),
		)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if err := s.move(ctx, tx, id, h.Name, rollout.Leaves, now); err != nil {
				return err
			}
			done, err := s.endIfDone(ctx, tx, id, now)
			if err != nil {
				return err
			}
			if done {
				ended = append(ended, id)
			}
		}
		return nil
	})
	return ended, err
}

// late is a change that is made when the rows stand.
func late(c func() Change) Change {
	var made Change
	return Change{
		Note: func() []Entry {
			made = c()
			if made.Note == nil {
				return nil
			}
			return made.Note()
		},
		Then: func() {
			if made.Then != nil {
				made.Then()
			}
		},
	}
}

// OpenInvites counts the hosts that were invited, can still join and have not.
func (s *Store) OpenInvites(ctx context.Context, now time.Time) (n int, err error) {
	err = s.read.QueryRowContext(
		ctx,
		"SELECT count(DISTINCT host) FROM invites WHERE expires > ? AND host NOT IN (SELECT name FROM hosts)",
		unix(now),
	).
		Scan(&n)
	return n, err
}
