package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Proposal is a policy folder that somebody proposes to publish. The folder never changes.
type Proposal struct {
	Number   int64
	Policy   string // digest of the folder
	Base     int64  // the newest revision when it was proposed; 0: there was none
	Author   string
	Message  string
	Created  time.Time
	Agreed   string // who agreed; empty: nobody yet
	AgreedAt time.Time
	Ended    time.Time // zero: it is open
	Revision int64     // what it became; 0: nothing
}

const proposalColumns = "number, policy, base, author, message, created, agreed, agreedat, ended, revision"

// Propose stores a proposal, whose number it fills in.
func (s *Store) Propose(ctx context.Context, p *Proposal, folder []byte, c func(p *Proposal) Change) error {
	if err := s.PutDocuments(ctx, p.Created, Document{Digest: p.Policy, Kind: KindPolicy, Body: folder}); err != nil {
		return err
	}
	return s.doAll(ctx, late(func() Change { return c(p) }), func(ctx context.Context, tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, "INSERT INTO proposals (policy, base, author, message, created) VALUES (?, ?, ?, ?, ?) RETURNING number",
			p.Policy, p.Base, p.Author, p.Message, unix(p.Created)).
			Scan(&p.Number)
	})
}

// AgreeTo notes who agrees to a proposal that is open and that nobody agreed to.
func (s *Store) AgreeTo(ctx context.Context, number int64, by string, now time.Time, c Change) error {
	return s.changeProposal(
		ctx,
		c,
		number,
		"UPDATE proposals SET agreed = ?, agreedat = ? WHERE number = ? AND ended = 0 AND agreed = ''",
		by,
		unix(now),
		number,
	)
}

// WithdrawProposal ends a proposal that is open.
func (s *Store) WithdrawProposal(ctx context.Context, number int64, now time.Time, c Change) error {
	return s.changeProposal(ctx, c, number, "UPDATE proposals SET ended = ? WHERE number = ? AND ended = 0", unix(now), number)
}

func (s *Store) changeProposal(ctx context.Context, c Change, number int64, query string, args ...any) error {
	return s.doAll(ctx, c, func(ctx context.Context, tx *sql.Tx) error { return changeOne(ctx, tx, number, query, args...) })
}

// changeOne changes a proposal; ErrNotFound where it is not as it has to be.
func changeOne(ctx context.Context, tx *sql.Tx, number int64, query string, args ...any) error {
	res, err := tx.ExecContext(ctx, query, args...)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return fmt.Errorf("proposal %d: %w", number, ErrNotFound)
}

func scanProposal(row scanner) (p Proposal, err error) {
	var created, agreed, ended int64
	err = row.Scan(&p.Number, &p.Policy, &p.Base, &p.Author, &p.Message, &created, &p.Agreed, &agreed, &ended, &p.Revision)
	if errors.Is(err, sql.ErrNoRows) {
		return p, fmt.Errorf("proposal: %w", ErrNotFound)
	}
	p.Created, p.AgreedAt, p.Ended = fromUnix(created), fromUnix(agreed), fromUnix(ended)
	return p, err
}

// Proposal returns one proposal.
func (s *Store) Proposal(ctx context.Context, number int64) (Proposal, error) {
	return scanProposal(s.read.QueryRowContext(ctx, "SELECT "+proposalColumns+" FROM proposals WHERE number = ?", number))
}

// Proposals returns proposals, the newest first: a page of them, and how many there are.
func (s *Store) Proposals(ctx context.Context, open bool, limit, offset int) (out []Proposal, total int, err error) {
	where := ""
	if open {
		where = " WHERE ended = 0"
	}
	if err := s.read.QueryRowContext(ctx, "SELECT count(*) FROM proposals"+where).Scan(&total); err != nil {
		return nil, 0, err
	}
	rows, err := s.read.QueryContext(
		ctx,
		"SELECT "+proposalColumns+" FROM proposals"+where+" ORDER BY number DESC LIMIT ? OFFSET ?",
		limit,
		offset,
	)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		p, err := scanProposal(rows)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, p)
	}
	return out, total, rows.Err()
}
