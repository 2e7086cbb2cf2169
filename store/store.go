// Package store keeps the service's state in SQLite.
//
// There is one writer: a goroutine that gathers what is waiting into one
// transaction and answers each caller after the commit, so that many small
// writes cost little and none that was acknowledged is lost.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned where what was asked for is not there.
var ErrNotFound = errors.New("not found")

// MostWrites is the largest number of writes that one transaction takes.
const MostWrites = 256

// Store is an open database. It is safe for use by several goroutines.
type Store struct {
	chain  []byte // hash of the newest entry of the audit chain; the writer's own
	read   *prepared
	write  *sql.DB
	queue  chan job
	done   chan struct{}
	enc    *zstd.Encoder
	dec    *zstd.Decoder
	known  digests
	newest atomic.Pointer[Revision]
	closed chan struct{}
	put    *sql.Stmt            // putHost, prepared
	fresh  *sql.Stmt            // likewise, of what changes often
	note   *sql.Stmt            // of the journal, prepared
	body   *sql.Stmt            // of a document, prepared
	asked  map[string]*sql.Stmt // of rollouts, by their text
	past   noted                // of the history; the writer's own
	told   func([]Entry)

	damaged chan Document // found so, and nobody has heard of it yet
}

type job struct {
	do     func(context.Context, *sql.Tx) error
	one    *Host // instead of do: a row to be put, in one statement
	change Change
	done   chan error
}

// Open opens the database at path and brings it up to date.
func Open(ctx context.Context, path string) (*Store, error) {
	dsn := func(cache int, extra string) string { // kB of pages that a connection keeps
		return "file:" + (&url.URL{Path: path}).EscapedPath() +
			"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)" +
			"&_pragma=foreign_keys(1)&_pragma=cache_size(-" + strconv.Itoa(cache) + ")" + extra
	}
	write, err := sql.Open("sqlite", dsn(8_000, "&_txlock=immediate"))
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	write.SetMaxOpenConns(1)
	if err := migrate(ctx, write); err != nil {
		write.Close()
		return nil, fmt.Errorf("bringing %s up to date: %w", path, err)
	}
	read, err := sql.Open("sqlite", dsn(4_000, "&_pragma=query_only(1)"))
	if err != nil {
		write.Close()
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	read.SetMaxOpenConns(8)
	read.SetMaxIdleConns(4)                                                                     // one that is opened anew knows no page
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20)) // hardly any is longer
	if err != nil {
		return nil, err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return nil, err
	}
	s := &Store{
		read:   &prepared{DB: read},
		write:  write,
		queue:  make(chan job, 4*MostWrites),
		done:   make(chan struct{}),
		closed: make(chan struct{}),
		enc:    enc,
		dec:    dec,

		damaged: make(chan Document, mostDamaged),
	}
	if err := errors.Join(s.loadKnown(ctx), s.loadChain(ctx), s.loadNewest(ctx), s.countPast(ctx)); err != nil {
		read.Close()
		write.Close()
		return nil, err
	}
	if err := s.prepare(ctx); err != nil {
		read.Close()
		write.Close()
		return nil, err
	}
	go s.writer()
	return s, nil
}

// prepare makes the statements that are asked for again and again.
func (s *Store) prepare(ctx context.Context) (err error) {
	for _, p := range []struct {
		to   **sql.Stmt
		by   *sql.DB
		text string
	}{
		{&s.put, s.write, putHostSQL}, {&s.fresh, s.write, freshenSQL}, {&s.note, s.write, noteSQL}, {&s.past.put, s.write, putPastSQL},
		{&s.past.find, s.write, findTextSQL}, {&s.past.add, s.write, addTextSQL}, {&s.past.had, s.write, hadSQL},
		{&s.body, s.read.DB, bodySQL},
	} {
		if *p.to, err = p.by.PrepareContext(ctx, p.text); err != nil {
			return err
		}
	}
	s.asked = map[string]*sql.Stmt{}
	for _, text := range []string{placeSQL, moveSQL, fewerSQL, moreSQL, reportSQL, progressSQL, endSQL, answerSQL, putReportSQL, admitSQL} {
		if s.asked[text], err = s.write.PrepareContext(ctx, text); err != nil {
			return err
		}
	}
	return nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		return err
	}
	sources := p.ListSources()
	newest := sources[len(sources)-1].Version
	if at, err := p.GetDBVersion(ctx); err == nil && at > newest {
		return fmt.Errorf(
			"it was written by a newer version of this program (its form is %d, and this one knows %d); start that one",
			at,
			newest,
		)
	}
	_, err = p.Up(ctx)
	return err
}

// Close waits for the writes that are under way and closes the database.
func (s *Store) Close() error {
	close(s.closed)
	<-s.done
	return errors.Join(s.read.Close(), s.write.Close())
}

// ErrClosed is returned for a write after Close.
var ErrClosed = errors.New("the store is closed")

// do runs f in a transaction with others and returns after the commit.
func (s *Store) do(ctx context.Context, f func(context.Context, *sql.Tx) error) error {
	return s.doAll(ctx, Change{}, f)
}

// doAll is do with what goes with the rows.
func (s *Store) doAll(ctx context.Context, c Change, f func(context.Context, *sql.Tx) error) error {
	return s.enqueue(ctx, job{do: f, change: c, done: make(chan error, 1)})
}

func (s *Store) enqueue(ctx context.Context, j job) error {
	select {
	case s.queue <- j:
	case <-s.closed:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-j.done:
		return err
	case <-s.done:
		select {
		case err := <-j.done:
			return err
		default:
			return ErrClosed
		}
	}
}

func (s *Store) writer() {
	defer close(s.done)
	for {
		var batch []job
		select {
		case j := <-s.queue:
			batch = append(batch, j)
		case <-s.closed:
			select {
			case j := <-s.queue:
				batch = append(batch, j)
			default:
				return
			}
		case <-s.idle():
			s.orderPast()
			continue
		}
	gather:
		for len(batch) < MostWrites {
			select {
			case j := <-s.queue:
				batch = append(batch, j)
			default:
				break gather
			}
		}
		s.commit(batch)
		if s.past.fresh >= mostNew {
			s.orderPast()
		}
	}
}

// idle is a moment at which nobody has written for a while, where something waits for that.
func (s *Store) idle() <-chan time.Time {
	if s.past.fresh < fewNew {
		return nil
	}
	return time.After(quiet)
}

// commit runs a batch in one transaction. A job that fails is rolled back to its
// own savepoint and does not harm the others.
func (s *Store) commit(batch []job) {
	results := make([]error, len(batch))
	entries, err := s.transact(context.Background(), batch, results)
	for i, j := range batch {
		if err != nil && results[i] == nil {
			results[i] = err
		}
		if results[i] == nil && j.change.Then != nil {
			j.change.Then()
		}
	}
	// Who is told finds what the entries say in place.
	if err == nil && len(entries) > 0 && s.told != nil {
		s.told(entries)
	}
	for i, j := range batch {
		j.done <- results[i]
	}
}

// transact writes the rows of a batch and what the journal says of them.
func (s *Store) transact(ctx context.Context, batch []job, results []error) ([]Entry, error) {
	tx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	s.past.of = bound{
		tx.StmtContext(
			ctx,
			s.put,
		), tx.StmtContext(ctx, s.fresh), tx.StmtContext(ctx, s.past.put), tx.StmtContext(ctx, s.past.find), tx.StmtContext(ctx, s.past.add),
		tx.StmtContext(ctx, s.past.had),
	}
	whole := false
	defer func() {
		if !whole { // what was remembered of it may not stand
			s.past.forget()
		}
	}()
	var entries []Entry
	for i, j := range batch {
		if err := s.row(ctx, tx, j, len(batch) == 1, &results[i]); err != nil {
			return nil, err
		}
		if results[i] == nil && j.change.Note != nil {
			entries = append(entries, j.change.Note()...)
		}
	}
	chain, err := note(ctx, tx, tx.StmtContext(ctx, s.note), entries, s.chain)
	if err != nil {
		return nil, err
	}
	if err := tx.Commit(); err != nil {
		return nil, err
	}
	s.chain, whole = chain, true
	return entries, nil
}

// row runs one job of a batch. result is the job's own failure, the error that of all.
func (s *Store) row(ctx context.Context, tx *sql.Tx, j job, alone bool, result *error) error {
	if j.one != nil { // nothing in it can fail but the database itself
		return s.putHost(ctx, tx, j.one)
	}
	if alone {
		return j.do(ctx, tx)
	}
	if _, err := tx.ExecContext(ctx, "SAVEPOINT job"); err != nil {
		return err
	}
	if *result = j.do(ctx, tx); *result != nil {
		s.past.forget()
		if _, err := tx.ExecContext(ctx, "ROLLBACK TO job"); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "RELEASE job")
	return err
}

// Pulse writes a row: it fails where nothing can be written.
func (s *Store) Pulse(ctx context.Context, now time.Time) error {
	return s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			"INSERT INTO pulse (id, at) VALUES (1, ?) ON CONFLICT (id) DO UPDATE SET at = excluded.at",
			unix(now),
		)
		return err
	})
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.read.PingContext(ctx) }

// Check runs the database's own integrity check.
func (s *Store) Check(ctx context.Context) error {
	var answer string
	if err := s.read.QueryRowContext(ctx, "PRAGMA integrity_check").Scan(&answer); err != nil {
		return err
	}
	if answer != "ok" {
		return fmt.Errorf("the database is damaged: %s", answer)
	}
	return nil
}

func unix(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func fromUnix(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}

// Reliance counts what relies on the service's keys.
type Reliance struct {
	Hosts   int // have pinned the signing key
	Secrets int // are encrypted
}

// Relies counts what relies on the service's keys.
func (s *Store) Relies(ctx context.Context) (r Reliance, err error) {
	err = s.read.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM hosts) + (SELECT count(*) FROM invites),
		(SELECT count(*) FROM accounts WHERE length(login) > 0) + (SELECT count(*) FROM seats WHERE length(access) > 0) +
		(SELECT count(*) FROM webhooks)`).Scan(&r.Hosts,
		&r.Secrets)
	return r, err
}
