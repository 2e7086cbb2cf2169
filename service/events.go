package service

import (
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/wire"
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

// Streams counts those who listen to events.
func (s *Service) Streams() int {
	s.events.mu.Lock()
	defer s.events.mu.Unlock()
	return len(s.events.listeners)
}

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

// heard takes what the journal was told, in its order.
func (h *hub) heard(entries []store.Entry) {
	for _, e := range entries {
		if !told(e) {
			continue
		}
		h.send(api.Event{Kind: e.Kind, Name: e.Name, Command: e.Command, Seq: e.Seq})
	}
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
			case c <- api.Event{Kind: api.EventAll, Seq: e.Seq}:
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

// serveEvents is a stream of server-sent events: the journal as it grows. Whoever comes
// back says the last one heard, and hears what came since.
func (s *Service) serveEvents(w http.ResponseWriter, r *http.Request) {
	who := operatorFrom(r.Context())
	if err := may(who, "events"); err != nil {
		problem(w, http.StatusForbidden, err.Error())
		return
	}
	rc := http.NewResponseController(w)
	if err := rc.SetWriteDeadline(time.Time{}); err != nil {
		problem(w, http.StatusInternalServerError, "this connection cannot carry a stream")
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	c := s.events.listen(who.Name)
	defer s.events.leave(c)
	_, _ = fmt.Fprint(w, "retry: 2000\n\n")
	last, err := s.missed(w, r)
	if err != nil || rc.Flush() != nil {
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
			if e.Seq != 0 && e.Seq <= last && e.Kind != api.EventAll {
				continue // told already
			}
			if writeEvent(w, e) != nil || rc.Flush() != nil {
				return
			}
		}
	}
}

// told reports whether whoever listens may know of an entry: who may sign in is not
// everybody's business.
func told(e store.Entry) bool { return e.Kind != kindOperator && e.Kind != kindSecrets }

func writeEvent(w http.ResponseWriter, e api.Event) error {
	b, err := wire.Text(e)
	if err != nil {
		return err
	}
	id := ""
	if e.Seq != 0 {
		id = fmt.Sprintf("id: %d\n", e.Seq)
	}
	_, err = fmt.Fprintf(w, "%sevent: %s\ndata: %s\n\n", id, e.Kind, b)
	return err
}

// mostMissed bounds how many events are told one by one to somebody who comes back.
const mostMissed = 256

// missed tells what came since the event that the caller heard last. It returns the newest
// that was told.
func (s *Service) missed(w http.ResponseWriter, r *http.Request) (last int64, err error) {
	heard, err := strconv.ParseInt(r.Header.Get("Last-Event-ID"), 10, 64)
	if err != nil || heard <= 0 {
		return 0, nil // a first visit
	}
	newest, err := s.store.NewestEntry(r.Context())
	if err != nil {
		s.log.Error("reading the journal", "error", err)
		return 0, err
	}
	if heard > newest { // the number is of another journal: this one was put back from a backup, or is new
		return 0, writeEvent(w, api.Event{Kind: api.EventAll})
	}
	entries, err := s.store.Journal(r.Context(), store.JournalQuery{After: heard, Limit: mostMissed + 1, Oldest: true})
	if err != nil {
		s.log.Error("reading the journal", "error", err)
		return 0, err
	}
	if len(entries) > mostMissed {
		return 0, writeEvent(w, api.Event{Kind: api.EventAll})
	}
	last = heard
	for _, e := range entries {
		if !told(e) {
			continue
		}
		if err := writeEvent(w, api.Event{Kind: e.Kind, Name: e.Name, Command: e.Command, Seq: e.Seq}); err != nil {
			return last, err
		}
		last = e.Seq
	}
	return last, nil
}
