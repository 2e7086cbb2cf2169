package identity

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

func TestTheDoorIsShutToWhatItDoesNotKnow(t *testing.T) {
	operator, reader := store.Operator{Name: "tern", Role: store.RoleOperator}, store.Operator{Name: "mira", Role: store.RoleReader}
	require.Error(t, may(operator, "no-such-operation"))
	require.Error(t, may(store.Operator{Name: "none"}, "publish-policy"), "somebody without a role changes nothing")
	require.Error(t, may(store.Operator{Name: "none"}, "list-hosts"), "and sees nothing")
	for operation, role := range least {
		require.NoError(t, may(operator, operation), operation)
		err := may(reader, operation)
		if role == store.RoleReader {
			require.NoError(t, err, operation)
		} else {
			require.EqualError(t, err, "mira may look and not change; ask an operator", operation)
		}
	}
}

var ctx = context.Background()

// staff are people on a fresh store, with a clock that is set by hand.
type staff struct {
	*People
	store   *store.Store
	at      time.Time
	refused int
	left    []string
}

func newStaff(t require.TestingT, dir string) *staff {
	st, err := store.Open(ctx, filepath.Join(dir, "lantern.db"))
	require.NoError(t, err)
	require.NoError(t, st.AddOperator(ctx, store.Operator{Name: "tern", Role: store.RoleOperator}, []byte("tern"), store.Change{}))
	s := &staff{store: st, at: time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)}
	s.People = New(Options{
		Store: st, Log: slog.New(slog.DiscardHandler), Now: func() time.Time { return s.at }, Version: "test",
		Refused: func(string) { s.refused++ }, Left: func(name string) { s.left = append(s.left, name) },
	})
	return s
}

// add has tern add somebody.
func (s *staff) add(t require.TestingT, name, role string) (token string) {
	by := journal.With(ctx, &person{store.Operator{Name: "tern", Role: store.RoleOperator}})
	o, err := s.AddOperator(by, &OperatorIn{api.OperatorOrder{Name: name, Role: role}})
	require.NoError(t, err)
	return o.Token
}

func kind(err error) refusal.Kind {
	var no *refusal.Error
	if !errors.As(err, &no) {
		return -1
	}
	return no.Kind
}

func TestATokenAndASessionTellWhoCalls(t *testing.T) {
	s := newStaff(t, t.TempDir())
	defer s.store.Close()
	token := s.add(t, "mira", store.RoleReader)
	_, err := s.Person(ctx, token, true)
	assert.Equal(t, refusal.Unknown, kind(err), "a token is no session")
	in, err := s.Person(ctx, token, false)
	require.NoError(t, err)
	assert.Equal(t, "mira", Operator(in).Name)
	require.NoError(t, s.May(in, "list-hosts"))
	assert.Equal(t, refusal.Forbidden, kind(s.May(in, "publish-policy")))
	assert.Equal(t, refusal.Forbidden, kind(s.May(ctx, "list-hosts")), "nobody calls")
	assert.Equal(t, 2, s.refused)

	secret, session, err := s.SignIn(ctx, " "+token+"\n")
	require.NoError(t, err)
	assert.Equal(t, &api.Session{Operator: "mira", Role: store.RoleReader, Service: "test"}, session)
	_, err = s.Person(ctx, secret, false)
	assert.Equal(t, refusal.Unknown, kind(err), "a session's secret is no token")
	_, err = s.Person(ctx, secret, true)
	require.NoError(t, err)
	s.at = s.at.Add(SessionLife + time.Second)
	_, err = s.Person(ctx, secret, true)
	assert.Equal(t, refusal.Unknown, kind(err), "it has ended")
	_, _, err = s.SignIn(ctx, "plo_nobody")
	assert.Equal(t, refusal.Unknown, kind(err))
}

func TestNobodyRemovesThemselves(t *testing.T) {
	s := newStaff(t, t.TempDir())
	defer s.store.Close()
	in, err := s.Person(ctx, s.add(t, "tern", store.RoleOperator), false)
	require.NoError(t, err)
	assert.Equal(t, refusal.Conflicting, kind(s.RemoveOperator(in, &OperatorPath{"tern"})))
	_, err = s.Person(ctx, s.add(t, "tern", store.RoleOperator), false)
	require.NoError(t, err)
}

// Whatever order people are added, given a new token, removed, signed in and signed out in: who
// may call, and as whom, follows from what was done last, at once and though answers are remembered.
func TestWhoMayCallFollowsFromWhatWasDoneLast(t *testing.T) {
	s := newStaff(t, t.TempDir())
	defer s.store.Close()
	checks := 0
	rapid.Check(t, func(t *rapid.T) {
		checks++
		w := &who{staff: s, tokens: map[string]string{}, roles: map[string]string{}, sessions: map[string]string{}}
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			w.step(t, fmt.Sprintf("%s-%d", rapid.SampledFrom([]string{"mira", "ede", "wren"}).Draw(t, "name"), checks))
			w.holds(t)
		}
	})
}

// who is what a test knows of who may call.
type who struct {
	*staff
	tokens, roles map[string]string // of whom
	sessions      map[string]string // secret → of whom
	old           []string          // secrets that were good once
}

// end ends the sessions of somebody.
func (w *who) end(name string) {
	for secret, of := range w.sessions {
		if of == name {
			delete(w.sessions, secret)
			w.old = append(w.old, secret)
		}
	}
}

func (w *who) step(t *rapid.T, name string) {
	switch rapid.SampledFrom([]string{"add", "remove", "sign in", "sign out", "wait"}).Draw(t, "step") {
	case "add":
		if had := w.tokens[name]; had != "" {
			w.old = append(w.old, had)
		}
		w.roles[name] = rapid.SampledFrom([]string{store.RoleReader, store.RoleOperator}).Draw(t, "role")
		w.tokens[name] = w.add(t, name, w.roles[name])
		w.end(name)
	case "remove":
		by := journal.With(ctx, &person{store.Operator{Name: "tern", Role: store.RoleOperator}})
		err := w.RemoveOperator(by, &OperatorPath{name})
		assert.Equal(t, w.tokens[name] != "", err == nil)
		if w.tokens[name] != "" {
			w.old = append(w.old, w.tokens[name])
			delete(w.tokens, name)
			w.end(name)
		}
	case "sign in":
		if w.tokens[name] != "" {
			secret, _, err := w.SignIn(ctx, w.tokens[name])
			require.NoError(t, err)
			w.sessions[secret] = name
		}
	case "sign out":
		for secret, of := range w.sessions {
			if of == name {
				require.NoError(t, w.SignOut(ctx, secret))
			}
		}
		w.end(name)
	case "wait":
		w.at = w.at.Add(time.Second)
	}
}

// holds checks who may call.
func (w *who) holds(t *rapid.T) {
	calls := func(secret, name string, session bool) {
		in, err := w.Person(ctx, secret, session)
		require.NoError(t, err)
		assert.Equal(t, [2]string{name, w.roles[name]}, [2]string{Operator(in).Name, Operator(in).Role})
	}
	for name, token := range w.tokens {
		calls(token, name, false)
	}
	for secret, name := range w.sessions {
		calls(secret, name, true)
	}
	for _, secret := range w.old {
		for _, session := range []bool{false, true} {
			_, err := w.Person(ctx, secret, session)
			assert.Equal(t, refusal.Unknown, kind(err))
		}
	}
}

// Who has a new token made for themselves in a browser goes on there: they would never see it. Others who are signed in by the
// old one are out.
func TestWhoAsksForANewTokenOfTheirOwnStays(t *testing.T) {
	s := newStaff(t, t.TempDir())
	defer s.store.Close()
	token := s.add(t, "mira", store.RoleOperator)
	mine, _, err := s.SignIn(ctx, token)
	require.NoError(t, err)
	other, _, err := s.SignIn(ctx, token)
	require.NoError(t, err)
	in, err := s.Person(ctx, mine, true)
	require.NoError(t, err)
	o, err := s.AddOperator(in, &OperatorIn{api.OperatorOrder{Name: "mira", Role: store.RoleOperator}})
	require.NoError(t, err)
	_, err = s.Person(ctx, mine, true)
	require.NoError(t, err)
	for secret, session := range map[string]bool{other: true, token: false} {
		_, err = s.Person(ctx, secret, session)
		assert.Equal(t, refusal.Unknown, kind(err))
	}
	in, err = s.Person(ctx, o.Token, false)
	require.NoError(t, err)
	_, err = s.AddOperator(in, &OperatorIn{api.OperatorOrder{Name: "mira", Role: store.RoleOperator}})
	require.NoError(t, err)
	_, err = s.Person(ctx, mine, true)
	assert.Equal(t, refusal.Unknown, kind(err), "asked for by a token, every session ends")
}

// Whoever was removed is refused from then on, though many of their calls are just being let in.
func TestWhoeverIsRemovedIsOutAtOnce(t *testing.T) {
	s := newStaff(t, t.TempDir())
	defer s.store.Close()
	by := journal.With(ctx, &person{store.Operator{Name: "tern", Role: store.RoleOperator}})
	for range 40 {
		token := s.add(t, "mira", store.RoleReader)
		var calls sync.WaitGroup
		stop := make(chan struct{})
		for range 4 {
			calls.Go(func() {
				for {
					select {
					case <-stop:
						return
					default:
						_, _ = s.Person(ctx, token, false)
						s.mu.Lock()
						clear(s.proven) // as where there are many: the store is asked anew
						s.mu.Unlock()
					}
				}
			})
		}
		require.NoError(t, s.RemoveOperator(by, &OperatorPath{"mira"}))
		for range 20 {
			_, err := s.Person(ctx, token, false)
			require.Equal(t, refusal.Unknown, kind(err))
		}
		close(stop)
		calls.Wait()
	}
}
