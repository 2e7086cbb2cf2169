// Package events tells those who listen what the journal says, as it grows.
package events

import (
	"sync"
	"sync/atomic"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// Hub passes events on to whoever listens. A listener that does not keep up
// loses single events and is told that it did.
type Hub struct {
	mu        sync.Mutex
	listeners map[chan api.Event]string // to the operator who listens
	ended     bool
	held      atomic.Bool // streams say nothing, as those of a service that hangs
}

// New is a hub to which nobody listens.
func New() *Hub { return &Hub{listeners: map[chan api.Event]string{}} }

// Listen is all that happens from now on, for an operator. It is closed where they may not look
// any more, or at the end.
func (h *Hub) Listen(operator string) chan api.Event {
	c := make(chan api.Event, 256)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ended {
		close(c)
		return c
	}
	h.listeners[c] = operator
	return c
}

// End ends the streams of an operator.
func (h *Hub) End(operator string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c, who := range h.listeners {
		if who == operator {
			delete(h.listeners, c)
			close(c)
		}
	}
}

// Leave ends listening.
func (h *Hub) Leave(c chan api.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.listeners, c)
}

// Heard takes what the journal was told, in its order.
func (h *Hub) Heard(entries []store.Entry) {
	for _, e := range entries {
		if !journal.Told(e) {
			continue
		}
		h.send(api.Event{Kind: e.Kind, Name: e.Name, Command: e.Command, Seq: e.Seq})
	}
}

func (h *Hub) send(e api.Event) {
	if h.held.Load() {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- e:
		default:
			select { // make room and ask the listener to look at everything again
			case <-c:
			default:
			}
			select {
			case c <- api.Event{Kind: api.EventAll, Seq: e.Seq}:
			default:
			}
		}
	}
}

// Close ends all streams, and those that are still to come.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ended = true
	for c := range h.listeners {
		close(c)
	}
	clear(h.listeners)
}

// Hold makes streams fall silent, or ends that: tests play a service that hangs.
func (h *Hub) Hold(hold bool) { h.held.Store(hold) }

// Held reports whether streams say nothing.
func (h *Hub) Held() bool { return h.held.Load() }

// Listeners counts those who listen.
func (h *Hub) Listeners() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.listeners)
}
