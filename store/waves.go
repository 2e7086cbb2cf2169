package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"patientlantern.example/lantern/core/rollout"
)

// Tallies counts the hosts of a rollout by part and place.
func (s *Store) Tallies(ctx context.Context, r *Rollout) ([]rollout.Tally, error) {
	out := make([]rollout.Tally, len(r.Parts))
	for i := range out {
		out[i].Counts = rollout.Counts{}
	}
	rows, err := s.read.QueryContext(ctx, "SELECT part, state, hosts FROM rollout_counts WHERE rollout = ? AND hosts > 0", r.ID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var part, hosts int
		var state rollout.State
		if err := rows.Scan(&part, &state, &hosts); err != nil {
			return nil, err
		}
		if part >= 0 && part < len(out) {
			out[part].Counts[state] += hosts
		}
	}
	return out, rows.Err()
}

// Course stores where a rollout stands. Was is where it stood when that was decided: where
// it stands elsewhere by now, or has ended and is not to be told as that, nothing is stored, and the answer is false.
func (s *Store) Course(ctx context.Context, id int64, was, is rollout.Course, now time.Time, c Change) (stored bool, err error) {
	err = s.doAll(ctx, when(&stored, c), func(ctx context.Context, tx *sql.Tx) error {
		var ended int64
		var there []byte
		if err := tx.QueryRowContext(ctx, "SELECT ended, course FROM rollouts WHERE id = ?", id).Scan(&ended, &there); err != nil {
			return err
		}
		var stands rollout.Course // another version may have spelt it otherwise
		if err := json.Unmarshal(there, &stands); err != nil {
			return err
		}
		stored = (string(there) == "{}" || text(stands) == text(was)) && (ended == 0 || is.Phase == rollout.Ended)
		if !stored {
			return nil
		}
		if _, err := tx.ExecContext(ctx, "UPDATE rollouts SET course = ? WHERE id = ?", text(is), id); err != nil || is.Phase != rollout.Ended {
			return err
		}
		_, err := s.endIfDone(ctx, tx, id, now)
		return err
	})
	return stored && err == nil, err
}

// when is a change that is made where something is so by then.
func when(so *bool, c Change) Change {
	return Change{
		Note: func() []Entry {
			if !*so || c.Note == nil {
				return nil
			}
			return c.Note()
		},
		Then: func() {
			if *so && c.Then != nil {
				c.Then()
			}
		},
	}
}

// Admit lets hosts of a rollout begin.
func (s *Store) Admit(ctx context.Context, id int64, hosts []string, now time.Time, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		rows, err := s.often(ctx, tx, admitSQL).QueryContext(ctx, string(rollout.Waiting), unix(now), id, string(rollout.Queued), texts(hosts))
		parts, err := scanned[int](rows, err)
		if err != nil {
			return err
		}
		moved := map[int]int{}
		for _, part := range parts {
			moved[part]++
		}
		for _, part := range slices.Sorted(maps.Keys(moved)) {
			if err := s.countMoved(ctx, tx, id, part, rollout.Queued, rollout.Waiting, moved[part]); err != nil {
				return err
			}
		}
		return nil
	})
}

// TakeOut takes a host out of a rollout before it has begun. The error is a
// *rollout.PlaceError where it has. c is told whether that ended it.
func (s *Store) TakeOut(ctx context.Context, id int64, host string, now time.Time, e rollout.Event, c func(ended bool) Change) error {
	ended := false
	return s.doAll(ctx, late(func() Change { return c(ended) }), func(ctx context.Context, tx *sql.Tx) error {
		if err := s.move(ctx, tx, id, host, e, now); err != nil {
			return err
		}
		var err error
		ended, err = s.endIfDone(ctx, tx, id, now)
		return err
	})
}

// Queued is a host that waits for its turn in a rollout.
type Queued struct {
	Part int
	Host string
}

// QueuedIn returns the hosts that wait for their turn in the stages of a rollout that are open,
// by part and name: the first of those after one, at most so many. Nil is before the first.
func (s *Store) QueuedIn(ctx context.Context, r *Rollout, opened int, after *Queued, most int) ([]Queued, error) {
	state := string(rollout.Queued)
	parts, err := column[int](ctx, s.read,
		"SELECT part FROM rollout_counts WHERE rollout = ? AND state = ? AND hosts > 0 ORDER BY part", r.ID, state)
	if err != nil {
		return nil, err
	}
	var out []Queued
	for _, part := range parts {
		if part < 0 || part >= len(r.Parts) || r.Parts[part].Stage >= opened || after != nil && part < after.Part {
			continue
		}
		from := ""
		if after != nil && part == after.Part {
			from = after.Host
		}
		hosts, err := column[string](ctx, s.read, `SELECT host FROM rollout_hosts
			WHERE rollout = ? AND state = ? AND part = ? AND host > ? ORDER BY host LIMIT ?`, r.ID, state, part, from, most-len(out))
		if err != nil {
			return nil, err
		}
		for _, h := range hosts {
			out = append(out, Queued{part, h})
		}
		if len(out) == most {
			break
		}
	}
	return out, nil
}

// PlaceOf returns the place of a host in a rollout; Gone where it has none.
func (s *Store) PlaceOf(ctx context.Context, id int64, host string) (st rollout.State, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT state FROM rollout_hosts WHERE rollout = ? AND host = ?", id, host).Scan(&st)
	if errors.Is(err, sql.ErrNoRows) {
		return rollout.Gone, nil
	}
	return st, err
}

// FailedReport is a report that hosts failed with.
type FailedReport struct {
	Report []byte // JSON
	Hosts  int
	First  string
}

// FailedReports returns what the hosts that failed said, what many said once, the commonest first.
func (s *Store) FailedReports(ctx context.Context, id int64, most int) (out []FailedReport, err error) {
	rows, err := s.read.QueryContext(ctx, `SELECT coalesce(r.body, ''), count(*), min(h.host) FROM rollout_hosts h INDEXED BY rollout_hosts_by_state
		LEFT JOIN reports r ON r.id = h.report WHERE h.rollout = ? AND h.state = ? GROUP BY h.report ORDER BY 2 DESC, 3 LIMIT ?`,
		id, string(rollout.Failed), most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var f FailedReport
		var body []byte
		if err := rows.Scan(&body, &f.Hosts, &f.First); err != nil {
			return nil, err
		}
		if f.Report, err = s.unpackReport(body); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, rows.Err()
}

// RolloutParts returns in which part of a rollout each of its hosts stands, by name.
func (s *Store) RolloutParts(ctx context.Context, id int64) (map[string]int32, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT host, part FROM rollout_hosts WHERE rollout = ?", id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int32{}
	for rows.Next() {
		var host string
		var part int32
		if err := rows.Scan(&host, &part); err != nil {
			return nil, err
		}
		out[host] = part
	}
	return out, rows.Err()
}

// Changed is a host that a rollout has changed.
type Changed struct {
	Host   string
	Part   int
	Known  bool // what stood there before
	Before Before
	Since  int64 // a newer rollout that has changed it too; 0: none
}

// Changed returns the hosts that a rollout has changed.
func (s *Store) Changed(ctx context.Context, id int64) (out []Changed, err error) {
	rows, err := s.read.QueryContext(ctx, `SELECT r.host, r.part, r.before, coalesce((SELECT max(n.rollout)
		FROM rollout_hosts n INDEXED BY rollout_hosts_by_host WHERE n.host = r.host AND n.rollout > r.rollout AND `+itsTurn("n")+` AND n.state = ?1), 0)
		FROM rollout_hosts r WHERE r.rollout = ?2 AND r.state = ?1 ORDER BY r.host`, string(rollout.Done), id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var c Changed
		var before []byte
		if err := rows.Scan(&c.Host, &c.Part, &before, &c.Since); err != nil {
			return nil, err
		}
		if c.Known = len(before) > 0; !c.Known {
			out = append(out, c)
			continue
		}
		if err := json.Unmarshal(before, &c.Before); err != nil {
			return nil, fmt.Errorf("what %s had before rollout %d: %w", c.Host, id, err)
		}
		out = append(out, c)
	}
	return out, rows.Err()
}

// BeforeDocuments returns the sheets and surveys that hosts had before rollouts that have not
// ended, or ended after a time: they can be taken back.
func (s *Store) BeforeDocuments(ctx context.Context, after time.Time) (sheets, surveys []string, err error) {
	const from = ` FROM rollout_hosts WHERE before <> '' AND rollout IN (SELECT id FROM rollouts WHERE ended = 0 OR ended > ?)`
	ask := func(path string) ([]string, error) {
		return column[string](ctx, s.read, "SELECT DISTINCT coalesce(json_extract(before, '"+path+"'), '')"+from, unix(after))
	}
	for _, path := range []string{"$.carried.sheet", "$.carried.base.sheet"} {
		list, err := ask(path)
		if err != nil {
			return nil, nil, err
		}
		sheets = append(sheets, list...)
	}
	for _, path := range []string{"$.survey", "$.carried.survey", "$.carried.base.survey"} {
		list, err := ask(path)
		if err != nil {
			return nil, nil, err
		}
		surveys = append(surveys, list...)
	}
	return sheets, surveys, nil
}

// BeforeOf returns what a host had before a rollout changed it.
func (s *Store) BeforeOf(ctx context.Context, id int64, host string) (b Before, err error) {
	var body []byte
	err = s.read.QueryRowContext(ctx, "SELECT before FROM rollout_hosts WHERE rollout = ? AND host = ? AND before <> ''", id, host).Scan(&body)
	if err != nil {
		return b, fmt.Errorf("what %s had before rollout %d: %w", host, id, err)
	}
	return b, json.Unmarshal(body, &b)
}

// Freeze says that no host of a group begins with a change.
type Freeze struct {
	ID      int64
	Scope   string // a group; empty: the whole fleet
	Author  string
	Because string
	Begun   time.Time
	Until   time.Time
	Ended   time.Time // when somebody ended it before that; zero: nobody has
}

// Stands reports whether a freeze holds at a time.
func (f *Freeze) Stands(now time.Time) bool { return f.Ended.IsZero() && now.Before(f.Until) }

// PutFreeze stores a freeze, whose number it fills in where it has none.
func (s *Store) PutFreeze(ctx context.Context, f *Freeze, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		if f.ID != 0 {
			_, err := tx.ExecContext(ctx, "UPDATE freezes SET ended = ? WHERE id = ?", unix(f.Ended), f.ID)
			return err
		}
		return tx.QueryRowContext(ctx, "INSERT INTO freezes (scope, author, because, begun, until) VALUES (?, ?, ?, ?, ?) RETURNING id",
			f.Scope, f.Author, f.Because, unix(f.Begun), unix(f.Until)).Scan(&f.ID)
	})
}

// Freezes returns all freezes, the newest first.
func (s *Store) Freezes(ctx context.Context) (out []Freeze, err error) {
	rows, err := s.read.QueryContext(ctx, "SELECT id, scope, author, because, begun, until, ended FROM freezes ORDER BY id DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var f Freeze
		var begun, until, ended int64
		if err := rows.Scan(&f.ID, &f.Scope, &f.Author, &f.Because, &begun, &until, &ended); err != nil {
			return nil, err
		}
		f.Begun, f.Until, f.Ended = fromUnix(begun), fromUnix(until), fromUnix(ended)
		out = append(out, f)
	}
	return out, rows.Err()
}
