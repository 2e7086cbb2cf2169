package agents

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	jsonv1 "github.com/go-json-experiment/json/v1"

	"golang.org/x/time/rate"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// What one upload and one host may bring.
const (
	mostDocuments = 4096      // in one upload: a survey names a text for each source file
	mostBody      = 8 << 20   // bytes of one document
	hostBytes     = 128 << 20 // of a host at once; as much again comes back within a day
	hostDocuments = 20_000    // likewise
)

// uploads bounds what each host brings: it could make documents up without end.
type uploads struct {
	mu    sync.Mutex
	hosts map[string]*quota
}

type quota struct{ bytes, documents *rate.Limiter }

func newUploads() *uploads { return &uploads{hosts: map[string]*quota{}} }

// allow takes from a host's quota.
func (u *uploads) allow(host string, bytes int, now time.Time) bool {
	u.mu.Lock()
	q := u.hosts[host]
	if q == nil {
		const day = 24 * 60 * 60
		q = &quota{rate.NewLimiter(hostBytes/day, hostBytes), rate.NewLimiter(rate.Limit(hostDocuments)/day, hostDocuments)}
		u.hosts[host] = q
	}
	u.mu.Unlock()
	return q.documents.AllowN(now, 1) && q.bytes.AllowN(now, bytes)
}

// errQuota is the error of a host that brings too much.
var errQuota = errors.New("this host has sent more documents than a host has; try again later")

// readDocuments reads an upload as it comes: what cannot be taken is refused at once, and
// what was read before it is not kept.
func readDocuments(body io.Reader, each func(api.Document) error) error {
	d := json.NewDecoder(body)
	if err := expect(d, json.Delim('{')); err != nil {
		return err
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return err
		}
		if key != "documents" {
			return fmt.Errorf("the field %.40q is not known", fmt.Sprint(key))
		}
		if err := expect(d, json.Delim('[')); err != nil {
			return err
		}
		for n := 0; d.More(); n++ {
			if n == mostDocuments {
				return fmt.Errorf("more than %d documents at once", mostDocuments)
			}
			var doc api.Document
			if err := d.Decode(&doc); err != nil {
				return err
			}
			if len(doc.Body) > mostBody {
				return fmt.Errorf("a document of more than %d bytes", mostBody)
			}
			if err := each(doc); err != nil {
				return err
			}
		}
		if err := expect(d, json.Delim(']')); err != nil {
			return err
		}
	}
	return expect(d, json.Delim('}'))
}

func expect(d *json.Decoder, want json.Delim) error {
	tok, err := d.Token()
	if err == nil && tok != want {
		err = fmt.Errorf("%v is wanted", want)
	}
	return err
}

// checkDocument looks whether a document is of the kind that it is said to be.
func (s *Agents) checkDocument(doc api.Document, given map[string]bool) error {
	switch doc.Kind {
	case store.KindText:
		return nil
	case store.KindTraits:
		return jsonv1.Unmarshal(doc.Body, new(source.Traits))
	case store.KindSurvey:
		var survey source.Survey
		if err := jsonv1.Unmarshal(doc.Body, &survey); err != nil {
			return err
		}
		for _, f := range survey.Files {
			if !given[f.Digest] && !s.Store.Known(f.Digest, store.KindText) {
				return fmt.Errorf("the text of %.200q is missing", f.Path)
			}
		}
		return nil
	}
	return fmt.Errorf("a host cannot send a document of kind %.40q", doc.Kind)
}

// PutDocuments takes documents that no host has sent before, as they come. The error of
// whoever sends them is passed on as it is.
func (s *Agents) PutDocuments(ctx context.Context, from io.Reader) error {
	h := fleet.Caller(ctx)
	var docs []store.Document
	given := map[string]bool{}
	now := s.Now()
	err := readDocuments(from, func(doc api.Document) error {
		if len(doc.Body) == 0 && doc.Kind != store.KindText {
			return errors.New("a document is empty")
		}
		if !s.upload.allow(h.Row().Name, len(doc.Body), now) {
			return errQuota
		}
		if err := s.checkDocument(doc, given); err != nil {
			return err
		}
		d := store.Document{Digest: source.Digest(doc.Body), Kind: doc.Kind, Body: doc.Body}
		if doc.Kind == store.KindText {
			given[d.Digest] = true
		}
		docs = append(docs, d)
		return nil
	})
	switch {
	case errors.Is(err, errQuota):
		s.counts.Refused("documents")
		return refusal.Of(refusal.TooMuch, err.Error())
	case err != nil:
		return &refusal.Error{Kind: refusal.Invalid, Message: "the documents cannot be taken: " + refusal.Short(err.Error()), Cause: err}
	}
	return s.Store.PutDocuments(ctx, now, docs...)
}

// sweepAge is how old a document is at least that nothing names any more.
const sweepAge = 24 * time.Hour

// keepReports is how long what hosts said of rollouts is kept, and what the journal says of
// hosts. How many hosts there were, and what people did, stays.
const keepReports = 400 * 24 * time.Hour

// WatchDocuments forgets, now and then, documents that nothing names any more.
func (s *Agents) WatchDocuments(ctx context.Context) {
	ground.Every(ctx, time.Hour, func() {
		if n, err := s.Sweep(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("forgetting documents that nothing names", "error", err)
		} else if n > 0 {
			s.Log.Info("documents forgotten that nothing names any more", "documents", n)
		}
		if err := s.Store.ForgetPast(ctx, s.Now().Add(-s.Opts.Keep)); err != nil && ctx.Err() == nil {
			s.Log.Error("forgetting what hosts had long ago", "error", err)
		}
		if n, err := s.Store.Forget(ctx, s.Now().Add(-keepReports)); err != nil && ctx.Err() == nil {
			s.Log.Error("forgetting old reports", "error", err)
		} else if n > 0 {
			s.Log.Info("old reports and entries about hosts forgotten", "rows", n)
		}
	})
}

// backTime is how long what hosts had before a rollout is kept to take it back.
const backTime = 90 * 24 * time.Hour

// pastNames notes the documents that the past of hosts and rollouts names.
func (s *Agents) pastNames(ctx context.Context, note func(kind string, digests ...string), surveys map[string]bool) error {
	past, err := s.Store.PastDocuments(ctx)
	if err != nil {
		return err
	}
	sheets, before, err := s.Store.BeforeDocuments(ctx, s.Now().Add(-backTime))
	if err != nil {
		return err
	}
	note(store.KindSheet, sheets...)
	for kind, digests := range past {
		note(kind, digests...)
	}
	for _, d := range append(before, past[store.KindSurvey]...) {
		surveys[d] = true
	}
	return nil
}

// Sweep forgets the documents that nothing names any more, and returns how many there
// were.
func (s *Agents) Sweep(ctx context.Context) (int, error) {
	s.naming.Lock() // nobody comes to name a document meanwhile
	defer s.naming.Unlock()
	before := s.Now().Add(-sweepAge)
	named := map[[2]string]bool{} // kind and digest
	note := func(kind string, digests ...string) {
		for _, d := range digests {
			named[[2]string{kind, d}] = true
		}
	}
	surveys := map[string]bool{}
	for _, h := range s.Fleet.All() {
		v := h.Row()
		note(store.KindTraits, v.Traits)
		base := v.Carried.Known()
		note(store.KindSheet, v.Sheet, v.Carried.Sheet, base.Sheet)
		surveys[v.Survey], surveys[v.Carried.Survey], surveys[base.Survey] = true, true, true
	}
	if err := s.pastNames(ctx, note, surveys); err != nil {
		return 0, err
	}
	delete(surveys, "") // of a host that has none
	for d := range surveys {
		if !s.Store.Known(d, store.KindSurvey) {
			continue
		}
		note(store.KindSurvey, d)
		su, err := s.Compute.SurveyOf(ctx, d)
		if err != nil { // whose texts are not known, nothing is forgotten of
			return 0, err
		}
		for _, f := range su.Files {
			note(store.KindText, f.Digest)
		}
	}
	revisions, err := s.Store.Revisions(ctx)
	if err != nil {
		return 0, err
	}
	for _, r := range revisions {
		note(store.KindPolicy, r.Policy)
	}
	if err := s.Compute.ForgetVerdicts(ctx, s.Fleet.All()); err != nil {
		return 0, err
	}
	return s.Store.Sweep(ctx, before, func(kind, digest string) bool {
		return kind == store.KindPolicy || named[[2]string{kind, digest}]
	})
}
