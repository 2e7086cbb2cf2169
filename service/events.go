package service

import (
	"context"
	"sync"
	"sync/atomic"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
)

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

// Listen is all that happens from now on, for an operator, until leave is called. It ends where
// that operator may not look any more, or where the service ends.
func (s *Service) Listen(ctx context.Context) (events <-chan api.Event, leave func()) {
	c := s.events.listen(operatorFrom(ctx).Name)
	return c, func() { s.events.leave(c) }
}

// Held reports whether streams say nothing, as those of a service that hangs.
func (s *Service) Held() bool { return s.events.held.Load() }

// told reports whether whoever listens may know of an entry: who may sign in is not
// everybody's business.
func told(e store.Entry) bool { return e.Kind != kindOperator && e.Kind != kindSecrets }

// mostMissed bounds how many events are told one by one to somebody who comes back.
const mostMissed = 256

// Missed is what came since the event that somebody heard last: everything is to be looked at
// again where that is too much, or where the number is of another journal.
func (s *Service) Missed(ctx context.Context, heard int64) (events []api.Event, err error) {
	all := []api.Event{{Kind: api.EventAll}}
	newest, err := s.store.NewestEntry(ctx)
	if err != nil {
		s.log.Error("reading the journal", "error", err)
		return nil, err
	}
	if heard > newest { // this journal was put back from a backup, or is new
		return all, nil
	}
	entries, err := s.store.Journal(ctx, store.JournalQuery{After: heard, Limit: mostMissed + 1, Oldest: true})
	if err != nil {
		s.log.Error("reading the journal", "error", err)
		return nil, err
	}
	if len(entries) > mostMissed {
		return all, nil
	}
	for _, e := range entries {
		if told(e) {
			events = append(events, api.Event{Kind: e.Kind, Name: e.Name, Command: e.Command, Seq: e.Seq})
		}
	}
	return events, nil
}
