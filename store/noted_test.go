package store

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/internal/cell"
)

// shadow notes by a trigger, text by text, what the writer is to note by numbers.
const shadow = `CREATE TABLE shadow (host, at, traits, survey, sheet, before, base_sheet, base_survey, revision, PRIMARY KEY (host, at));
CREATE TRIGGER shadows AFTER UPDATE OF survey, sheet, carried ON hosts
WHEN NEW.survey <> '' AND (NEW.survey <> OLD.survey OR NEW.sheet <> OLD.sheet OR NEW.carried <> OLD.carried)
BEGIN
    INSERT OR REPLACE INTO shadow VALUES (NEW.name, NEW.last_seen, NEW.traits, NEW.survey, NEW.sheet,
        coalesce(json_extract(NEW.carried, '$.sheet'), ''), coalesce(json_extract(NEW.carried, '$.base.sheet'), ''),
        coalesce(json_extract(NEW.carried, '$.base.survey'), ''), NEW.revision);
END;`

const sayPast = "SELECT group_concat(x, char(10)) FROM (SELECT concat_ws('|', host, at, traits, survey, sheet, before, base_sheet, base_survey, revision) x FROM "

const named = "(SELECT (SELECT text FROM past_texts WHERE id = host) host, at, (SELECT text FROM past_texts WHERE id = traits) traits, " +
	"(SELECT text FROM past_texts WHERE id = survey) survey, (SELECT text FROM past_texts WHERE id = sheet) sheet, " +
	"(SELECT text FROM past_texts WHERE id = before) before, (SELECT text FROM past_texts WHERE id = base_sheet) base_sheet, " +
	"(SELECT text FROM past_texts WHERE id = base_survey) base_survey, revision FROM pasts p WHERE NOT EXISTS " +
	"(SELECT 1 FROM pasts n WHERE n.host = p.host AND n.at = p.at AND n.id > p.id))"

var errTakenBack = errors.New("taken back")

func say(h *Host) string {
	return fmt.Sprint(h.Name, h.LastSeen.UnixMilli(), h.Agent, h.Labels, h.Failure, h.Traits, h.Survey, h.Sheet, h.Carried)
}

// Whatever is written, taken back, joined again or begun anew, rows are what was put last, and the
// history says what a trigger on them would have noted.
func TestTheHistoryIsThatOfTheRows(t *testing.T) {
	drawn := 0
	rapid.Check(t, func(rt *rapid.T) {
		if drawn++; drawn > cell.Rounds(40) {
			return
		}
		ctx := context.Background()
		path := filepath.Join(t.TempDir(), fmt.Sprint(time.Now().UnixNano(), ".db"))
		s, err := Open(ctx, path)
		require.NoError(t, err)
		defer func() { _ = s.Close() }()
		exec := func(text string) {
			require.NoError(t, s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
				_, err := tx.ExecContext(ctx, text)
				return err
			}))
		}
		exec(shadow)
		list := []*Host{{Name: "gw-01", Key: ed25519.PublicKey{1}}, {Name: "gw-02", Key: ed25519.PublicKey{2}}, {Name: "gw-03", Key: ed25519.PublicKey{3}}}
		require.NoError(t, s.AddHosts(ctx, list))
		pick := func(name string, of ...string) string { return rapid.SampledFrom(of).Draw(rt, name) }
		at := time.UnixMilli(1_000)
		for range rapid.IntRange(1, 12).Draw(rt, "writes") {
			h := rapid.SampledFrom(list).Draw(rt, "host")
			at = at.Add(time.Second)
			next := *h
			next.LastSeen, next.Agent = at, pick("agent", "1", "2")
			next.Labels, next.Failure = map[string]string{"rack": pick("rack", "a", "b")}, pick("failure", "", "unreachable")
			next.Traits, next.Survey, next.Sheet = pick("traits", "t", "u"), pick("survey", "", "a", "b", "c"), pick("sheet", "", "s", "z")
			if rapid.Bool().Draw(rt, "carried") {
				next.Carried = Carried{Sheet: pick("was", "s", "z"), Survey: "a", Base: Base{Survey: pick("base", "", "a"), Sheet: pick("base sheet", "", "s")}}
			}
			switch pick("how", "put", "put", "put", "taken back", "with others", "anew", "ordered", "forgotten", "retired") {
			case "put":
				require.NoError(t, s.PutHost(ctx, &next, Change{}))
			case "taken back":
				err := s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
					require.NoError(t, s.putHost(ctx, tx, &next))
					return errTakenBack
				})
				require.ErrorIs(t, err, errTakenBack)
				continue
			case "with others":
				results := make([]error, 2)
				bad := job{do: func(ctx context.Context, tx *sql.Tx) error {
					return errors.Join(s.putHost(ctx, tx, &next), errTakenBack)
				}}
				_, err := s.transact(ctx, []job{{one: &next}, bad}, results)
				require.NoError(t, err)
				require.ErrorIs(t, results[1], errTakenBack)
			case "anew":
				require.NoError(t, s.Close())
				s, err = Open(ctx, path)
				require.NoError(t, err)
				continue
			case "ordered":
				require.NoError(t, s.do(ctx, func(ctx context.Context, tx *sql.Tx) error {
					_, err := putInOrder(ctx, tx, rapid.Int64Range(1, 3).Draw(rt, "many"))
					return err
				}))
				continue
			case "forgotten":
				require.NoError(t, s.ForgetPast(ctx, time.UnixMilli(0)))
				continue
			case "retired": // its number may be given anew, and it says then what it said before
				_, err := s.RetireHost(ctx, h, at, func([]int64) Change { return Change{} })
				require.NoError(t, err)
				require.NoError(t, s.AddInvite(ctx, []byte("token"), Invite{Host: h.Name, Expires: at.Add(time.Hour)}, Change{}))
				joined, err := s.Join(ctx, []byte("token"), h.Key, at, func(*Host) Change { return Change{} })
				require.NoError(t, err)
				next = *h
				next.ID, next.LastSeen = joined.ID, at
				require.NoError(t, s.PutHost(ctx, &next, Change{}))
			}
			*h = next
			rows, err := s.hostsBetween(ctx, 0, 1<<40, nil)
			require.NoError(t, err)
			require.Len(t, rows, len(list))
			for _, row := range rows {
				h := list[slices.IndexFunc(list, func(h *Host) bool { return h.ID == row.ID })]
				require.Equal(t, say(h), say(row))
			}
		}
		var want, have sql.NullString
		require.NoError(t, s.read.QueryRow(sayPast+"shadow ORDER BY host, at)").Scan(&want))
		require.NoError(t, s.read.QueryRow(sayPast+named+" ORDER BY host, at)").Scan(&have))
		require.Equal(t, want.String, have.String)
		for moment := range rapid.IntRange(0, 14).Draw(rt, "moment") {
			then := time.UnixMilli(1_000).Add(time.Duration(moment) * time.Second)
			var had, until int64
			var survey string
			err := s.read.QueryRow("SELECT at, survey, coalesce((SELECT min(at) FROM shadow n WHERE n.host = s.host AND n.at > s.at), 0) FROM shadow s "+
				"WHERE host = 'gw-01' AND at <= ? ORDER BY at DESC LIMIT 1", then.UnixMilli()).Scan(&had, &survey, &until)
			p, had2 := s.PastOf(ctx, "gw-01", then)
			if errors.Is(err, sql.ErrNoRows) {
				require.ErrorIs(t, had2, ErrNotFound)
				continue
			}
			require.NoError(t, errors.Join(err, had2))
			require.Equal(t, []any{survey, had, until}, []any{p.Survey, p.Since.UnixMilli(), unix(p.Until)})
		}
	})
}

// While nobody writes, the newest rows of the history are put where those of their hosts stand.
func TestTheHistoryIsPutInOrderInAQuietMoment(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "lantern.db")
	s, err := Open(ctx, path)
	require.NoError(t, err)
	defer func() { _ = s.Close() }()
	list := make([]*Host, 64)
	for i := range list {
		list[i] = &Host{Name: fmt.Sprint("gw-", i), Key: ed25519.PublicKey{byte(i)}}
	}
	require.NoError(t, s.AddHosts(ctx, list))
	const each = fewNew/64 + 2
	var group errgroup.Group
	for _, h := range list {
		group.Go(func() error {
			for n := range each {
				next := *h
				next.LastSeen, next.Survey = time.UnixMilli(int64(1_000+n)), fmt.Sprint(n)
				if err := s.PutHost(ctx, &next, Change{}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	require.NoError(t, group.Wait())
	count := func(of string) (n int) {
		require.NoError(t, s.read.QueryRow("SELECT count(*) FROM "+of).Scan(&n))
		return n
	}
	require.Equal(t, 64*each, count("pasts"))
	require.Eventually(t, func() bool { return count("past") >= fewNew }, 10*time.Second, 10*time.Millisecond)
	require.Equal(t, 64*each, count("pasts"), "nothing is lost, and nothing is there twice")
	p, err := s.PastOf(ctx, "gw-7", time.UnixMilli(1_003))
	require.NoError(t, err)
	require.Equal(t, []any{"3", int64(1_003), int64(1_004)}, []any{p.Survey, p.Since.UnixMilli(), p.Until.UnixMilli()})
}
