package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"patientlantern.example/lantern/core/rollout"
)

// Stopped is what stopping a rollout came to.
type Stopped struct {
	Hosts []string // have the task no more
	Ended bool
}

// ErrEnded is returned for what a rollout that has ended would have to be under way for, and ErrMoved where it has gone on since it
// was looked at.
var (
	ErrEnded = errors.New("the rollout has ended")
	ErrMoved = errors.New("the rollout has gone on at this moment; look at it, and try again")
)

// StopRollout takes the task away from the hosts that have not begun it, and leaves those
// of gone behind, which are at work and give no sign of life. It ends the rollout when
// nobody else is at work. Where it has to be in a phase and is in another one it is left alone; empty: any will do.
func (s *Store) StopRollout(ctx context.Context, id int64, phase rollout.Phase, gone []string, now time.Time, c func(Stopped) Change,
) (Stopped, error) {
	var out Stopped
	err := s.doAll(ctx, late(func() Change { return c(out) }), func(ctx context.Context, tx *sql.Tx) error {
		out = Stopped{}
		var ended int64
		var course []byte
		if err := tx.QueryRowContext(ctx, "SELECT ended, course FROM rollouts WHERE id = ?", id).Scan(&ended, &course); err != nil {
			return err
		}
		var is rollout.Course
		if err := json.Unmarshal(course, &is); err != nil {
			return err
		}
		switch {
		case ended != 0:
			return ErrEnded
		case phase != "" && is.Phase != phase:
			return ErrMoved
		}
		if _, err := tx.ExecContext(ctx, `UPDATE rollout_hosts SET state = ?, updated = ?
			WHERE rollout = ? AND state = ? AND host IN (SELECT value FROM json_each(?))`,
			string(rollout.Behind), unix(now), id, string(rollout.Working), texts(gone)); err != nil {
			return err
		}
		var err error
		if out.Hosts, err = column[string](
			ctx,
			tx,
			"DELETE FROM rollout_hosts WHERE rollout = ? AND state IN (?, ?) RETURNING host",
			id,
			string(rollout.Waiting),
			string(rollout.Queued),
		); err != nil {
			return err
		}
		// Who was left behind does not catch up with what was stopped.
		left, err := column[string](ctx, tx, "SELECT host FROM rollout_hosts WHERE rollout = ? AND state = ?", id, string(rollout.Behind))
		if err != nil {
			return err
		}
		out.Hosts = append(out.Hosts, left...)
		if _, err := tx.ExecContext(ctx, "UPDATE rollouts SET stopped = ? WHERE id = ? AND stopped = 0", unix(now), id); err != nil {
			return err
		}
		if err := recount(ctx, tx, id); err != nil {
			return err
		}
		out.Ended, err = s.endIfDone(ctx, tx, id, now)
		return err
	})
	return out, err
}
