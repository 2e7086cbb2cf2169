package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"patientlantern.example/lantern/core/subscription"
)

// Account is the organisation's account at a vendor's desk.
type Account struct {
	Name      string
	Title     string
	Desk      string // URL
	Login     []byte // encrypted
	Author    string
	Created   time.Time
	Contracts []subscription.Contract // as the desk last told them
	Answered  time.Time               // when it last did
	Trouble   string                  // why it does not answer, or empty
	Since     time.Time               // since when it does not
}

// Seat is a seat with the access that goes with it.
type Seat struct {
	subscription.Seat
	Automatic  bool
	Leaving    bool // to be given back; the desk has not heard of it yet
	Kind       string
	Access     []byte // encrypted
	Expires    time.Time
	Issued     time.Time
	Generation int64
}

// PutAccount stores an account under its name.
func (s *Store) PutAccount(ctx context.Context, a Account, c Change) error {
	contracts, err := json.Marshal(append([]subscription.Contract{}, a.Contracts...))
	if err != nil {
		return err
	}
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			`INSERT INTO accounts (name, title, desk, login, author, created, contracts, answered, trouble, since) VALUES (?, ?, ?, ?, ?, ?, ?,
				?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET title = excluded.title, desk = excluded.desk, login = excluded.login, contracts =
				excluded.contracts, answered = excluded.answered, trouble = excluded.trouble, since = excluded.since`,
			a.Name,
			a.Title,
			a.Desk,
			a.Login,
			a.Author,
			unix(a.Created),
			string(contracts),
			unix(a.Answered),
			a.Trouble,
			unix(a.Since),
		)
		return err
	})
}

// NoteAccount keeps what an account's desk told of it, and how it answers. Its title, address and login
// stay as they are kept, for they may have been changed meanwhile; one that is gone stays so.
func (s *Store) NoteAccount(ctx context.Context, a Account, c Change) error {
	contracts, err := json.Marshal(append([]subscription.Contract{}, a.Contracts...))
	if err != nil {
		return err
	}
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE accounts SET contracts = ?, answered = ?, trouble = ?, since = ? WHERE name = ?",
			string(contracts), unix(a.Answered), a.Trouble, unix(a.Since), a.Name)
		return err
	})
}

// RemoveAccount forgets an account, its seats with it.
func (s *Store) RemoveAccount(ctx context.Context, name string, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM accounts WHERE name = ?", name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("account %s: %w", name, ErrNotFound))
		}
		return nil
	})
}

// Accounts returns all accounts, by name.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	rows, err := s.read.QueryContext(
		ctx,
		"SELECT name, title, desk, login, author, created, contracts, answered, trouble, since FROM accounts ORDER BY name",
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Account
	for rows.Next() {
		var a Account
		var contracts []byte
		var created, answered, since int64
		if err := rows.Scan(&a.Name, &a.Title, &a.Desk, &a.Login, &a.Author, &created, &contracts, &answered, &a.Trouble, &since); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(contracts, &a.Contracts); err != nil {
			return nil, fmt.Errorf("account %s: %w", a.Name, err)
		}
		a.Created, a.Answered, a.Since = fromUnix(created), fromUnix(answered), fromUnix(since)
		out = append(out, a)
	}
	return out, rows.Err()
}

// PutSeats stores seats, new or changed, and takes others out, all or nothing.
func (s *Store) PutSeats(ctx context.Context, put, gone []Seat, c Change) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error {
		for _, x := range gone {
			if _, err := tx.ExecContext(
				ctx,
				"DELETE FROM seats WHERE host = ? AND account = ? AND contract = ?",
				x.Host,
				x.Account,
				x.Contract,
			); err != nil {
				return err
			}
		}
		for _, x := range put {
			if _, err := tx.ExecContext(ctx, `INSERT INTO seats (host, account, contract, taken, author, why, automatic, leaving, kind, access,
				expires, issued, generation) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
				ON CONFLICT (host, account, contract) DO UPDATE SET taken = excluded.taken, author = excluded.author, why = excluded.why, automatic
					= excluded.automatic, leaving = excluded.leaving,
				kind = excluded.kind, access = excluded.access, expires = excluded.expires, issued = excluded.issued, generation = excluded.generation`,
				x.Host, x.Account, x.Contract, unix(x.Taken), x.By, x.Why, x.Automatic, x.Leaving, x.Kind, append([]byte{},
					x.Access...), unix(x.Expires), unix(x.Issued), x.Generation); err != nil {
				return err
			}
		}
		return nil
	})
}

// Seats returns all seats, by host.
func (s *Store) Seats(ctx context.Context) ([]Seat, error) {
	rows, err := s.read.QueryContext(
		ctx,
		"SELECT host, account, contract, taken, author, why, automatic, leaving, kind, access, expires, issued, generation FROM seats "+
			"ORDER BY host, account, contract",
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Seat
	for rows.Next() {
		var x Seat
		var taken, expires, issued int64
		if err := rows.Scan(
			&x.Host,
			&x.Account,
			&x.Contract,
			&taken,
			&x.By,
			&x.Why,
			&x.Automatic,
			&x.Leaving,
			&x.Kind,
			&x.Access,
			&expires,
			&issued,
			&x.Generation,
		); err != nil {
			return nil, err
		}
		x.Taken, x.Expires, x.Issued = fromUnix(taken), fromUnix(expires), fromUnix(issued)
		out = append(out, x)
	}
	return out, rows.Err()
}

// SeatCount is how many seats of a contract were taken from a time on.
type SeatCount struct {
	Account  string
	Contract string
	At       time.Time
	Used     int
	Seats    int
}

// PutSeatCounts notes how many seats are taken at a time, where that differs from the last
// note. list is of every contract that there is: of one that was noted before and is gone, no
// seat is taken any more.
func (s *Store) PutSeatCounts(ctx context.Context, at time.Time, list []SeatCount) error {
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		for _, c := range list {
			var used, seats int
			err := tx.QueryRowContext(
				ctx,
				"SELECT used, seats FROM seat_counts WHERE account = ? AND contract = ? ORDER BY at DESC LIMIT 1",
				c.Account,
				c.Contract,
			).
				Scan(&used, &seats)
			if err == nil && used == c.Used && seats == c.Seats {
				continue
			}
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO seat_counts (account, contract, at, used, seats) VALUES (?, ?, ?, ?, ?) ON "+
				"CONFLICT (account, contract, at) DO UPDATE SET used = excluded.used, seats = excluded.seats",
				c.Account, c.Contract, unix(c.At), c.Used, c.Seats); err != nil {
				return err
			}
		}
		return noSeats(ctx, tx, at, list)
	})
}

// noSeats notes that of contracts which are not in a list no seat is taken.
func noSeats(ctx context.Context, tx *sql.Tx, at time.Time, list []SeatCount) error {
	names := [][2]string{}
	for _, c := range list {
		names = append(names, [2]string{c.Account, c.Contract})
	}
	there, err := json.Marshal(names)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO seat_counts (account, contract, at, used, seats)
		SELECT account, contract, ?1, 0, seats FROM seat_counts c
			WHERE used > 0 AND at = (SELECT max(at) FROM seat_counts b WHERE b.account = c.account AND b.contract = c.contract)
				AND NOT EXISTS (SELECT 1 FROM json_each(?2) WHERE value ->> 0 = account AND value ->> 1 = contract)
		ON CONFLICT (account, contract, at) DO UPDATE SET used = 0`, unix(at), string(there))
	return err
}

// SeatCounts returns the notes since a time, the oldest first, and for each contract
// the last one before it.
func (s *Store) SeatCounts(ctx context.Context, since time.Time) ([]SeatCount, error) {
	rows, err := s.read.QueryContext(ctx, `SELECT account, contract, at, used, seats FROM seat_counts c
		WHERE at >= ?1 OR at = (SELECT max(at) FROM seat_counts b WHERE b.account = c.account AND b.contract = c.contract AND b.at < ?1)
			ORDER BY at, account, contract`, unix(since))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []SeatCount
	for rows.Next() {
		var c SeatCount
		var at int64
		if err := rows.Scan(&c.Account, &c.Contract, &at, &c.Used, &c.Seats); err != nil {
			return nil, err
		}
		c.At = fromUnix(at)
		out = append(out, c)
	}
	return out, rows.Err()
}
