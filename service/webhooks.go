package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// webhookKinds are the kinds of entries that can be told.
var webhookKinds = []string{
	journal.KindHost, journal.KindRollout, journal.KindRevision, journal.KindFreeze, journal.KindWaiver, journal.KindSeats,
}

// mostWebhooks bounds how many addresses there are.
const mostWebhooks = 50

func (s *Service) webhookOf(ctx context.Context, w store.Webhook) api.Webhook {
	out := api.Webhook{ID: w.ID, URL: w.URL, About: w.About, Author: w.Author, Created: w.Created, Failed: w.Failed, Error: w.Error}
	if w.Failed > 0 {
		out.Next = &w.Next
	}
	if newest, err := s.store.NewestEntry(ctx); err == nil {
		out.Waiting = w.Failed > 0 && newest > w.Told
	}
	return out
}

// ListWebhooks lists who is told of what happens.
func (s *Service) ListWebhooks(ctx context.Context, _ *struct{}) (*api.WebhookList, error) {
	list, err := s.store.Webhooks(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	out := api.WebhookList{Webhooks: []api.Webhook{}}
	for _, w := range list {
		out.Webhooks = append(out.Webhooks, s.webhookOf(ctx, w))
	}
	out.Total = len(out.Webhooks)
	return &out, nil
}

// WebhookIn is a webhook as it is sent.
type WebhookIn struct {
	Body api.WebhookOrder
}

// AddWebhook tells an address of what happens.
func (s *Service) AddWebhook(ctx context.Context, in *WebhookIn) (*api.Webhook, error) {
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
			return nil, refusal.Wrong(fmt.Sprintf("about: there is no kind %q; kinds are %v", short(k), webhookKinds))
		}
	}
	if len(about) == 0 {
		about = webhookKinds
	}
	all, err := s.store.Webhooks(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	if len(all) >= mostWebhooks {
		return nil, refusal.Conflict(fmt.Sprintf("there are %d webhooks, which is the most; take one away first", len(all)))
	}
	secret := make([]byte, 32)
	if _, err := rand.Read(secret); err != nil {
		return nil, s.refuse(err)
	}
	sealed, err := s.opts.Vault.Seal(secret)
	if err != nil {
		return nil, s.refuse(err)
	}
	told, err := s.store.NewestEntry(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	w := store.Webhook{URL: in.Body.URL, Secret: sealed, About: about, Author: operatorFrom(ctx).Name, Created: s.now().UTC(), Told: told}
	by := journal.By(ctx)
	if err := s.store.AddWebhook(ctx, &w, store.Change{Note: func() []store.Entry {
		return []store.Entry{s.entry(by, "add-webhook", journal.KindWebhook, strconv.FormatInt(w.ID, 10))}
	}}); err != nil {
		return nil, s.refuse(err)
	}
	out := s.webhookOf(ctx, w)
	out.Secret = base64.StdEncoding.EncodeToString(secret)
	return &out, nil
}

// WebhookPath names a webhook.
type WebhookPath struct {
	ID int64 `path:"id"`
}

// RemoveWebhook tells an address no more.
func (s *Service) RemoveWebhook(ctx context.Context, in *WebhookPath) error {
	err := s.store.RemoveWebhook(
		ctx,
		in.ID,
		store.Noted(s.entry(journal.By(ctx), "remove-webhook", journal.KindWebhook, strconv.FormatInt(in.ID, 10))),
	)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.NotFound(fmt.Sprintf("there is no webhook %d", in.ID))
	}
	if err != nil {
		return s.refuse(err)
	}
	return nil
}

// TryWebhook calls a webhook once, with an event that says that it is a test.
func (s *Service) TryWebhook(ctx context.Context, in *WebhookPath) (*api.WebhookTry, error) {
	list, err := s.store.Webhooks(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	i := slices.IndexFunc(list, func(w store.Webhook) bool { return w.ID == in.ID })
	if i < 0 {
		return nil, refusal.NotFound(fmt.Sprintf("there is no webhook %d", in.ID))
	}
	begun := time.Now()
	test := cloudEvent{
		SpecVersion: "1.0", ID: fmt.Sprintf("test-%d", begun.UnixMilli()), Source: eventSource, Type: "lantern.test", Time: s.now().UTC(),
		ContentType: "application/json", Data: eventData{By: journal.By(ctx).String(), Why: "a test call"},
	}
	status, err := s.callWebhook(ctx, &list[i], []cloudEvent{test})
	out := api.WebhookTry{Status: status, Took: time.Since(begun).Milliseconds()}
	if err != nil {
		out.Message = short(err.Error())
	}
	return &out, nil
}
