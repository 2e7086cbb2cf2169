package events

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// Whoever keeps up hears everything in its order; whoever does not is told to look at
// everything again, and nobody holds the others up.
func TestTheHubTellsManyAtOnce(t *testing.T) {
	h := New()
	const listeners, sent = 40, 100
	slow := h.Listen("slow")
	var all sync.WaitGroup
	ready := make(chan struct{}, listeners)
	for n := range listeners {
		all.Go(func() {
			c := h.Listen(fmt.Sprint("op-", n))
			defer h.Leave(c)
			ready <- struct{}{}
			var last int64
			for e := range c {
				require.Equal(t, last+1, e.Seq)
				if last = e.Seq; last == sent {
					return
				}
			}
		})
	}
	for range listeners {
		<-ready
	}
	for seq := range sent {
		h.Heard([]store.Entry{{Seq: int64(seq + 1), Kind: journal.KindHost, Name: "gw-01"}, {Seq: 0, Kind: journal.KindOperator, Name: "mira"}})
	}
	all.Wait()
	for seq := range 3 * cap(slow) { // and nobody reads
		h.Heard([]store.Entry{{Seq: int64(sent + seq + 1), Kind: journal.KindHost}})
	}
	var kinds []string
	for len(slow) > 0 {
		kinds = append(kinds, (<-slow).Kind)
	}
	assert.Contains(t, kinds, api.EventAll)
	assert.NotContains(t, kinds, journal.KindOperator, "who may sign in is not everybody's business")
	h.End("slow")
	_, open := <-slow
	assert.False(t, open)
	h.Close()
	_, open = <-h.Listen("late")
	assert.False(t, open, "after the end nobody waits")
}
