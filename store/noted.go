package store

import (
	"context"
	"database/sql"
	"errors"
	"hash/maphash"
	"time"
)

const (
	putPastSQL = "INSERT INTO past_new (host, at, traits, survey, sheet, before, base_sheet, base_survey, revision) " +
		"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)"
	findTextSQL = "SELECT id FROM past_texts WHERE text = ?"
	addTextSQL  = "INSERT INTO past_texts (text) VALUES (?)"
	hadSQL      = "SELECT survey, sheet, carried FROM hosts WHERE id = ?"
)

// mostTexts bounds how many texts of the history are remembered.
const mostTexts = 20_000

// Rows of the history are put in order where nobody writes, so many at once, and once there are so many: the more there
// are, the more of them share a page of their host. Where somebody always writes, they wait until there are too many.
const (
	fewNew  = 8_192
	mostNew = 131_072
	quiet   = 50 * time.Millisecond
)

// noted is what the writer remembers of the history, so that a row is noted without looking up
// again what stands in it. Nothing of it is believed after a write that was taken back.
type noted struct {
	put, find, add, had *sql.Stmt
	of                  bound               // the transaction under way
	hosts               map[int64]notedHost // by the number of their rows
	texts               map[string]int64
	fresh               int // rows that are not in order yet, those of writes that were taken back among them
}

// notedHost is what was noted last of a host: its name, what it had and what of its row seldom
// changes, by their hashes, and the number under which its name stands.
type notedHost struct {
	name, had uint64
	lasting   uint64 // 0: it is not known
	id        int64
}

// bound are the statements of a row and its history in the transaction under way.
type bound struct{ row, fresh, put, find, add, had *sql.Stmt }

// forget gives up what is remembered.
func (n *noted) forget() { n.hosts, n.texts = map[int64]notedHost{}, map[string]int64{} }

var seed = maphash.MakeSeed()

// hashed is a hash of texts, which are told apart.
func hashed(texts ...string) uint64 {
	var h maphash.Hash
	h.SetSeed(seed)
	for _, text := range texts {
		h.WriteString(text)
		h.WriteByte(0)
	}
	return h.Sum64()
}

// know learns what stands in a row before it is written, where that is not remembered.
func (n *noted) know(ctx context.Context, h *Host) error {
	if n.hosts == nil {
		n.forget()
	}
	name := maphash.String(seed, h.Name)
	if h.Survey == "" || n.hosts[h.ID].name == name {
		return nil
	}
	var survey, sheet, carried string
	err := n.of.had.QueryRowContext(ctx, h.ID).Scan(&survey, &sheet, &carried)
	if errors.Is(err, sql.ErrNoRows) {
		return nil // no row, and none is written
	}
	if err != nil {
		return err
	}
	known := notedHost{name: name, had: hashed(survey, sheet, carried)}
	if known.id, err = n.look(ctx, h.Name); err != nil { // names are too many to be kept among the texts
		return err
	}
	n.hosts[h.ID] = known
	return nil
}

// note writes what a host has from now on, where it is something else than before. lasting is
// the hash of what of its row seldom changes.
func (n *noted) note(ctx context.Context, h *Host, carried string, lasting uint64) error {
	known, there := n.hosts[h.ID]
	now := hashed(h.Survey, h.Sheet, carried)
	if h.Survey == "" {
		delete(n.hosts, h.ID)
		return nil
	}
	if !there {
		return nil
	}
	known.lasting = lasting
	if known.had == now {
		n.hosts[h.ID] = known
		return nil
	}
	values := [9]any{known.id, unix(h.LastSeen)}
	base := h.Carried.Base
	for i, text := range []string{h.Traits, h.Survey, h.Sheet, h.Carried.Sheet, base.Sheet, base.Survey} {
		id, err := n.number(ctx, text)
		if err != nil {
			return err
		}
		values[2+i] = id
	}
	values[8] = h.Revision
	if _, err := n.of.put.ExecContext(ctx, values[:]...); err != nil {
		return err
	}
	n.fresh++
	known.had = now
	n.hosts[h.ID] = known
	return nil
}

// orderPast puts the oldest of the new rows of the history where those of their hosts stand. It has a transaction of
// its own: where it cannot be done, they stay where they are, and it is tried again when there are as many more.
func (s *Store) orderPast() {
	ctx := context.Background()
	moved := int64(0)
	tx, err := s.write.BeginTx(ctx, nil)
	if err == nil {
		defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
		if moved, err = putInOrder(ctx, tx, fewNew); err == nil {
			err = tx.Commit()
		}
	}
	if s.past.fresh -= int(moved); err != nil || moved == 0 {
		s.past.fresh = 0
	}
}

// putInOrder puts so many of the oldest new rows of the history in order, and returns how many there were.
func putInOrder(ctx context.Context, tx *sql.Tx, most int64) (int64, error) {
	const oldest = " FROM past_new WHERE id < (SELECT min(id) FROM past_new) + ?"
	if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO past SELECT host, at, traits, survey, sheet, before, base_sheet, base_survey, "+
		"revision"+oldest+" ORDER BY host, at, id", most); err != nil {
		return 0, err
	}
	done, err := tx.ExecContext(ctx, "DELETE"+oldest, most)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// countPast learns how many rows of the history are not in order.
func (s *Store) countPast(ctx context.Context) error {
	return s.read.QueryRowContext(ctx, "SELECT count(*) FROM past_new").Scan(&s.past.fresh)
}

// number is that of a text of the history.
func (n *noted) number(ctx context.Context, text string) (int64, error) {
	if id, known := n.texts[text]; known {
		return id, nil
	}
	id, err := n.look(ctx, text)
	if err != nil {
		return 0, err
	}
	if len(n.texts) >= mostTexts {
		n.texts = map[string]int64{}
	}
	n.texts[text] = id
	return id, nil
}

// look finds the number of a text in the database, to which it is added where it is new.
func (n *noted) look(ctx context.Context, text string) (id int64, err error) {
	err = n.of.find.QueryRowContext(ctx, text).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		var res sql.Result
		if res, err = n.of.add.ExecContext(ctx, text); err == nil {
			id, err = res.LastInsertId()
		}
	}
	return id, err
}
