package fleet

import (
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/store"
)

// Commands that hold the same hosts, in whatever order they found them, do not hold each
// other up.
func TestTheLocksOfManyHostsAreTakenInOneOrder(t *testing.T) {
	var hosts []*Host
	for n := range 20 {
		h := &Host{}
		h.Put(&View{Host: store.Host{Name: fmt.Sprintf("gw-%02d", n)}})
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
				locked := Lock(mine)
				count++
				locked.Unlock()
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
	f := &Fleet{byName: map[string]*Host{}, limits: limits{interval: time.Minute, patience: time.Minute}}
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for i := range 60 {
				name := fmt.Sprintf("gw-%d-%02d.brinewick.test", n, i)
				f.Enter(&store.Host{Name: name, Key: make([]byte, 32)})
				f.Replace([]*View{{Host: store.Host{Name: name, Agent: "x"}}})
				if i%3 == 0 {
					f.Remove(name)
				}
			}
		})
		all.Go(func() {
			for range 200 {
				var names []string
				for name := range Names(f.All(), false) {
					names = append(names, name)
				}
				assert.True(t, slices.IsSorted(names))
				_, _ = f.Find("gw-1-01")
			}
		})
	}
	all.Wait()
	assert.Len(t, f.All(), 8*40)
	for _, h := range f.All() {
		assert.Len(t, h.Row().Key, 32, "a row that is replaced keeps the key that joining gave")
	}
	_, err := f.Find("gw")
	require.ErrorIs(t, err, store.ErrNotFound)
}

// While a rollout is held nobody of it begins, those that it left behind neither; who is at work ends by himself.
func TestAHeldRolloutHoldsBackAllThatAreNotAtWork(t *testing.T) {
	f := &Fleet{byName: map[string]*Host{}, limits: limits{interval: time.Minute, patience: time.Minute}}
	f.SetHeld(1, true)
	f.SetHeld(2, false)
	for _, stage := range []rollout.State{rollout.Waiting, rollout.Behind, rollout.Working} {
		for task := range int64(3) {
			v := &View{Host: store.Host{Name: "gw-01", Task: task, Stage: stage}}
			assert.Equal(t, task == 1 && stage != rollout.Working, f.HoldsBack(v), "%s, task %d", stage, task)
			assert.Equal(t, task != 0 && stage != rollout.Behind, f.Busy(v) != "", "%s, task %d", stage, task)
		}
	}
	f.SetHeld(1, false)
	assert.False(t, f.HoldsBack(&View{Host: store.Host{Task: 1, Stage: rollout.Behind}}))
}
