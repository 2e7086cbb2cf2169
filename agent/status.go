package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"strings"
	"time"

	"patientlantern.example/lantern/internal/onlyone"
)

// Status is how an agent stands, as its own host can tell.
type Status struct {
	Host, Service string
	Revision      int64     // that was carried out last; 0: none
	Given         time.Time // when the service gave it
	Process       string    // of the agent that is at work, where it is told
	Works         bool
	Open          bool  // a change was interrupted, and is not put back yet
	Waits         bool  // the service has something to carry out
	Answer        error // why the service does not answer this host; nil where it does
}

// enrolment is that of a host that has joined, and a link to its service.
func (h *Host) enrolment() (e Enrolment, l *link, err error) {
	if err := h.loadJSON("enrolment.json", &e); errors.Is(err, fs.ErrNotExist) {
		return e, nil, fmt.Errorf("this host has not joined yet (%s is missing): lantern-agent join --service URL --token TOKEN",
			h.statePath("enrolment.json"))
	} else if err != nil {
		return e, nil, err
	}
	key, err := h.key()
	if errors.Is(err, fs.ErrNotExist) {
		return e, nil, fmt.Errorf("the agent's key %s is missing, and %s knows this host by it: lantern-agent forget, and join again",
			h.statePath("key.pem"), e.Service)
	}
	if err != nil {
		return e, nil, fmt.Errorf("the agent's key: %w", err)
	}
	return e, &link{service: e.Service, host: e.Host, key: key, http: newHTTP(), now: time.Now}, nil
}

// asks looks whether a service knows the host, and whether something waits for it.
func (l *link) asks(ctx context.Context) (waits bool, err error) {
	err = l.call(ctx, http.MethodGet, "/api/agent/delivery", nil, nil)
	var no *callError
	if errors.As(err, &no) && no.status == http.StatusNotFound {
		return false, nil
	}
	return err == nil, err
}

// Status looks how the agent stands. Nothing is changed.
func (h *Host) Status(ctx context.Context) (out Status, err error) {
	e, l, err := h.enrolment()
	if err != nil {
		return out, err
	}
	out.Host, out.Service = e.Host, e.Service
	var last memory
	if err := h.loadJSON("memory.json", &last); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return out, err
	}
	out.Revision, out.Given = last.Revision, last.Issued
	if out.Open, err = h.journalOpen(); err != nil {
		return out, err
	}
	if out.Process, out.Works, err = onlyone.Holder(h.statePath("lock")); err != nil {
		return out, err
	}
	out.Waits, out.Answer = l.asks(ctx)
	return out, nil
}

// Move goes on with the same service at another address.
func (h *Host) Move(ctx context.Context, service string) (name string, err error) {
	release, err := h.lock()
	if err != nil {
		return "", err
	}
	defer release()
	e, l, err := h.enrolment()
	if err != nil {
		return "", err
	}
	l.service = strings.TrimRight(service, "/")
	if _, err := l.asks(ctx); err != nil {
		return "", fmt.Errorf("%s does not answer as the service that this host has joined, so nothing was changed: %w", l.service, err)
	}
	e.Service = l.service
	return e.Host, h.saveJSON("enrolment.json", e)
}
