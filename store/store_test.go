package store_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/store"
)

var (
	ctx = context.Background()
	now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
)

func open(t testing.TB, path string) *store.Store {
	t.Helper()
	s, err := store.Open(ctx, path)
	require.NoError(t, err)
	return s
}

// What goes with rows that nobody is told of.
func joined(*store.Host) store.Change             { return store.Change{} }
func published(store.Revision, bool) store.Change { return store.Change{} }

func hash(s string) []byte { h := sha256.Sum256([]byte(s)); return h[:] }

func TestWhatIsAcknowledgedIsThereAfterOpeningAgain(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	s := open(t, path)
	require.NoError(t, s.AddHosts(ctx, []*store.Host{{Name: "gw-01", Key: make([]byte, 32), Joined: now}}))
	list, err := s.Hosts(ctx)
	require.NoError(t, err)
	h := list[0]
	h.Labels = map[string]string{"site": "north"}
	h.Revision, h.Survey, h.LastSeen = 3, "x", now
	h.Since = h.Since.Follow([]string{"f"}, now, nil)
	h.Carried = store.Carried{Sheet: "s", Survey: "x", At: now}
	require.NoError(t, s.PutHost(ctx, h, store.Change{}))
	require.NoError(t, s.Close())
	s = open(t, path)
	defer s.Close()
	again, err := s.Hosts(ctx)
	require.NoError(t, err)
	assert.Equal(t, []*store.Host{h}, again)
	require.NoError(t, s.Check(ctx))
}

// Whatever a host says of itself is read back as it was said, and nothing of it gets to another.
func TestHostsAreReadAsTheyWereWritten(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	s := open(t, path)
	defer s.Close()
	var hosts []*store.Host
	for i := range 5 {
		hosts = append(hosts, &store.Host{Name: fmt.Sprintf("gw-%02d", i+1), Key: bytes.Repeat([]byte{byte(i)}, 32), Joined: now})
	}
	require.NoError(t, s.AddHosts(ctx, hosts))
	words := rapid.StringOfN(rapid.SampledFrom([]rune("a{}[]\"'\\, \x00\x1e\x1f\t\n\u00e9\u2028")), 0, 6, -1)
	digest := rapid.SampledFrom([]string{"", "aa", "bb"})
	rapid.Check(t, func(rt *rapid.T) {
		for _, h := range hosts {
			h.Trouble, h.Failure, h.Agent, h.Zone = words.Draw(
				rt,
				"trouble",
			), words.Draw(
				rt,
				"failure",
			), words.Draw(
				rt,
				"agent",
			), words.Draw(
				rt,
				"zone",
			)
			h.Traits, h.Survey, h.Sheet = digest.Draw(rt, "traits"), digest.Draw(rt, "survey"), digest.Draw(rt, "sheet")
			h.Labels = rapid.MapOfN(words, words, 0, 2).Draw(rt, "labels")
			h.Unfetched, h.Form = rapid.IntRange(0, 3).Draw(rt, "unfetched"), rapid.IntRange(0, 3).Draw(rt, "form")
			h.Since = store.Since{}.Follow(rapid.SliceOfNDistinct(words, 0, 2, rapid.ID).Draw(rt, "since"), now, nil)
			h.Carried = store.Carried{
				Sheet: digest.Draw(rt, "carried"),
				Base:  store.Base{By: words.Draw(rt, "by"), Whole: rapid.Bool().Draw(rt, "whole")},
			}
			h.Watched, h.Traced = nil, nil
			if rapid.Bool().Draw(rt, "watched") {
				h.Watched, _ = json.Marshal(words.Draw(rt, "says"))
			}
			require.NoError(rt, s.PutHost(ctx, h, store.Change{}))
		}
		again, err := s.Hosts(ctx)
		require.NoError(rt, err)
		text := func(list []*store.Host) (out []string) {
			for _, h := range list {
				if len(h.Labels) == 0 {
					h.Labels = nil
				}
				b, err := json.Marshal(h)
				require.NoError(rt, err)
				out = append(out, string(b))
			}
			return out
		}
		require.Equal(rt, text(hosts), text(again))
	})
}

// What many hosts answered stands once, is there after opening again, for all of them the same, and goes with the last of them.
func TestAnswersOfHostsStandOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	s := open(t, path)
	var hosts []*store.Host
	for i := range 6 {
		hosts = append(hosts, &store.Host{Name: fmt.Sprintf("gw-%02d", i+1), Key: make([]byte, 32), Joined: now})
	}
	require.NoError(t, s.AddHosts(ctx, hosts))
	for i, h := range hosts[:5] {
		h.Packages = store.NewAnswer(fmt.Appendf(nil, `{"installed":{"tern":"2.%d"}}`, i%2))
		require.NoError(t, s.PutHost(ctx, h, store.Change{}))
	}
	require.NoError(t, s.Close())
	s = open(t, path)
	defer s.Close()
	again, err := s.Hosts(ctx)
	require.NoError(t, err)
	require.Len(t, again, 6)
	assert.Same(t, again[0].Packages, again[2].Packages)
	assert.NotEqual(t, again[0].Packages.Digest, again[1].Packages.Digest)
	assert.Nil(t, again[5].Packages)
	reads := 0
	for _, h := range again[:5] {
		text := h.Packages.Read(func(text json.RawMessage) any { reads++; return string(text) })
		assert.Contains(t, text, `"tern":"2.`)
	}
	assert.Equal(t, 2, reads, "each is read once")

	count := func() (n int) {
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		defer db.Close()
		require.NoError(t, db.QueryRow("SELECT count(*) FROM answers").Scan(&n))
		return n
	}
	assert.Equal(t, 2, count())
	for _, h := range again[:5] {
		h.Packages = store.NewAnswer([]byte(`{"installed":{}}`))
		require.NoError(t, s.PutHost(ctx, h, store.Change{}))
	}
	_, err = s.Forget(ctx, now)
	require.NoError(t, err)
	assert.Equal(t, 1, count(), "what nobody answers any more is forgotten")
}

func TestManyWritersShareTransactionsAndEachHearsTheTruth(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	defer s.Close()
	var wg sync.WaitGroup
	good, bad := make(chan error, 400), make(chan error, 100)
	for i := range 400 {
		wg.Go(func() {
			good <- s.AddOperator(ctx, store.Operator{Name: fmt.Sprintf("op-%03d", i), Role: store.RoleReader, Created: now}, hash(fmt.Sprint(i)), store.Change{})
		})
		if i%4 == 0 {
			wg.Go(func() { bad <- s.RemoveOperator(ctx, fmt.Sprintf("nobody-%d", i), store.Change{}) })
		}
	}
	wg.Wait()
	close(good)
	close(bad)
	for err := range good {
		assert.NoError(t, err)
	}
	for err := range bad {
		assert.ErrorIs(t, err, store.ErrNotFound)
	}
	list, err := s.Operators(ctx)
	require.NoError(t, err)
	assert.Len(t, list, 400)
}

func TestDocumentsAreNamedByWhatTheyHold(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	defer s.Close()
	body := []byte("deb http://a.example/ x y\n")
	d := store.Document{Digest: source.Digest(body), Kind: store.KindText, Body: body}
	assert.False(t, s.Known(d.Digest, store.KindText))
	require.NoError(t, s.PutDocuments(ctx, now, d, d))
	require.NoError(t, s.PutDocuments(ctx, now, d))
	assert.True(t, s.Known(d.Digest, store.KindText))
	assert.False(t, s.Known(d.Digest, store.KindSheet))
	got, err := s.Document(ctx, d.Digest, store.KindText)
	require.NoError(t, err)
	assert.Equal(t, d, got)
	_, err = s.Document(ctx, "none", store.KindText)
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.ErrorContains(
		t,
		s.PutDocuments(ctx, now, store.Document{Digest: "lie", Kind: store.KindText, Body: body}),
		"does not have that digest",
	)
}

func TestAnInvitationIsUsedUpByOneOfMany(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	defer s.Close()
	require.NoError(
		t,
		s.AddInvite(ctx, hash("token"), store.Invite{Host: "gw-01", Author: "mira", Expires: now.Add(time.Hour)}, store.Change{}),
	)
	var wg sync.WaitGroup
	results := make(chan error, 20)
	for range 20 {
		wg.Go(func() { _, err := s.Join(ctx, hash("token"), make([]byte, 32), now, joined); results <- err })
	}
	wg.Wait()
	close(results)
	won := 0
	for err := range results {
		if err == nil {
			won++
			continue
		}
		assert.ErrorIs(t, err, store.ErrNotFound)
	}
	assert.Equal(t, 1, won)
	require.NoError(t, s.AddInvite(ctx, hash("late"), store.Invite{Host: "gw-02", Expires: now}, store.Change{}))
	_, err := s.Join(ctx, hash("late"), make([]byte, 32), now.Add(time.Minute), joined)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestRevisionsCountUpAndTheSameFolderIsOne(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.db")
	s := open(t, path)
	newest := func(want int64) { // is at hand, and what is stored
		got, err := s.NewestRevision(ctx)
		if want == 0 {
			require.ErrorIs(t, err, store.ErrNotFound)
			return
		}
		require.NoError(t, err)
		stored, err := s.Revision(ctx, want)
		require.NoError(t, err)
		require.Equal(t, stored, got)
	}
	newest(0)
	publish := func(text string) (int64, bool) {
		r, fresh, err := s.Publish(
			ctx,
			store.Revision{Policy: source.Digest([]byte(text)), Author: "mira", Created: now.Add(1234567)},
			[]byte(text),
			published,
		)
		require.NoError(t, err)
		return r.Number, fresh
	}
	for i, c := range []struct {
		text  string
		want  int64
		fresh bool
	}{{"a", 1, true}, {"a", 1, false}, {"b", 2, true}, {"a", 3, true}} {
		n, fresh := publish(c.text)
		assert.Equal(t, c.want, n, "step %d", i)
		assert.Equal(t, c.fresh, fresh, "step %d", i)
		newest(c.want)
	}
	_, _, err := s.Publish(ctx, store.Revision{Policy: source.Digest([]byte("c")), Created: now, Proposal: 7}, []byte("c"), published)
	require.Error(t, err, "there is no such proposal")
	newest(3)
	require.NoError(t, s.Close())
	s = open(t, path)
	defer s.Close()
	newest(3)
}

func TestSessionsEnd(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	defer s.Close()
	require.NoError(t, s.AddOperator(ctx, store.Operator{Name: "mira", Role: store.RoleReader, Created: now}, hash("t"), store.Change{}))
	require.NoError(t, s.AddSession(ctx, hash("c"), "mira", now, now.Add(time.Hour)))
	_, err := s.OperatorBySession(ctx, hash("c"), now)
	require.NoError(t, err)
	_, err = s.OperatorBySession(ctx, hash("c"), now.Add(2*time.Hour))
	assert.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.RemoveOperator(ctx, "mira", store.Change{}))
	_, err = s.OperatorBySession(ctx, hash("c"), now)
	assert.True(t, errors.Is(err, store.ErrNotFound), "the session goes with its operator")
}

func TestAClosedStoreSaysSo(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	require.NoError(t, s.Close())
	assert.ErrorIs(t, s.RemoveOperator(ctx, "x", store.Change{}), store.ErrClosed)
}

// Whatever operators do to each other, somebody is left who may change anything.
func TestSomebodyMayAlwaysChangeAnything(t *testing.T) {
	n, most := 0, cell.Rounds(15)
	rapid.Check(t, func(rt *rapid.T) {
		if n++; n > most {
			return
		}
		s := open(t, filepath.Join(t.TempDir(), fmt.Sprint(n)))
		defer func() { require.NoError(rt, s.Close()) }()
		names := []string{"mira", "skua", "tern"}
		require.NoError(rt, s.AddOperator(ctx, store.Operator{Name: "mira", Role: store.RoleOperator}, []byte("t"), store.Change{}))
		for i := range rapid.IntRange(1, 8).Draw(rt, "steps") {
			name := rapid.SampledFrom(names).Draw(rt, "name")
			before, err := s.Operators(ctx)
			require.NoError(rt, err)
			if rapid.Bool().Draw(rt, "goes") {
				err = s.RemoveOperator(ctx, name, store.Change{})
			} else {
				role := rapid.SampledFrom([]string{store.RoleReader, store.RoleOperator}).Draw(rt, "role")
				err = s.AddOperator(ctx, store.Operator{Name: name, Role: role}, []byte{byte(i)}, store.Change{})
			}
			after, listErr := s.Operators(ctx)
			require.NoError(rt, listErr)
			if err != nil {
				require.Equal(rt, before, after, "%v", err)
			}
			require.True(rt, slices.ContainsFunc(after, func(o store.Operator) bool { return o.Role == store.RoleOperator }))
		}
	})
}
