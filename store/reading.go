package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"unique"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/wire"
)

// CountHosts returns how many hosts there are.
func (s *Store) CountHosts(ctx context.Context) (n int, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT count(*) FROM hosts").Scan(&n)
	return n, err
}

// Hosts returns all hosts, by name.
func (s *Store) Hosts(ctx context.Context) ([]*Host, error) {
	var last int64
	if err := s.read.QueryRowContext(ctx, "SELECT COALESCE(MAX(id), 0) FROM hosts").Scan(&last); err != nil {
		return nil, err
	}
	answers, err := s.answers(ctx)
	if err != nil {
		return nil, err
	}
	parts := make([][]*Host, last/hostsAtOnce+1)
	var group errgroup.Group // most of the work is to take rows apart
	group.SetLimit(runtime.GOMAXPROCS(0))
	var turns []turn
	group.Go(func() (err error) {
		turns, err = s.turns(ctx)
		return err
	})
	for i := range parts {
		group.Go(func() (err error) {
			parts[i], err = s.hostsBetween(ctx, int64(i)*hostsAtOnce, int64(i+1)*hostsAtOnce, answers)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	out := slices.Concat(parts...)
	byName := func(a, b *Host) int { return strings.Compare(a.Name, b.Name) }
	if !slices.IsSortedFunc(out, byName) {
		slices.SortFunc(out, byName)
	}
	for _, x := range turns {
		if i, ok := slices.BinarySearchFunc(out, x.host, func(h *Host, name string) int { return strings.Compare(h.Name, name) }); ok {
			out[i].Task, out[i].Stage = x.rollout, rollout.State(x.state)
		}
	}
	return out, nil
}

// hostsAtOnce is how many numbers of hosts one query looks at.
const hostsAtOnce = 4096

// What of a row is text, by its place in textColumns.
const (
	labelsText = iota
	traitsText
	surveyText
	sheetText
	carriedText
	sinceText
	freeText
	accessText
	agentText
	troubleText
	packagesText
	failureText
	zoneText
	watchedText
	tracedText
	textCount
)

var textColumns = strings.Join((&[textCount]string{
	labelsText: "labels", traitsText: "traits", surveyText: "survey", sheetText: "sheet", carriedText: "carried", sinceText: "since",
	freeText: "free", accessText: "access", agentText: "agent", troubleText: "trouble", packagesText: "packages", failureText: "failure",
	zoneText: "zone", watchedText: "watched", tracedText: "traced",
})[:], ", ")

// hostRows selects the hosts whose numbers are from the first to before the second. What is text comes in one column: a driver
// takes longer over a column than over what stands in it.
var hostRows = "SELECT id, name, key, joined, last_seen, revision, unfetched, form, concat_ws(char(31), " + textColumns +
	") FROM hosts WHERE id >= ? AND id < ?"

// hostsBetween returns the hosts whose numbers are from the first to before the second.
func (s *Store) hostsBetween(ctx context.Context, from, before int64, answers map[string]*Answer) ([]*Host, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx) // so few rows are not waited for, and a context that may end is asked at each
	rows, err := s.read.QueryContext(ctx, hostRows, from, before)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	r := hostReader{known: shared{}, labels: map[string]map[string]string{}, answers: answers}
	var out, odd []*Host
	var names strings.Builder // of all, one after the other: small pieces between others keep much room
	var keys []byte           // likewise
	var ends [][2]int
	var joined, seen int64
	var name, key, texts sql.RawBytes // of one row
	for rows.Next() {
		h := &Host{}
		if err := rows.Scan(&h.ID, &name, &key, &joined, &seen, &h.Revision, &h.Unfetched, &h.Form, &texts); err != nil {
			return nil, err
		}
		h.Joined, h.LastSeen = fromUnix(joined), fromUnix(seen)
		if !r.cut(texts) {
			odd = append(odd, h)
		} else if err := r.texts(h); err != nil {
			return nil, fmt.Errorf("host %s: %w", name, err)
		}
		names.Write(name)
		keys = append(keys, key...)
		ends = append(ends, [2]int{names.Len(), len(keys)})
		out = append(out, h)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	var begun [2]int
	for i, end := range ends {
		out[i].Name = names.String()[begun[0]:end[0]]
		out[i].Key = keys[begun[1]:end[1]:end[1]]
		begun = end
	}
	for _, h := range odd {
		if err := s.textsOf(ctx, &r, h); err != nil {
			return nil, fmt.Errorf("host %s: %w", h.Name, err)
		}
	}
	return out, nil
}

// hostReader takes the texts of rows apart.
type hostReader struct {
	known   shared
	labels  map[string]map[string]string // by their text: many hosts have the same, and nobody writes to them
	answers map[string]*Answer
	fields  [textCount][]byte // of the row at hand
}

// cut parts the texts of a row; false where one of them has a separator in it.
func (r *hostReader) cut(texts []byte) bool {
	for i := range r.fields[:textCount-1] {
		end := bytes.IndexByte(texts, '\x1f')
		if end < 0 {
			return false
		}
		r.fields[i], texts = texts[:end], texts[end+1:]
	}
	r.fields[textCount-1] = texts
	return bytes.IndexByte(texts, '\x1f') < 0
}

// textsOf reads the texts of a row each by itself.
func (s *Store) textsOf(ctx context.Context, r *hostReader, h *Host) error {
	var to [textCount]any
	for i := range to {
		to[i] = &r.fields[i]
	}
	if err := s.read.QueryRowContext(ctx, "SELECT "+textColumns+" FROM hosts WHERE id = ?", h.ID).Scan(to[:]...); err != nil {
		return err
	}
	return r.texts(h)
}

// texts fills in what the row at hand says in texts.
func (r *hostReader) texts(h *Host) error {
	f, same := &r.fields, func(i int) string { return r.known.bytes(r.fields[i]) }
	h.Access, h.Packages = beyond(f[accessText], "[]"), r.answers[string(f[packagesText])]
	h.Watched, h.Traced = beyond(f[watchedText], ""), beyond(f[tracedText], "")
	h.Traits, h.Survey, h.Sheet, h.Agent = same(traitsText), same(surveyText), same(sheetText), same(agentText)
	h.Trouble, h.Failure, h.Zone = same(troubleText), same(failureText), same(zoneText)
	if known, ok := r.labels[string(f[labelsText])]; ok {
		h.Labels = known
	} else if err := readMap(f[labelsText], &h.Labels); err != nil {
		return err
	} else {
		r.labels[string(f[labelsText])] = h.Labels
	}
	if err := errors.Join(
		readMap(f[freeText], &h.Free), readMap(f[carriedText], &h.Carried), h.Since.read(f[sinceText], r.known),
	); err != nil {
		return err
	}
	c := &h.Carried
	for _, digest := range []*string{&c.Sheet, &c.Survey, &c.Base.Sheet, &c.Base.Survey} {
		*digest = r.known.text(*digest)
	}
	return nil
}

// readMap reads an object, where there is more than the braces.
func readMap(text []byte, to any) error {
	if string(text) == "{}" {
		return nil
	}
	return wire.Read(text, to)
}

// beyond is a copy of what a column says, nil where it says nothing.
func beyond(text []byte, nothing string) []byte {
	if string(text) == nothing || len(text) == 0 {
		return nil
	}
	return bytes.Clone(text)
}

// turn is what a host has to carry out.
type turn struct {
	rollout     int64
	host, state string
}

// turns returns what hosts have to carry out: what the newest rollout says in which each
// takes part and whose turn has come, one of before it joined aside. Who was left behind by one that was stopped does not catch up with it.
func (s *Store) turns(ctx context.Context) (out []turn, err error) {
	rows, err := s.read.QueryContext(ctx, `SELECT r.rollout, r.host, r.state FROM rollout_hosts r
		JOIN rollouts o ON o.id = r.rollout JOIN hosts h ON h.name = r.host AND h.joined <= o.begun
		WHERE r.state IN (?1, ?2, ?3) AND r.rollout IN (SELECT rollout FROM rollout_counts WHERE state IN (?1, ?2, ?3) AND hosts > 0)
		AND NOT (o.stopped > 0 AND r.state = ?3) AND NOT EXISTS (SELECT 1 FROM rollout_hosts n INDEXED BY rollout_hosts_by_host
			WHERE n.host = r.host AND n.rollout > r.rollout
			AND `+itsTurn("n")+` AND n.state <> ?4 AND NOT (n.state = ?5 AND n.part < 0))`,
		string(rollout.Waiting), string(rollout.Working), string(rollout.Behind),
		string(rollout.Skipped), string(rollout.Unchanged))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	known := shared{}
	for rows.Next() {
		var x turn
		var state sql.RawBytes
		if err := rows.Scan(&x.rollout, &x.host, &state); err != nil {
			return nil, err
		}
		x.state = known.bytes(state)
		out = append(out, x)
	}
	return out, rows.Err()
}

// shared are texts that many rows have, each once for all that are read.
type shared map[string]string

func (s shared) text(v string) string {
	if one, ok := s[v]; ok {
		return one
	}
	one := unique.Make(v).Value()
	s[one] = one
	return one
}

// bytes is text for what is overwritten: nothing is kept of a text that is known.
func (s shared) bytes(b []byte) string {
	if one, ok := s[string(b)]; ok {
		return one
	}
	return s.text(string(b))
}
