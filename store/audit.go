package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"
)

// Audited reports whether an entry belongs to the audit chain: what an operator has done,
// what was done to operators by whomever, and what became of rollouts. What hosts say of themselves does not, nor what each host of a
// rollout has of a command: the rollout's own entry and its rows tell that.
func (e *Entry) Audited() bool {
	if e.Kind == "host" && (strings.HasSuffix(e.Command, "-rollout") || e.Command == "heal-hosts") {
		return false
	}
	return !e.Passing && (strings.HasPrefix(e.Actor, "operator:") || e.Kind == "rollout" || e.Kind == "operator")
}

// link is the hash of an entry that follows another.
func (e *Entry) link(before []byte) []byte {
	text, err := json.Marshal([]any{e.Seq, unix(e.At), e.Actor, e.Command, e.Kind, e.Name, e.Why, string(e.Detail)})
	if err != nil {
		panic(err) // texts and numbers always encode
	}
	sum := sha256.New()
	sum.Write(before)
	sum.Write(text)
	return sum.Sum(nil)
}

func (s *Store) loadChain(ctx context.Context) error {
	err := s.read.QueryRowContext(ctx, "SELECT hash FROM journal WHERE hash IS NOT NULL ORDER BY seq DESC LIMIT 1").Scan(&s.chain)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

// Chain is what checking the audit chain came to.
type Chain struct {
	Entries int
	Head    []byte    // hash of the newest entry
	At      time.Time // of it
	Broken  int64     // number of the first entry that does not follow from those before; 0: none
	Met     bool      // the hash that was asked for is one of the chain
}

// VerifyChain checks that every entry of the audit chain is as it was written and that none
// is missing between. Met says whether a hash that somebody noted is still among them: the
// newest entries could be cut off unseen otherwise.
func (s *Store) VerifyChain(ctx context.Context, noted []byte) (c Chain, err error) {
	rows, err := s.read.QueryContext(ctx,
		"SELECT seq, at, actor, command, kind, name, why, detail, hash FROM journal WHERE hash IS NOT NULL ORDER BY seq")
	if err != nil {
		return c, err
	}
	defer rows.Close()
	var before []byte
	for rows.Next() {
		var e Entry
		var at int64
		var detail string
		var hash []byte
		if err := rows.Scan(&e.Seq, &at, &e.Actor, &e.Command, &e.Kind, &e.Name, &e.Why, &detail, &hash); err != nil {
			return c, err
		}
		e.At = fromUnix(at)
		if detail != "" {
			e.Detail = json.RawMessage(detail)
		}
		if c.Broken == 0 && !bytes.Equal(e.link(before), hash) {
			c.Broken = e.Seq
		}
		c.Entries++
		c.Head, c.At = hash, e.At
		c.Met = c.Met || len(noted) > 0 && bytes.Equal(noted, hash)
		before = hash
	}
	return c, rows.Err()
}
