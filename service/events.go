package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"patientlantern.example/lantern/api"
)

// beatTime is how often a stream says that it is alive: a page that hears nothing for
// longer says so.
const beatTime = 5 * time.Second

// hub passes events on to whoever listens. A listener that does not keep up
// loses single events and is told that it did.
type hub struct {
	mu        sync.Mutex
	listeners map[chan api.Event]string // to the operator who listens
	ended     bool
	held      atomic.Bool // streams say nothing, as those of a service that hangs
}

// HoldEvents makes streams fall silent, or ends that: tests play a service that hangs.
func (s *Service) HoldEvents(hold bool) { s.events.held.Store(hold) }

func newHub() *hub { return &hub{listeners: map[chan api.Event]string{}} }

func (h *hub) listen(operator string) chan api.Event {
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

// end ends the streams of an operator.
func (h *hub) end(operator string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c, who := range h.listeners {
		if who == operator {
			delete(h.listeners, c)
			close(c)
		}
	}
}

func (h *hub) leave(c chan api.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.listeners, c)
}

func (h *hub) send(e api.Event) {
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
			case c <- api.Event{Kind: api.EventAll}:
			default:
			}
		}
	}
}

func (h *hub) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ended = true
	for c := range h.listeners {
		close(c)
	}
	clear(h.listeners)
}

// serveEvents is a stream of server-sent events.
func (s *Service) serveEvents(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	if err := rc.SetWriteDeadline(time.Time{}); err != nil {
		problem(w, http.StatusInternalServerError, "this connection cannot carry a stream")
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	c := s.events.listen(operatorFrom(r.Context()).Name)
	defer s.events.leave(c)
	_, _ = fmt.Fprint(w, "retry: 2000\n\n")
	if rc.Flush() != nil {
		return
	}
	beat := time.NewTicker(beatTime)
	defer beat.Stop()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-beat.C:
			if s.events.held.Load() {
				continue
			}
			// Whoever may not look any more hears no more.
			if _, err := s.auth.operator(r); err != nil {
				return
			}
			if _, err := fmt.Fprintf(w, "event: %s\ndata: {}\n\n", api.EventBeat); err != nil || rc.Flush() != nil {
				return
			}
		case e, ok := <-c:
			if !ok {
				return
			}
			b, err := json.Marshal(e)
			if err != nil {
				return
			}
			if _, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.Kind, b); err != nil || rc.Flush() != nil {
				return
			}
		}
	}
}
