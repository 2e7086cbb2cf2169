package webhooks

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"patientlantern.example/lantern/service/hook"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/wire"
)

// Webhooks are told what the journal says, each from where it left off: what could not be
// told is told later, in order, and nothing is told twice that was taken.

// Pause is how often the service looks whether there is something to tell.
const Pause = time.Second

const (
	eventSource = "/patient-lantern"
	callTime    = 10 * time.Second // for one call
	mostTold    = 100              // events in one call
	firstRetry  = 5 * time.Second  // doubled with each failure
	lastRetry   = time.Hour
)

// cloudEvent is an event as CloudEvents 1.0 writes it in JSON.
type cloudEvent struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        eventData `json:"data"`
}

type eventData struct {
	By     string          `json:"by"`
	Why    string          `json:"why,omitempty"`
	Detail json.RawMessage `json:"detail,omitempty"`
}

// eventOf is an entry of the journal as an event; false where it tells nothing that anybody
// waits for: hosts say often that nothing has changed.
func eventOf(e store.Entry) (cloudEvent, bool) {
	said := e.Command == journal.CommandCheckIn || e.Command == journal.CommandReport
	if e.Kind == journal.KindDay || e.Kind == journal.KindHost && said && len(e.Detail) == 0 {
		return cloudEvent{}, false
	}
	return cloudEvent{
		SpecVersion: "1.0", ID: strconv.FormatInt(e.Seq, 10), Source: eventSource, Type: "lantern." + e.Kind + "." + e.Command,
		Subject: e.Name, Time: e.At, ContentType: "application/json", Data: eventData{By: e.Actor, Why: e.Why, Detail: e.Detail},
	}, true
}

// Tell tells each webhook what it was not told yet, but for those that are to be left alone
// for a while. One that is slow to answer keeps no other waiting for its turn.
func (t *Teller) Tell(ctx context.Context) {
	list, err := t.store.Webhooks(ctx)
	if err != nil {
		if ctx.Err() == nil {
			t.log.Error("reading webhooks", "error", err)
		}
		return
	}
	now := t.now()
	var all sync.WaitGroup
	for i := range list {
		if w := &list[i]; !now.Before(w.Next) {
			all.Go(func() {
				if err := t.tellWebhook(ctx, w); err != nil && ctx.Err() == nil {
					t.log.Error("telling a webhook", "webhook", w.ID, "error", err)
				}
			})
		}
	}
	all.Wait()
}

// tellWebhook tells one webhook what it was not told yet, some at a time.
func (t *Teller) tellWebhook(ctx context.Context, w *store.Webhook) error {
	entries, err := t.store.Journal(ctx, store.JournalQuery{After: w.Told, Oldest: true, Limit: 10 * mostTold})
	if err != nil || len(entries) == 0 {
		return err
	}
	var events []cloudEvent
	told := w.Told
	for _, e := range entries {
		if len(events) == mostTold {
			break
		}
		told = e.Seq
		if event, tells := eventOf(e); tells && slices.Contains(w.About, e.Kind) {
			events = append(events, event)
		}
	}
	if len(events) > 0 {
		status, err := t.callWebhook(ctx, w, events)
		if err != nil {
			pause := min(firstRetry<<min(w.Failed, 20), lastRetry)
			w.Failed, w.Error, w.Next = w.Failed+1, refusal.Short(err.Error()), t.now().Add(pause)
			t.log.Warn("a webhook cannot be told", "webhook", w.ID, "status", status, "error", w.Error, "next", pause.String())
			return t.store.Calls(ctx, w)
		}
	}
	w.Told, w.Failed, w.Error, w.Next = told, 0, "", time.Time{}
	return t.store.Calls(ctx, w)
}

// callWebhook makes one call. Redirects are not followed: what is signed is for one address.
func (t *Teller) callWebhook(ctx context.Context, w *store.Webhook, events []cloudEvent) (status int, err error) {
	text, err := wire.Text(events)
	if err != nil {
		return 0, err
	}
	secret, err := t.vault.Open(w.Secret)
	if err != nil {
		return 0, fmt.Errorf("its secret cannot be read: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	by := hook.Signature{Name: fmt.Sprintf("webhook-%d", w.ID), Secret: secret, At: t.now()}
	return t.caller.Call(ctx, w.URL, "patient-lantern/"+t.version, by, text)
}
