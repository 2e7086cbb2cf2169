package web

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/answer"
	"patientlantern.example/lantern/wire"
)

// beatTime is how often a stream says that it is alive: a page that hears nothing for
// longer says so.
const beatTime = 4 * time.Second

// events is a stream of server-sent events: the journal as it grows. Whoever comes back says
// the last one heard, and hears what came since.
func (w *Web) events(rw http.ResponseWriter, r *http.Request) {
	s := w.service
	if err := s.May(r.Context(), "events"); err != nil {
		answer.Fail(w.log, rw, r, err)
		return
	}
	rc := http.NewResponseController(rw)
	if err := rc.SetWriteDeadline(time.Time{}); err != nil {
		answer.Problem(rw, http.StatusInternalServerError, "this connection cannot carry a stream")
		return
	}
	rw.Header().Set("Content-Type", "text/event-stream")
	rw.Header().Set("Cache-Control", "no-store")
	rw.Header().Set("X-Accel-Buffering", "no")
	c, leave := s.Listen(r.Context())
	defer leave()
	_, _ = fmt.Fprint(rw, "retry: 2000\n\n")
	last, err := w.missed(rw, r)
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
			if s.Held() {
				continue
			}
			// Whoever may not look any more hears no more.
			if _, err := w.person(r); err != nil {
				return
			}
			if _, err := fmt.Fprintf(rw, "event: %s\ndata: {}\n\n", api.EventBeat); err != nil || rc.Flush() != nil {
				return
			}
		case e, ok := <-c:
			if !ok {
				return
			}
			if e.Seq != 0 && e.Seq <= last && e.Kind != api.EventAll {
				continue // told already
			}
			if writeEvent(rw, e) != nil || rc.Flush() != nil {
				return
			}
		}
	}
}

func writeEvent(rw http.ResponseWriter, e api.Event) error {
	b, err := wire.Text(e)
	if err != nil {
		return err
	}
	id := ""
	if e.Seq != 0 {
		id = fmt.Sprintf("id: %d\n", e.Seq)
	}
	_, err = fmt.Fprintf(rw, "%sevent: %s\ndata: %s\n\n", id, e.Kind, b)
	return err
}

// missed tells what came since the event that the caller heard last. It returns the newest
// that was told.
func (w *Web) missed(rw http.ResponseWriter, r *http.Request) (last int64, err error) {
	heard, err := strconv.ParseInt(r.Header.Get("Last-Event-ID"), 10, 64)
	if err != nil || heard <= 0 {
		return 0, nil // a first visit
	}
	events, err := w.service.Missed(r.Context(), heard)
	if err != nil {
		return 0, err
	}
	last = heard
	for _, e := range events {
		if err := writeEvent(rw, e); err != nil {
			return last, err
		}
		last = e.Seq
	}
	return last, nil
}
