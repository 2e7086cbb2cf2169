package service

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
)

func TestTheDoorIsShutToWhatItDoesNotKnow(t *testing.T) {
	operator, reader := store.Operator{Name: "tern", Role: store.RoleOperator}, store.Operator{Name: "mira", Role: store.RoleReader}
	require.Error(t, may(operator, "no-such-operation"))
	require.Error(t, may(store.Operator{Name: "none"}, "publish-policy"), "somebody without a role changes nothing")
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

// Whoever keeps up hears everything in its order; whoever does not is told to look at
// everything again, and nobody holds the others up.
func TestTheHubTellsManyAtOnce(t *testing.T) {
	h := newHub()
	const listeners, events = 40, 100
	slow := h.listen("slow")
	var all sync.WaitGroup
	ready := make(chan struct{}, listeners)
	for n := range listeners {
		all.Go(func() {
			c := h.listen(fmt.Sprint("op-", n))
			defer h.leave(c)
			ready <- struct{}{}
			var last int64
			for e := range c {
				require.Equal(t, last+1, e.Seq)
				if last = e.Seq; last == events {
					return
				}
			}
		})
	}
	for range listeners {
		<-ready
	}
	for seq := range events {
		h.heard([]store.Entry{{Seq: int64(seq + 1), Kind: kindHost, Name: "gw-01"}, {Seq: 0, Kind: kindOperator, Name: "mira"}})
	}
	all.Wait()
	for seq := range 3 * cap(slow) { // and nobody reads
		h.heard([]store.Entry{{Seq: int64(events + seq + 1), Kind: kindHost}})
	}
	var kinds []string
	for len(slow) > 0 {
		kinds = append(kinds, (<-slow).Kind)
	}
	assert.Contains(t, kinds, api.EventAll)
	assert.NotContains(t, kinds, kindOperator, "who may sign in is not everybody's business")
	h.end("slow")
	_, open := <-slow
	assert.False(t, open)
	h.close()
	_, open = <-h.listen("late")
	assert.False(t, open, "after the end nobody waits")
}

func TestTheCacheWorksOnceForAllWhoAsk(t *testing.T) {
	c := newCache[string, int](8)
	var loads atomic.Int64
	hold := make(chan struct{})
	var all sync.WaitGroup
	for range 64 {
		all.Go(func() {
			v, err := c.get("a", func() (int, error) {
				loads.Add(1)
				<-hold
				return 7, nil
			})
			assert.NoError(t, err)
			assert.Equal(t, 7, v)
		})
	}
	close(hold)
	all.Wait()
	assert.EqualValues(t, 1, loads.Load())

	away := errors.New("away")
	_, err := c.get("b", func() (int, error) { return 0, away })
	require.ErrorIs(t, err, away)
	v, err := c.get("b", func() (int, error) { return 2, nil })
	require.NoError(t, err, "a failure is not remembered")
	assert.Equal(t, 2, v)
	for n := range 100 {
		_, err := c.get(fmt.Sprint(n), func() (int, error) { return n, nil })
		require.NoError(t, err)
	}
	assert.Equal(t, 8, c.kept.Len(), "it is bounded")
}

// Commands that hold the same hosts, in whatever order they found them, do not hold each
// other up.
func TestTheLocksOfManyHostsAreTakenInOneOrder(t *testing.T) {
	var hosts []*host
	for n := range 20 {
		h := &host{}
		h.put(&hostView{Host: store.Host{Name: fmt.Sprintf("gw-%02d", n)}})
		hosts = append(hosts, h)
	}
	turned := slices.Clone(hosts)
	slices.Reverse(turned)
	count := 0
	var all sync.WaitGroup
	for n := range 16 {
		all.Go(func() {
			mine := hosts
			if n%2 == 1 {
				mine = turned
			}
			for range 200 {
				locked := lockAll(mine)
				count++
				locked.unlock()
			}
		})
	}
	done := make(chan struct{})
	go func() { all.Wait(); close(done) }()
	select {
	case <-done:
		assert.Equal(t, 16*200, count)
	case <-time.After(20 * time.Second):
		t.Fatal("they hold each other up")
	}
}

// The fleet is looked at while hosts come, change and go; lists stay by name.
func TestTheFleetChangesUnderThoseWhoLook(t *testing.T) {
	f := &fleet{byName: map[string]*host{}, interval: time.Minute, patience: time.Minute}
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for i := range 60 {
				name := fmt.Sprintf("gw-%d-%02d.brinewick.test", n, i)
				f.enter(&store.Host{Name: name, Key: make([]byte, 32)})
				f.replace([]*hostView{{Host: store.Host{Name: name, Agent: "x"}}})
				if i%3 == 0 {
					f.remove(name)
				}
			}
		})
		all.Go(func() {
			for range 200 {
				var names []string
				for name := range f.names(false) {
					names = append(names, name)
				}
				assert.True(t, slices.IsSorted(names))
				_, _ = f.find("gw-1-01")
			}
		})
	}
	all.Wait()
	assert.Len(t, f.all(), 8*40)
	for _, h := range f.all() {
		assert.Len(t, h.row().Key, 32, "a row that is replaced keeps the key that joining gave")
	}
	_, err := f.find("gw")
	require.ErrorIs(t, err, store.ErrNotFound)
}
