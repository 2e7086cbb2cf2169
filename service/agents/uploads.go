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
