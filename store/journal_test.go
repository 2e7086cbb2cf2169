package store_test

import (
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/store"
)

// Entries are told after their rows stand and what follows from them was done, in the
// order of their numbers, each once, however many write at a time.
func TestTheJournalIsToldInItsOrder(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	defer s.Close()
	var told []store.Entry // by the writer alone
	done := map[string]bool{}
	early := 0
	s.Tell(func(list []store.Entry) {
		for _, e := range list {
			if !done[e.Name] {
				early++
			}
		}
		told = append(told, list...)
	})
	var all sync.WaitGroup
	const writers, each = 32, 20
	for w := range writers {
		all.Go(func() {
			for i := range each {
				name := fmt.Sprintf("op-%02d-%02d", w, i)
				o := store.Operator{Name: name, Role: store.RoleReader, Created: now}
				c := store.Change{
					Note: func() []store.Entry {
						return []store.Entry{{At: now, Actor: "operator:mira", Command: "add-operator", Kind: "operator", Name: name}}
					},
					Then: func() { done[name] = true },
				}
				assert.NoError(t, s.AddOperator(ctx, o, hash(name), c))
			}
		})
	}
	all.Wait()
	require.Len(t, told, writers*each)
	assert.Zero(t, early, "who is told finds what the entry says in place")
	for i := 1; i < len(told); i++ {
		assert.Equal(t, told[i-1].Seq+1, told[i].Seq)
	}
	stored, err := s.Journal(ctx, store.JournalQuery{Limit: writers * each, Oldest: true})
	require.NoError(t, err)
	require.Len(t, stored, len(told))
	for i := range stored {
		assert.Equal(t, told[i].Name, stored[i].Name)
	}
	newest, err := s.NewestEntry(ctx)
	require.NoError(t, err)
	assert.Equal(t, told[len(told)-1].Seq, newest)
}

// A change that fails leaves no entry and is followed by nothing, though it shares a
// transaction with others.
func TestWhatFailsIsNotInTheJournal(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	defer s.Close()
	var all sync.WaitGroup
	for i := range 64 {
		all.Go(func() {
			name := fmt.Sprintf("op-%02d", i%2)
			c := store.Change{
				Note: func() []store.Entry {
					return []store.Entry{{At: now, Actor: "service", Command: "x", Kind: "operator", Name: name}}
				},
				Then: func() { assert.Equal(t, "op-00", name) },
			}
			if i%2 == 0 {
				assert.NoError(t, s.AddOperator(ctx, store.Operator{Name: name, Role: store.RoleReader, Created: now}, hash(fmt.Sprint(i)), c))
				return
			}
			assert.True(t, errors.Is(s.RemoveOperator(ctx, name, c), store.ErrNotFound))
		})
	}
	all.Wait()
	stored, err := s.Journal(ctx, store.JournalQuery{Limit: 100})
	require.NoError(t, err)
	assert.Len(t, stored, 32)
	for _, e := range stored {
		assert.Equal(t, "op-00", e.Name)
	}
}
