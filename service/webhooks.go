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

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
)

// webhookKinds are the kinds of entries that can be told.
var webhookKinds = []string{kindHost, kindRollout, kindRevision, kindFreeze, kindWaiver, kindSeats}

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

func (s *Service) listWebhooks(ctx context.Context, _ *struct{}) (*body[api.WebhookList], error) {
	list, err := s.store.Webhooks(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	out := api.WebhookList{Webhooks: []api.Webhook{}}
	for _, w := range list {
		out.Webhooks = append(out.Webhooks, s.webhookOf(ctx, w))
	}
	out.Total = len(out.Webhooks)
	return &body[api.WebhookList]{out}, nil
}

type webhookIn struct {
	Body api.WebhookOrder
}

func (s *Service) addWebhook(ctx context.Context, in *webhookIn) (*body[api.Webhook], error) {
	u, err := url.Parse(in.Body.URL)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return nil, huma.Error422UnprocessableEntity("url: write it as https://HOST/PATH")
	case u.User != nil:
		return nil, huma.Error422UnprocessableEntity(
			"url: a login in it would stand in lists and logs; the calls are signed, let the receiver check that",
		)
	}
	about := in.Body.About
	for _, k := range about {
		if !slices.Contains(webhookKinds, k) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("about: there is no kind %q; kinds are %v", short(k), webhookKinds))
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
		return nil, huma.Error409Conflict(fmt.Sprintf("there are %d webhooks, which is the most; take one away first", len(all)))
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
	by := actorFrom(ctx)
	if err := s.store.AddWebhook(ctx, &w, store.Change{Note: func() []store.Entry {
		return []store.Entry{s.entry(by, "add-webhook", kindWebhook, strconv.FormatInt(w.ID, 10))}
	}}); err != nil {
		return nil, s.refuse(err)
	}
	out := s.webhookOf(ctx, w)
	out.Secret = base64.StdEncoding.EncodeToString(secret)
	return &body[api.Webhook]{out}, nil
}

type webhookPath struct {
	ID int64 `path:"id"`
}

func (s *Service) removeWebhook(ctx context.Context, in *webhookPath) (*struct{}, error) {
	err := s.store.RemoveWebhook(
		ctx,
		in.ID,
		store.Noted(s.entry(actorFrom(ctx), "remove-webhook", kindWebhook, strconv.FormatInt(in.ID, 10))),
	)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no webhook %d", in.ID))
	}
	if err != nil {
		return nil, s.refuse(err)
	}
	return nil, nil
}

// tryWebhook calls a webhook once, with an event that says that it is a test.
func (s *Service) tryWebhook(ctx context.Context, in *webhookPath) (*body[api.WebhookTry], error) {
	list, err := s.store.Webhooks(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	i := slices.IndexFunc(list, func(w store.Webhook) bool { return w.ID == in.ID })
	if i < 0 {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no webhook %d", in.ID))
	}
	begun := time.Now()
	test := cloudEvent{
		SpecVersion: "1.0", ID: fmt.Sprintf("test-%d", begun.UnixMilli()), Source: eventSource, Type: "lantern.test", Time: s.now().UTC(),
		ContentType: "application/json", Data: eventData{By: actorFrom(ctx).String(), Why: "a test call"},
	}
	status, err := s.callWebhook(ctx, &list[i], []cloudEvent{test})
	out := api.WebhookTry{Status: status, Took: time.Since(begun).Milliseconds()}
	if err != nil {
		out.Message = short(err.Error())
	}
	return &body[api.WebhookTry]{out}, nil
}
