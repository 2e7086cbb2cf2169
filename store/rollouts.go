package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"patientlantern.example/lantern/core/rollout"
)

// Kinds of rollout.
const (
	KindRollout = "rollout"  // carries a revision to hosts
	KindHeal    = "heal"     // puts right what has drifted on one host
	KindBackOut = "back-out" // takes back what a rollout has changed
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
	Of       int64     // the rollout that it takes back; 0: none
	Because  string
	Parts    []rollout.Part
	Course   rollout.Course
	Counts   rollout.Counts
	placed   int // of Counts, the hosts of its parts
}

// NotReached counts the hosts of a rollout that was stopped, or has ended, to which it never came.
func (ro *Rollout) NotReached() (n int) {
	if ro.Ended.IsZero() && ro.Stopped.IsZero() {
		return 0
	}
	for i := range ro.Parts {
		n += ro.Parts[i].Hosts
	}
	return max(0, n-ro.placed)
}

// Carries is the revision that a rollout carries to a host: a healing that of each host.
func (ro *Rollout) Carries(h *Host) int64 {
	if ro.Kind == KindHeal && h.Revision != 0 {
		return h.Revision
	}
	return ro.Revision
}

// Placed is a host's place in a rollout that begins.
type Placed struct {
	Host   string
	Part   int
	State  rollout.State
	Report string // JSON; empty where nothing is to be said of it
}

// RolloutHost is how far a host is in a rollout.
type RolloutHost struct {
	Rollout int64
	Host    string
	State   rollout.State
	Report  []byte // JSON, without Took; empty where it has said nothing
	Took    []byte // JSON: milliseconds by step; or empty
	Before  []byte // JSON of a Before, as the host stands before what is said of it
	Part    int
	Updated time.Time
}

// Before is what had been carried to a host when a rollout changed it.
type Before struct {
	Revision int64   `json:"revision,omitempty"`
	Survey   string  `json:"survey,omitempty"` // when it began
	Carried  Carried `json:"carried,omitzero"`
}

// texts is a list as a statement takes it: in JSON, for json_each.
func texts(list []string) string {
	b, err := json.Marshal(append([]string{}, list...))
	if err != nil {
		return "[]" // texts always encode
	}
	return string(b)
}

// BeginRollout stores a rollout, whose number it fills in, with the places of its hosts.
// Those that have what it carries, though nothing was carried to them, are at its revision.
func (s *Store) BeginRollout(ctx context.Context, r *Rollout, hosts []Placed, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		parts, err := json.Marshal(append([]rollout.Part{}, r.Parts...))
		if err != nil {
			return err
		}
		if err := tx.QueryRowContext(ctx, `INSERT INTO rollouts (kind, revision, author, begun, set_aside, of, because, parts, course)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
			r.Kind, r.Revision, r.Author, unix(r.Begun), r.SetAside, r.Of, r.Because, string(parts), text(r.Course)).Scan(&r.ID); err != nil {
			return err
		}
		names := map[Placed][]string{} // by their places
		for _, h := range hosts {
			at := h
			at.Host = ""
			names[at] = append(names[at], h.Host)
		}
		for at, list := range names {
			number, err := s.putReport(ctx, tx, []byte(at.Report))
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO rollout_hosts (rollout, host, part, state, report, updated)
				SELECT ?, value, ?, ?, ?, ? FROM json_each(?)`,
				r.ID, at.Part, string(at.State), number, unix(r.Begun), texts(list)); err != nil {
				return err
			}
			if _, err := s.often(ctx, tx, moreSQL).ExecContext(ctx, r.ID, at.Part, string(at.State), len(list)); err != nil {
				return err
			}
			if at.State != rollout.Unchanged {
				continue
			}
			if _, err := tx.ExecContext(ctx, "UPDATE hosts SET revision = ?, failure = '' WHERE name IN (SELECT value FROM json_each(?))",
				r.Revision, texts(list)); err != nil {
				return err
			}
		}
		r.Counts = rollout.Counts{}
		for _, h := range hosts {
			if r.Counts[h.State]++; h.Part >= 0 {
				r.placed++
			}
		}
		ended, err := s.endIfDone(ctx, tx, r.ID, r.Begun)
		if ended {
			r.Ended = r.Begun
		}
		return err
	})
}

// itsTurn says of a place, by the name of its table in a query, that the host's turn has come. Word by word it is what the index by hosts
// is made of, which is of use to a query that says it.
func itsTurn(table string) string { return table + ".state <> '" + string(rollout.Queued) + "'" }

// What each report of a host asks for; it is prepared.
const (
	putReportSQL = "INSERT INTO reports (digest, body) VALUES (?, ?) RETURNING id"
	admitSQL     = `UPDATE rollout_hosts SET state = ?, updated = ?
		WHERE rollout = ? AND state = ? AND host IN (SELECT value FROM json_each(?)) RETURNING part`
	placeSQL = "SELECT state, part FROM rollout_hosts WHERE rollout = ? AND host = ?"
	moveSQL  = "UPDATE rollout_hosts SET state = ?, updated = ? WHERE rollout = ? AND host = ?"
	fewerSQL = "UPDATE rollout_counts SET hosts = hosts - ? WHERE rollout = ? AND part = ? AND state = ?"
	moreSQL  = `INSERT INTO rollout_counts (rollout, part, state, hosts) VALUES (?, ?, ?, ?)
		ON CONFLICT (rollout, part, state) DO UPDATE SET hosts = hosts + excluded.hosts`
	reportSQL   = "SELECT id FROM reports WHERE digest = ?"
	progressSQL = `UPDATE rollout_hosts SET report = ?, took = ?,
		before = CASE ? WHEN ? THEN ? WHEN ? THEN coalesce(nullif(before, ''), ?) ELSE '' END WHERE rollout = ? AND host = ?`
	endSQL = `UPDATE rollouts SET ended = ? WHERE id = ? AND ended = 0
		AND NOT EXISTS (SELECT 1 FROM rollout_counts WHERE rollout = ? AND state IN (?, ?, ?) AND hosts > 0)`
)

// often returns a statement that Open has prepared.
func (s *Store) often(ctx context.Context, tx *sql.Tx, text string) *sql.Stmt {
	return tx.StmtContext(ctx, s.asked[text])
}

// move takes a host from one place in a rollout to the next. An event that cannot happen
// to it is a *rollout.PlaceError, a host that takes no part is ErrNotFound.
func (s *Store) move(ctx context.Context, tx *sql.Tx, id int64, host string, e rollout.Event, now time.Time) error {
	var from rollout.State
	var part int
	err := s.often(ctx, tx, placeSQL).QueryRowContext(ctx, id, host).Scan(&from, &part)
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("%s in rollout %d: %w", host, id, ErrNotFound)
	}
	if err != nil {
		return err
	}
	to, err := rollout.Next(from, e)
	if err != nil {
		return err
	}
	if to == rollout.Gone {
		_, err = tx.ExecContext(ctx, "DELETE FROM rollout_hosts WHERE rollout = ? AND host = ?", id, host)
	} else {
		_, err = s.often(ctx, tx, moveSQL).ExecContext(ctx, string(to), unix(now), id, host)
	}
	if err != nil || from == to {
		return err
	}
	return s.countMoved(ctx, tx, id, part, from, to, 1)
}

// countMoved notes that so many hosts of a part have gone from one place to the next.
func (s *Store) countMoved(ctx context.Context, tx *sql.Tx, id int64, part int, from, to rollout.State, hosts int) error {
	if _, err := s.often(ctx, tx, fewerSQL).ExecContext(ctx, hosts, id, part, string(from)); err != nil || to == rollout.Gone {
		return err
	}
	_, err := s.often(ctx, tx, moreSQL).ExecContext(ctx, id, part, string(to), hosts)
	return err
}

// recount counts the hosts of a rollout anew, after many have moved.
func recount(ctx context.Context, tx *sql.Tx, id int64) error {
	if _, err := tx.ExecContext(ctx, "DELETE FROM rollout_counts WHERE rollout = ?", id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO rollout_counts (rollout, part, state, hosts)
		SELECT rollout, part, state, count(*) FROM rollout_hosts WHERE rollout = ? GROUP BY part, state`, id)
	return err
}

// Progress stores what a host says of a rollout, its row with it, and ends the rollout
// when no host is left. c is told whether it ended.
func (s *Store) Progress(ctx context.Context, rh RolloutHost, e rollout.Event, h *Host, c func(ended bool) Change) error {
	ended := false
	return s.doAll(ctx, late(func() Change { return c(ended) }), func(ctx context.Context, tx *sql.Tx) error {
		if err := s.move(ctx, tx, rh.Rollout, rh.Host, e, rh.Updated); err != nil {
			return err
		}
		number, err := s.putReport(ctx, tx, rh.Report)
		if err != nil {
			return err
		}
		if _, err := s.often(ctx, tx, progressSQL).ExecContext(ctx,
			number, string(rh.Took), string(e), string(rollout.Works), string(rh.Before), string(rollout.Succeeds), string(rh.Before),
			rh.Rollout, rh.Host); err != nil {
			return err
		}
		if err := s.putHost(ctx, tx, h); err != nil {
			return err
		}
		ended, err = s.endIfDone(ctx, tx, rh.Rollout, rh.Updated)
		return err
	})
}

// putReport stores what a host said, and returns its number. What was said before stands
// once.
func (s *Store) putReport(ctx context.Context, tx *sql.Tx, report []byte) (number int64, err error) {
	if len(report) == 0 {
		return 0, nil
	}
	digest := sha256.Sum256(report)
	err = s.often(ctx, tx, reportSQL).QueryRowContext(ctx, digest[:]).Scan(&number)
	if !errors.Is(err, sql.ErrNoRows) {
		return number, err
	}
	err = s.often(ctx, tx, putReportSQL).QueryRowContext(ctx, digest[:], s.enc.EncodeAll(report, nil)).Scan(&number)
	return number, err
}

// zstdMagic begins each frame of zstd (RFC 8878, 3.1.1).
var zstdMagic = []byte{0x28, 0xb5, 0x2f, 0xfd}

func (s *Store) unpackReport(body []byte) ([]byte, error) {
	if !bytes.HasPrefix(body, zstdMagic) { // of an earlier version
		return body, nil
	}
	return s.dec.DecodeAll(body, nil)
}

func (s *Store) endIfDone(ctx context.Context, tx *sql.Tx, id int64, now time.Time) (bool, error) {
	res, err := s.often(ctx, tx, endSQL).ExecContext(ctx,
		unix(now), id, id, string(rollout.Queued), string(rollout.Waiting), string(rollout.Working))
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// querier is a transaction, or the database for reading.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// column is what a query of one column gives.
func column[T any](ctx context.Context, from querier, query string, args ...any) (out []T, err error) {
	rows, err := from.QueryContext(ctx, query, args...)
	return scanned[T](rows, err)
}

// scanned reads the one column of an answer.
func scanned[T any](rows *sql.Rows, err error) (out []T, _ error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var v T
		if err := rows.Scan(&v); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

// LeaveBehind notes that hosts give no sign of life: the rollout goes on without them.
// They keep the task, and catch up when they come back, unless the rollout was stopped.
func (s *Store) LeaveBehind(ctx context.Context, r Rollout, hosts []string, now time.Time, c func(ended bool) Change) error {
	ended := false
	return s.doAll(ctx, late(func() Change { return c(ended) }), func(ctx context.Context, tx *sql.Tx) error {
		names := texts(hosts)
		if _, err := tx.ExecContext(ctx, `UPDATE rollout_hosts SET state = ?, updated = ?
			WHERE rollout = ? AND state IN (?, ?) AND host IN (SELECT value FROM json_each(?))`,
			string(rollout.Behind), unix(now), r.ID, string(rollout.Waiting), string(rollout.Working), names); err != nil {
			return err
		}
		if err := recount(ctx, tx, r.ID); err != nil {
			return err
		}
		var err error
		ended, err = s.endIfDone(ctx, tx, r.ID, now)
		return err
	})
}

// Withdraw takes a host out of a rollout that was stopped before the host had touched
// anything.
func (s *Store) Withdraw(ctx context.Context, id int64, h *Host, now time.Time, c func(ended bool) Change) error {
	ended := false
	return s.doAll(ctx, late(func() Change { return c(ended) }), func(ctx context.Context, tx *sql.Tx) error {
		if err := s.move(ctx, tx, id, h.Name, rollout.Withdraws, now); err != nil {
			return err
		}
		if err := s.putHost(ctx, tx, h); err != nil {
			return err
		}
		var err error
		ended, err = s.endIfDone(ctx, tx, id, now)
		return err
	})
}

const rolloutColumns = "id, kind, revision, author, begun, ended, stopped, set_aside, of, because, parts, course, " +
	"(SELECT json_group_object(state, n) FROM " +
	"(SELECT state, sum(hosts) AS n FROM rollout_counts c WHERE c.rollout = rollouts.id GROUP BY state) WHERE n > 0), " +
	"(SELECT COALESCE(sum(hosts), 0) FROM rollout_counts c WHERE c.rollout = rollouts.id AND part >= 0)"

func scanRollout(row scanner) (Rollout, error) {
	var r Rollout
	var begun, ended, stopped int64
	var counts, parts, course []byte
	err := row.Scan(
		&r.ID, &r.Kind, &r.Revision, &r.Author, &begun, &ended, &stopped, &r.SetAside, &r.Of, &r.Because, &parts, &course, &counts,
		&r.placed,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("rollout: %w", ErrNotFound)
	}
	if err != nil {
		return r, err
	}
	r.Begun, r.Ended, r.Stopped = fromUnix(begun), fromUnix(ended), fromUnix(stopped)
	if err := errors.Join(
		json.Unmarshal(counts, &r.Counts), json.Unmarshal(parts, &r.Parts), json.Unmarshal(course, &r.Course),
	); err != nil {
		return r, fmt.Errorf("rollout %d: %w", r.ID, err)
	}
	if r.Course.Phase == "" && len(r.Parts) == 0 { // of an earlier version, which had no waves
		p := rollout.Part{Plan: rollout.AtOnce().Name, What: "all", Hosts: r.all()}
		r.placed = p.Hosts
		r.Parts, r.Course = []rollout.Part{p}, rollout.Course{Opened: 1, Phase: rollout.Changing, Since: r.Begun}
	}
	if !r.Ended.IsZero() {
		r.Course.Phase, r.Course.Since, r.Course.Hold = rollout.Ended, r.Ended, nil
	}
	return r, nil
}

// all counts the hosts.
func (r *Rollout) all() (n int) {
	for _, hosts := range r.Counts {
		n += hosts
	}
	return n
}

func (s *Store) rollouts(ctx context.Context, query string, args ...any) (out []Rollout, err error) {
	rows, err := s.read.QueryContext(ctx, "SELECT "+rolloutColumns+" FROM rollouts "+query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scanRollout(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// LiveRollouts returns the rollouts of all kinds that have not ended, and those that have
// and to which a host has come back that catches up.
func (s *Store) LiveRollouts(ctx context.Context) ([]Rollout, error) {
	return s.rollouts(ctx, `WHERE ended = 0 OR EXISTS (SELECT 1 FROM rollout_counts c
		WHERE c.rollout = rollouts.id AND c.state IN (?, ?) AND c.hosts > 0) ORDER BY id`, string(rollout.Waiting), string(rollout.Working))
}

// Rollouts returns the newest rollouts first.
func (s *Store) Rollouts(ctx context.Context, limit, offset int) (list []Rollout, total int, err error) {
	if err := s.read.QueryRowContext(ctx, "SELECT count(*) FROM rollouts").Scan(&total); err != nil {
		return nil, 0, err
	}
	list, err = s.rollouts(ctx, "ORDER BY id DESC LIMIT ? OFFSET ?", limit, offset)
	return list, total, err
}

// Rollout returns one rollout.
func (s *Store) Rollout(ctx context.Context, id int64) (Rollout, error) {
	return scanRollout(s.read.QueryRowContext(ctx, "SELECT "+rolloutColumns+" FROM rollouts WHERE id = ?", id))
}

// RolloutRow is what a report of a host has to know of its rollout: which it is, of what, and since when it is
// stopped. Waves and how far the hosts are are left out.
func (s *Store) RolloutRow(ctx context.Context, id int64) (r Rollout, err error) {
	var stopped int64
	err = s.read.QueryRowContext(ctx, "SELECT id, kind, revision, stopped, of FROM rollouts WHERE id = ?", id).
		Scan(&r.ID, &r.Kind, &r.Revision, &stopped, &r.Of)
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("rollout: %w", ErrNotFound)
	}
	r.Stopped = fromUnix(stopped)
	return r, err
}

// OpenRollout returns the rollout of that kind which has not ended, if there is one.
func (s *Store) OpenRollout(ctx context.Context, kind string) (Rollout, error) {
	return scanRollout(
		s.read.QueryRowContext(
			ctx,
			"SELECT "+rolloutColumns+" FROM rollouts WHERE kind = ? AND ended = 0 ORDER BY id DESC LIMIT 1",
			kind,
		),
	)
}
