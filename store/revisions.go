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
}

// Publish stores a new revision with the next number, together with the sheets
// that it comes to. Publishing the newest folder again gives its revision back.
func (s *Store) Publish(ctx context.Context, r Revision, folder []byte, sheets []Document) (Revision, bool, error) {
	docs := append([]Document{{Digest: r.Policy, Kind: KindPolicy, Body: folder}}, sheets...)
	if err := s.PutDocuments(ctx, r.Created, docs...); err != nil {
		return r, false, err
	}
	fresh := true
	err := s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		last, err := scanRevision(tx.QueryRowContext(ctx, "SELECT number, policy, author, message, created FROM revisions ORDER BY number DESC LIMIT 1"))
		if err == nil && last.Policy == r.Policy {
			r, fresh = last, false
			return nil
		}
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		r.Number = last.Number + 1
		_, err = tx.ExecContext(ctx, "INSERT INTO revisions (number, policy, author, message, created) VALUES (?, ?, ?, ?, ?)", r.Number, r.Policy, r.Author, r.Message, unix(r.Created))
		return err
	})
	return r, fresh, err
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

// Kinds of rollout.
const (
	KindRollout = "rollout" // carries a revision to hosts
	KindHeal    = "heal"    // puts right what has drifted on one host
)

// States of a host in a rollout.
const (
	Waiting   = "waiting"
	Working   = "working"
	Done      = "done"
	Unchanged = "unchanged" // nothing had to be changed
	Failed    = "failed"
	Behind    = "behind"  // left behind: it gave no sign of life for too long; it catches up when it comes back
	Stopped   = "stopped" // an operator stopped it before anything was touched
)

// Rollout carries a revision to hosts.
type Rollout struct {
	ID       int64
	Kind     string
	Revision int64
	Author   string
	Begun    time.Time
	Ended    time.Time
	Stopped  time.Time // zero where nobody stopped it
	SetAside bool      // files that stop the package manager are renamed
}

// RolloutHost is how far a host is in a rollout.
type RolloutHost struct {
	Rollout int64
	Host    string
	State   string
	Report  []byte // JSON
	Updated time.Time
}

// BeginRollout stores a rollout and gives its hosts the task.
func (s *Store) BeginRollout(ctx context.Context, r Rollout, hosts []*Host) (Rollout, error) {
	err := s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		if err := tx.QueryRowContext(ctx, "INSERT INTO rollouts (kind, revision, author, begun, set_aside) VALUES (?, ?, ?, ?, ?) RETURNING id", r.Kind, r.Revision, r.Author, unix(r.Begun), r.SetAside).Scan(&r.ID); err != nil {
			return err
		}
		for _, h := range hosts {
			if _, err := tx.ExecContext(ctx, "INSERT INTO rollout_hosts (rollout, host, state, updated) VALUES (?, ?, ?, ?)", r.ID, h.Name, Waiting, unix(r.Begun)); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "UPDATE hosts SET task = ? WHERE id = ?", r.ID, h.ID); err != nil {
				return err
			}
		}
		return nil
	})
	return r, err
}

// Progress stores how far a host is, its row with it, and ends the rollout
// when no host is left. It reports whether the rollout ended.
func (s *Store) Progress(ctx context.Context, rollout int64, rh RolloutHost, h *Host) (ended bool, err error) {
	err = s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE rollout_hosts SET state = ?, report = ?, updated = ? WHERE rollout = ? AND host = ?", rh.State, string(rh.Report), unix(rh.Updated), rollout, rh.Host); err != nil {
			return err
		}
		if err := putHost(ctx, tx.StmtContext(ctx, s.put), h); err != nil {
			return err
		}
		ended, err = endIfDone(ctx, tx, rollout, rh.Updated)
		return err
	})
	return ended, err
}

func endIfDone(ctx context.Context, tx *sql.Tx, rollout int64, now time.Time) (bool, error) {
	res, err := tx.ExecContext(ctx, `UPDATE rollouts SET ended = ? WHERE id = ? AND ended = 0
		AND NOT EXISTS (SELECT 1 FROM rollout_hosts WHERE rollout = ? AND state IN (?, ?))`, unix(now), rollout, rollout, Waiting, Working)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// StopRollout takes the task away from the hosts that have not begun it, and leaves those
// of gone behind, which are at work and give no sign of life. It ends the rollout when
// nobody else is at work. It returns the names of the hosts that have the task no more.
func (s *Store) StopRollout(ctx context.Context, rollout int64, gone []string, now time.Time) ([]string, error) {
	var names []string
	err := s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		names = nil
		for _, host := range gone {
			if _, err := tx.ExecContext(ctx, "UPDATE rollout_hosts SET state = ?, updated = ? WHERE rollout = ? AND host = ? AND state = ?", Behind, unix(now), rollout, host, Working); err != nil {
				return err
			}
			names = append(names, host)
		}
		rows, err := tx.QueryContext(ctx, "DELETE FROM rollout_hosts WHERE rollout = ? AND state = ? RETURNING host", rollout, Waiting)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var n string
			if err := rows.Scan(&n); err != nil {
				return err
			}
			names = append(names, n)
		}
		if err := rows.Err(); err != nil {
			return err
		}
		// Who was left behind does not catch up with what was stopped.
		left, err := queryStrings(ctx, tx, "SELECT host FROM rollout_hosts WHERE rollout = ? AND state = ?", rollout, Behind)
		if err != nil {
			return err
		}
		names = append(names, left...)
		if _, err := tx.ExecContext(ctx, "UPDATE hosts SET task = 0 WHERE task = ? AND name NOT IN (SELECT host FROM rollout_hosts WHERE rollout = ? AND state = ?)", rollout, rollout, Working); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE rollouts SET stopped = ? WHERE id = ? AND stopped = 0", unix(now), rollout); err != nil {
			return err
		}
		_, err = endIfDone(ctx, tx, rollout, now)
		return err
	})
	return names, err
}

func queryStrings(ctx context.Context, tx *sql.Tx, query string, args ...any) (out []string, err error) {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, rows.Err()
}

// LeaveBehind notes that hosts give no sign of life: the rollout goes on without them.
// They keep the task, and catch up when they come back. It reports whether the rollout
// ended.
func (s *Store) LeaveBehind(ctx context.Context, rollout int64, hosts []string, now time.Time) (ended bool, err error) {
	err = s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		for _, host := range hosts {
			if _, err := tx.ExecContext(ctx, "UPDATE rollout_hosts SET state = ?, updated = ? WHERE rollout = ? AND host = ? AND state IN (?, ?)", Behind, unix(now), rollout, host, Waiting, Working); err != nil {
				return err
			}
		}
		ended, err = endIfDone(ctx, tx, rollout, now)
		return err
	})
	return ended, err
}

// Withdraw takes a host out of a rollout that was stopped before the host had touched
// anything. It reports whether the rollout ended.
func (s *Store) Withdraw(ctx context.Context, rollout int64, h *Host, now time.Time) (ended bool, err error) {
	err = s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM rollout_hosts WHERE rollout = ? AND host = ? AND state = ?", rollout, h.Name, Working); err != nil {
			return err
		}
		if err := putHost(ctx, tx.StmtContext(ctx, s.put), h); err != nil {
			return err
		}
		ended, err = endIfDone(ctx, tx, rollout, now)
		return err
	})
	return ended, err
}

// OpenRollouts returns the rollouts of all kinds that have not ended.
func (s *Store) OpenRollouts(ctx context.Context) ([]Rollout, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT "+rolloutColumns+" FROM rollouts WHERE ended = 0 ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Rollout
	for rows.Next() {
		r, err := scanRollout(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

const rolloutColumns = "id, kind, revision, author, begun, ended, stopped, set_aside"

func scanRollout(row scanner) (Rollout, error) {
	var r Rollout
	var begun, ended, stopped int64
	err := row.Scan(&r.ID, &r.Kind, &r.Revision, &r.Author, &begun, &ended, &stopped, &r.SetAside)
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("rollout: %w", ErrNotFound)
	}
	r.Begun, r.Ended, r.Stopped = fromUnix(begun), fromUnix(ended), fromUnix(stopped)
	return r, err
}

// Rollouts returns the newest rollouts first.
func (s *Store) Rollouts(ctx context.Context, limit, offset int) ([]Rollout, int, error) {
	var total int
	if err := s.read.QueryRowContext(ctx, "SELECT count(*) FROM rollouts").Scan(&total); err != nil {
		return nil, 0, err
	}
	rows, err := s.read.QueryContext(ctx, "SELECT "+rolloutColumns+" FROM rollouts ORDER BY id DESC LIMIT ? OFFSET ?", limit, offset)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	var out []Rollout
	for rows.Next() {
		r, err := scanRollout(rows)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, r)
	}
	return out, total, rows.Err()
}

// Rollout returns one rollout.
func (s *Store) Rollout(ctx context.Context, id int64) (Rollout, error) {
	return scanRollout(s.read.QueryRowContext(ctx, "SELECT "+rolloutColumns+" FROM rollouts WHERE id = ?", id))
}

// OpenRollout returns the rollout of that kind which has not ended, if there is one.
func (s *Store) OpenRollout(ctx context.Context, kind string) (Rollout, error) {
	return scanRollout(s.read.QueryRowContext(ctx, "SELECT "+rolloutColumns+" FROM rollouts WHERE kind = ? AND ended = 0 ORDER BY id DESC LIMIT 1", kind))
}

// RolloutHosts returns how far the hosts of a rollout are, by name.
func (s *Store) RolloutHosts(ctx context.Context, id int64) ([]RolloutHost, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT host, state, report, updated FROM rollout_hosts WHERE rollout = ? ORDER BY host", id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []RolloutHost
	for rows.Next() {
		var h RolloutHost
		var updated int64
		if err := rows.Scan(&h.Host, &h.State, &h.Report, &updated); err != nil {
			return nil, err
		}
		h.Updated = fromUnix(updated)
		out = append(out, h)
	}
	return out, rows.Err()
}

// LastReport returns what a host said of the newest rollout that it carried out.
func (s *Store) LastReport(ctx context.Context, host string) (int64, RolloutHost, error) {
	h := RolloutHost{Host: host}
	var id, updated int64
	err := s.read.QueryRowContext(ctx, "SELECT rollout, state, report, updated FROM rollout_hosts WHERE host = ? AND state IN (?, ?, ?) ORDER BY rollout DESC LIMIT 1",
		host, Done, Unchanged, Failed).Scan(&id, &h.State, &h.Report, &updated)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, h, fmt.Errorf("report of %s: %w", host, ErrNotFound)
	}
	h.Updated = fromUnix(updated)
	return id, h, err
}

// LastReports returns the state of each host in the newest rollout that it took part in.
func (s *Store) LastReports(ctx context.Context) (map[string]RolloutHost, error) {
	rows, err := s.read.QueryContext(ctx, `SELECT host, state, report, updated, max(rollout) FROM rollout_hosts GROUP BY host`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]RolloutHost{}
	for rows.Next() {
		var h RolloutHost
		var updated, id int64
		if err := rows.Scan(&h.Host, &h.State, &h.Report, &updated, &id); err != nil {
			return nil, err
		}
		h.Updated, h.Rollout = fromUnix(updated), id
		out[h.Host] = h
	}
	return out, rows.Err()
}
