package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
)

// hub passes events on to whoever listens. A listener that does not keep up
// loses single events and is told that it did.
type hub struct {
	mu        sync.Mutex
	listeners map[chan api.Event]bool
	ended     bool
}

func newHub() *hub { return &hub{listeners: map[chan api.Event]bool{}} }

func (h *hub) listen() chan api.Event {
	c := make(chan api.Event, 256)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ended {
		close(c)
		return c
	}
	h.listeners[c] = true
	return c
}

func (h *hub) leave(c chan api.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.listeners, c)
}

func (h *hub) send(e api.Event) {
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
			case c <- api.Event{Kind: "host", Name: ""}:
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
	c := s.events.listen()
	defer s.events.leave(c)
	_, _ = fmt.Fprint(w, "retry: 2000\n\n")
	if rc.Flush() != nil {
		return
	}
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-beat.C:
			if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil || rc.Flush() != nil {
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
