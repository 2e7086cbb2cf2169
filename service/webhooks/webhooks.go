// Package webhooks tells addresses outside what the journal says: who is told what, and how far
// each has been told.
package webhooks

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strconv"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/service/hook"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/vault"
)

// Teller keeps who is told of what, and tells them.
type Teller struct {
	store   *store.Store
	vault   *vault.Vault
	log     *slog.Logger
	now     func() time.Time
	version string // of the service, as it calls itself
	caller  *hook.Caller
}

// New is a teller of what the journal of a store says. The vault keeps the secrets that calls are
// signed with.
func New(st *store.Store, v *vault.Vault, log *slog.Logger, now func() time.Time, version string) *Teller {
	return &Teller{store: st, vault: v, log: log, now: now, version: version, caller: hook.NewCaller()}
}

// webhookKinds are the kinds of entries that can be told.
var webhookKinds = []string{
	journal.KindHost, journal.KindRollout, journal.KindRevision, journal.KindFreeze, journal.KindWaiver, journal.KindSeats,
}

// mostWebhooks bounds how many addresses there are.
const mostWebhooks = 50

func (t *Teller) webhookOf(ctx context.Context, w store.Webhook) api.Webhook {
	out := api.Webhook{
		ID: w.ID, URL: family.MaskURL(w.URL), About: w.About, Author: w.Author, Created: w.Created, Failed: w.Failed, Error: w.Error,
	}
	if w.Failed > 0 {
		out.Next = &w.Next
	}
	if newest, err := t.store.NewestEntry(ctx); err == nil {
		out.Waiting = w.Failed > 0 && newest > w.Told
	}
	return out
}

// ListWebhooks lists who is told of what happens.
func (t *Teller) ListWebhooks(ctx context.Context, _ *struct{}) (*api.WebhookList, error) {
	list, err := t.store.Webhooks(ctx)
	if err != nil {
		return nil, err
	}
	out := api.WebhookList{Webhooks: []api.Webhook{}}
	for _, w := range list {
		out.Webhooks = append(out.Webhooks, t.webhookOf(ctx, w))
	}
	out.Total = len(out.Webhooks)
	return &out, nil
}

// WebhookIn is a webhook as it is sent.
type WebhookIn struct {
	Body api.WebhookOrder
}

// AddWebhook tells an address of what happens.
func (t *Teller) AddWebhook(ctx context.Context, in *WebhookIn) (*api.Webhook, error) {
	u, err := url.Parse(in.Body.URL)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return nil, refusal.Wrong("url: write it as https://HOST/PATH")
	case u.User != nil:
		return nil, refusal.Wrong(
			"url: a login in it would stand in lists and logs; the calls are signed, let the receiver check that",
		)
	}
	about := in.Body.About
	for _, k := range about {
		if !slices.Contains(webhookKinds, k) {
			return nil, refusal.Wrong(fmt.Sprintf("about: there is no kind %q; kinds are %v", refusal.Short(k), webhookKinds))
		}
	}
	if len(about) == 0 {
		about = webhookKinds
	}
	all, err := t.store.Webhooks(ctx)
	if err != nil {
		return nil, err
	}
	if len(all) >= mostWebhooks {
		return nil, refusal.Conflict(fmt.Sprintf("there are %d webhooks, which is the most; take one away first", len(all)))
	}
	secret := make([]byte, 32)
	if _, err := rand.Read(secret); err != nil {
		return nil, err
	}
	told, err := t.store.NewestEntry(ctx)
	if err != nil {
		return nil, err
	}
	w := store.Webhook{URL: in.Body.URL, About: about, Author: journal.By(ctx).Name, Created: t.now().UTC(), Told: told}
	by := journal.By(ctx)
	if err := t.vault.Keep(secret, func(sealed []byte) error {
		w.Secret = sealed
		return t.store.AddWebhook(ctx, &w, store.Change{Note: func() []store.Entry {
			return []store.Entry{journal.At(t.now(), by, "add-webhook", journal.KindWebhook, strconv.FormatInt(w.ID, 10))}
		}})
	}); err != nil {
		return nil, err
	}
	out := t.webhookOf(ctx, w)
	out.Secret = base64.StdEncoding.EncodeToString(secret)
	return &out, nil
}

// WebhookPath names a webhook.
type WebhookPath struct {
	ID int64 `path:"id"`
}

// RemoveWebhook tells an address no more.
func (t *Teller) RemoveWebhook(ctx context.Context, in *WebhookPath) error {
	err := t.store.RemoveWebhook(
		ctx,
		in.ID,
		store.Noted(journal.At(t.now(), journal.By(ctx), "remove-webhook", journal.KindWebhook, strconv.FormatInt(in.ID, 10))),
	)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.NotFound(fmt.Sprintf("there is no webhook %d", in.ID))
	}
	return err
}

// TryWebhook calls a webhook once, with an event that says that it is a test.
func (t *Teller) TryWebhook(ctx context.Context, in *WebhookPath) (*api.WebhookTry, error) {
	list, err := t.store.Webhooks(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(w store.Webhook) bool { return w.ID == in.ID })
	if i < 0 {
		return nil, refusal.NotFound(fmt.Sprintf("there is no webhook %d", in.ID))
	}
	begun := time.Now()
	test := cloudEvent{
		SpecVersion: "1.0", ID: fmt.Sprintf("test-%d", begun.UnixMilli()), Source: eventSource, Type: "lantern.test", Time: t.now().UTC(),
		ContentType: "application/json", Data: eventData{By: journal.By(ctx).String(), Why: "a test call"},
	}
	status, err := t.callWebhook(ctx, &list[i], []cloudEvent{test})
	out := api.WebhookTry{Status: status, Took: time.Since(begun).Milliseconds()}
	if err != nil {
		out.Message = refusal.Short(err.Error())
	}
	return &out, nil
}
