package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"time"

	"patientlantern.example/lantern/core/rollout"
)

// RolloutHostsQuery says which hosts of a rollout are wanted.
type RolloutHostsQuery struct {
	States []rollout.State // empty: all
	Part   string          // of the name
	Limit  int             // 0: all
	Offset int
}

// placeOrder puts first what somebody has to look at, and last what is well.
var placeOrder = []rollout.State{
	rollout.Failed, rollout.Behind, rollout.Skipped, rollout.Working, rollout.Waiting, rollout.Done, rollout.Unchanged, rollout.Queued,
}

// RolloutHosts returns how far the hosts of a rollout are: a page of them, those first
// which failed, and how many there are. No more rows are read than are shown.
func (s *Store) RolloutHosts(ctx context.Context, id int64, q RolloutHostsQuery) (list []RolloutHost, total int, err error) {
	if q.Limit == 0 {
		q.Limit = math.MaxInt
	}
	counts, err := s.countPlaces(ctx, id, q.Part)
	if err != nil {
		return nil, 0, err
	}
	for _, place := range placeOrder {
		if len(q.States) > 0 && !slices.Contains(q.States, place) {
			continue
		}
		count := counts[place]
		from := max(q.Offset-total, 0)
		total += count
		if count == 0 || from >= count || len(list) >= q.Limit {
			continue
		}
		part, err := s.atPlace(ctx, id, place, q.Part, q.Limit-len(list), from)
		if err != nil {
			return nil, 0, err
		}
		list = append(list, part...)
	}
	return list, total, nil
}

// countPlaces counts the hosts of a rollout at each place, those with part in their name.
func (s *Store) countPlaces(ctx context.Context, id int64, part string) (map[rollout.State]int, error) {
	query, args := "SELECT state, sum(hosts) FROM rollout_counts WHERE rollout = ? GROUP BY state", []any{id}
	if part != "" {
		query, args = "SELECT state, count(*) FROM rollout_hosts WHERE rollout = ? AND instr(host, ?) > 0 GROUP BY state", append(args, part)
	}
	rows, err := s.read.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[rollout.State]int{}
	for rows.Next() {
		var place rollout.State
		var hosts int
		if err := rows.Scan(&place, &hosts); err != nil {
			return nil, err
		}
		out[place] = hosts
	}
	return out, rows.Err()
}

func (s *Store) atPlace(ctx context.Context, id int64, place rollout.State, part string, limit, offset int) ([]RolloutHost, error) {
	rows, err := s.read.QueryContext(ctx, `SELECT h.rollout, h.host, h.state, coalesce(r.body, ''), h.took, h.part, h.updated
		FROM rollout_hosts h LEFT JOIN reports r ON r.id = h.report
		WHERE h.rollout = ? AND h.state = ? AND (? = '' OR instr(h.host, ?) > 0) ORDER BY h.host LIMIT ? OFFSET ?`,
		id, string(place), part, part, limit, offset)
	if err != nil {
		return nil, err
	}
	return s.scanRolloutHosts(rows)
}

func (s *Store) scanRolloutHosts(rows *sql.Rows) (out []RolloutHost, err error) {
	defer rows.Close()
	for rows.Next() {
		var h RolloutHost
		var updated int64
		var body []byte
		if err := rows.Scan(&h.Rollout, &h.Host, &h.State, &body, &h.Took, &h.Part, &updated); err != nil {
			return nil, err
		}
		if h.Report, err = s.unpackReport(body); err != nil {
			return nil, fmt.Errorf("the report of %s on rollout %d is damaged: %w", h.Host, h.Rollout, err)
		}
		h.Updated = fromUnix(updated)
		out = append(out, h)
	}
	return out, rows.Err()
}

// RolloutNames returns the names of the hosts of a rollout at some places.
func (s *Store) RolloutNames(ctx context.Context, id int64, states ...rollout.State) (out []string, err error) {
	for _, st := range states {
		at, err := column[string](ctx, s.read, "SELECT host FROM rollout_hosts WHERE rollout = ? AND state = ?", id, string(st))
		if err != nil {
			return nil, err
		}
		out = append(out, at...)
	}
	return out, nil
}

// LastReport returns what a host said of the newest rollout that it carried out.
func (s *Store) LastReport(ctx context.Context, host string) (RolloutHost, error) {
	rows, err := s.read.QueryContext(ctx, `SELECT h.rollout, h.host, h.state, coalesce(r.body, ''), h.took, h.part, h.updated
		FROM rollout_hosts h INDEXED BY rollout_hosts_by_host LEFT JOIN reports r ON r.id = h.report
		WHERE h.host = ? AND `+itsTurn("h")+` AND h.state IN (?, ?, ?) ORDER BY h.rollout DESC LIMIT 1`,
		host, string(rollout.Done), string(rollout.Unchanged), string(rollout.Failed))
	if err != nil {
		return RolloutHost{}, err
	}
	list, err := s.scanRolloutHosts(rows)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("report of %s: %w", host, ErrNotFound)
	}
	if err != nil {
		return RolloutHost{}, err
	}
	return list[0], nil
}

// mostForgotten bounds how many rows one transaction forgets.
const mostForgotten = 20_000

// Forget takes what hosts said of rollouts that ended before a time out of the database,
// but for each host's newest, and entries of the journal about hosts that are older. How
// many hosts there were at each place stays. It returns the rows that went.
func (s *Store) Forget(ctx context.Context, before time.Time) (rows int64, err error) {
	for {
		n, err := s.forgetSome(ctx, before)
		rows += n
		if err != nil {
			return rows, err
		}
		if n == 0 {
			break
		}
	}
	if err := s.forgetAnswers(ctx); rows == 0 || err != nil {
		return rows, err
	}
	return rows, s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM reports WHERE id NOT IN (SELECT report FROM rollout_hosts)")
		return err
	})
}

// forgetSome looks for what is old beside the writer, which others wait for, and lets that
// take it out.
func (s *Store) forgetSome(ctx context.Context, before time.Time) (int64, error) {
	old, err := column[int64](
		ctx,
		s.read,
		"SELECT seq FROM journal WHERE kind = 'host' AND at < ? AND hash IS NULL LIMIT ?",
		unix(before),
		mostForgotten,
	)
	if err != nil {
		return 0, err
	}
	said, err := column[string](
		ctx,
		s.read,
		`SELECT json_array(r.rollout, r.host) FROM rollout_hosts r JOIN rollouts o ON o.id = r.rollout
		WHERE o.ended > 0 AND o.ended < ? AND EXISTS (SELECT 1 FROM rollout_hosts n INDEXED BY rollout_hosts_by_host
			WHERE n.host = r.host AND n.rollout > r.rollout AND `+itsTurn("n")+`) LIMIT ?`,
		unix(before),
		mostForgotten,
	)
	if err != nil || len(old)+len(said) == 0 {
		return 0, err
	}
	seqs, err := json.Marshal(old)
	if err != nil {
		return 0, err
	}
	return int64(len(old) + len(said)), s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM journal WHERE seq IN (SELECT value FROM json_each(?))", string(seqs)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM rollout_hosts WHERE (rollout, host) IN
			(SELECT json_extract(value, '$[0]'), json_extract(value, '$[1]') FROM json_each(?))`, texts(said))
		return err
	})
}
