package service

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-jose/go-jose/v4"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

// maxCall and maxUpload bound what an agent may send, in bytes.
const (
	maxCall   = 64 << 10
	maxUpload = 32 << 20
)

// deliveryLife is how long a signed delivery is good.
const deliveryLife = 10 * time.Minute

// agents lets hosts through that prove themselves.
func (s *Service) agents(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h, err := s.auth.agent(r)
		if err != nil {
			s.metrics.refused.WithLabelValues("agent").Inc()
			problem(w, http.StatusUnauthorized, err.Error())
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), agentKey, h)))
	})
}

func agentFrom(ctx context.Context) *host {
	h, _ := ctx.Value(agentKey).(*host)
	return h
}

// decode reads a JSON body, or answers why it cannot.
func decode(w http.ResponseWriter, r *http.Request, limit int64, v any) bool {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, limit))
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than %d bytes", limit))
		return false
	case err != nil:
		problem(w, http.StatusBadRequest, "the body could not be read")
		return false
	}
	if err := json.Unmarshal(body, v); err != nil {
		problem(w, http.StatusBadRequest, "the body is not the JSON that is wanted: "+err.Error())
		return false
	}
	return true
}

func answer(w http.ResponseWriter, v any) {
	b, err := json.Marshal(v)
	if err != nil {
		problem(w, http.StatusInternalServerError, "the answer could not be written")
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(b) // the caller has gone if this fails
}

// fault answers with the status that an error stands for.
func (s *Service) fault(w http.ResponseWriter, r *http.Request, err error) {
	if errors.Is(err, store.ErrNotFound) {
		problem(w, http.StatusNotFound, err.Error())
		return
	}
	s.log.Error("answering", "method", r.Method, "path", r.URL.Path, "error", err)
	problem(w, http.StatusInternalServerError, "the service could not do it; its log says why")
}

// join takes a host into the fleet.
func (s *Service) join(w http.ResponseWriter, r *http.Request) {
	var in api.Join
	if !decode(w, r, maxCall, &in) {
		return
	}
	var key jose.JSONWebKey
	if err := key.UnmarshalJSON([]byte(in.Key)); err != nil || !key.IsPublic() {
		problem(w, http.StatusBadRequest, "the key is not a public JWK")
		return
	}
	pub, ok := key.Key.(ed25519.PublicKey)
	if !ok {
		problem(w, http.StatusBadRequest, "the key is not an Ed25519 key")
		return
	}
	row, err := s.store.Join(r.Context(), hashToken(in.Token), pub, s.now())
	if errors.Is(err, store.ErrNotFound) {
		s.metrics.refused.WithLabelValues("join").Inc()
		problem(w, http.StatusForbidden, "the token is not known, was used already, or has expired: ask for a new one (lantern host invite NAME)")
		return
	}
	if err != nil {
		s.fault(w, r, err)
		return
	}
	if old, err := s.fleet.find(row.Name); err == nil && old.row().Name == row.Name {
		old.mu.Lock()
		v := *old.row()
		v.Key = row.Key
		old.put(&v)
		old.mu.Unlock()
	} else {
		s.fleet.insert(&hostView{Host: *row})
	}
	s.log.Info("a host joined", "host", row.Name)
	s.events.send(api.Event{Kind: "host", Name: row.Name})
	answer(w, api.Joined{Host: row.Name, Service: s.key.public})
}

// checkIn hears by digest how a host stands.
func (s *Service) checkIn(w http.ResponseWriter, r *http.Request) {
	h := agentFrom(r.Context())
	var in api.CheckIn
	if !decode(w, r, maxCall, &in) {
		return
	}
	s.metrics.checkIns.Inc()
	now := s.now()
	wasSilent := h.state(now) == api.StateSilent
	first := h.lastSeen.Load() == 0
	h.seen(now)
	v := h.row()
	out := api.CheckInAnswer{Interval: int(s.opts.Interval.Milliseconds()), Access: s.keeper.stamp(v.Name)}
	if in.Traits == v.Traits && in.Survey == v.Survey && in.Agent == v.Agent && in.Free == nil && in.Access == nil {
		out.Work = v.Task != 0
		if wasSilent || first {
			s.events.send(api.Event{Kind: "host", Name: v.Name})
		}
		answer(w, &out)
		return
	}
	if !s.store.Known(in.Traits, store.KindTraits) {
		out.Want = append(out.Want, in.Traits)
	}
	if !s.store.Known(in.Survey, store.KindSurvey) {
		out.Want = append(out.Want, in.Survey)
	}
	if len(out.Want) > 0 {
		out.Work = v.Task != 0
		answer(w, &out)
		return
	}
	row, err := s.change(r.Context(), h, func(v *hostView) error {
		v.Traits, v.Survey, v.Agent, v.LastSeen = in.Traits, in.Survey, in.Agent, now
		if in.Free != nil {
			v.Free = maps.Clone(in.Free)
		}
		if in.Access != nil {
			b, err := source.Canonical(in.Access)
			if err != nil {
				return err
			}
			v.Access = b
		}
		return nil
	}, nil)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	s.metrics.changed.Inc()
	out.Work = row.Task != 0
	answer(w, &out)
}

// change replaces a host's row: edit changes a copy, which is completed, stored
// and put in place. save stores it; nil stores the row alone.
func (s *Service) change(ctx context.Context, h *host, edit func(*hostView) error, save func(*hostView) error) (*hostView, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	old := h.row()
	v := *old
	if err := edit(&v); err != nil {
		return nil, err
	}
	if err := s.compute.complete(ctx, &v, s.now()); err != nil {
		return nil, err
	}
	if save == nil {
		save = func(v *hostView) error { return s.store.PutHost(ctx, &v.Host) }
	}
	if err := save(&v); err != nil {
		return nil, err
	}
	h.put(&v)
	for _, f := range v.findings {
		if _, before := old.Since[f.Key()]; !before {
			s.log.Info("drift", "host", v.Name, "class", f.Class, "severity", f.Severity, "file", f.File, "line", f.Line)
		}
	}
	s.events.send(api.Event{Kind: "host", Name: v.Name})
	return &v, nil
}

// putDocuments takes documents that no host has sent before.
func (s *Service) putDocuments(w http.ResponseWriter, r *http.Request) {
	var in api.Documents
	if !decode(w, r, maxUpload, &in) {
		return
	}
	var docs []store.Document
	given := map[string]bool{}
	for _, d := range in.Documents {
		doc := store.Document{Digest: source.Digest(d.Body), Kind: d.Kind, Body: d.Body}
		given[doc.Digest] = true
		docs = append(docs, doc)
	}
	for _, d := range docs {
		var err error
		switch d.Kind {
		case store.KindText:
		case store.KindTraits:
			err = json.Unmarshal(d.Body, new(source.Traits))
		case store.KindSurvey:
			var survey source.Survey
			if err = json.Unmarshal(d.Body, &survey); err == nil {
				for _, f := range survey.Files {
					if !given[f.Digest] && !s.store.Known(f.Digest, store.KindText) {
						err = fmt.Errorf("the text of %s is missing", f.Path)
						break
					}
				}
			}
		default:
			err = fmt.Errorf("a host cannot send a document of kind %q", d.Kind)
		}
		if err != nil {
			problem(w, http.StatusUnprocessableEntity, fmt.Sprintf("document %s cannot be taken: %v", d.Digest, err))
			return
		}
	}
	if err := s.store.PutDocuments(r.Context(), s.now(), docs...); err != nil {
		s.fault(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// delivery gives a host its signed sheet, by digest.
func (s *Service) delivery(w http.ResponseWriter, r *http.Request) {
	h := agentFrom(r.Context())
	v := h.row()
	if v.Task == 0 {
		problem(w, http.StatusNotFound, "nothing waits for this host")
		return
	}
	ro, err := s.store.Rollout(r.Context(), v.Task)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	rs, err := s.compute.revision(r.Context(), ro.Revision, s.now())
	if err != nil {
		s.fault(w, r, err)
		return
	}
	res, err := s.compute.resolve(r.Context(), rs, v)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	if len(res.Trouble) > 0 {
		problem(w, http.StatusConflict, "the policy cannot be resolved for this host: "+res.Trouble[0].String())
		return
	}
	now := s.now()
	if err := s.store.PutDocuments(r.Context(), now, store.Document{Digest: res.Digest, Kind: store.KindSheet, Body: res.Text}); err != nil {
		s.fault(w, r, err)
		return
	}
	jws, err := s.key.sign(api.Delivery{Host: v.Name, Revision: ro.Revision, Sheet: res.Digest, Rollout: ro.ID, Issued: now.UTC(), Expires: now.Add(deliveryLife).UTC()})
	if err != nil {
		s.fault(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/jose")
	_, _ = io.WriteString(w, jws) // the agent has gone if this fails
}

// document gives a document by its digest: immutable, so any cache may keep it.
func (s *Service) document(w http.ResponseWriter, r *http.Request) {
	digest := chi.URLParam(r, "digest")
	if !source.IsDigest(digest) {
		problem(w, http.StatusBadRequest, "a document's name is a SHA-256 in hex")
		return
	}
	if r.Header.Get("If-None-Match") == strconv.Quote(digest) {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	// A host needs sheets and nothing else; what other hosts have is not its business.
	if !s.store.Known(digest, store.KindSheet) {
		problem(w, http.StatusNotFound, "there is no sheet of that digest")
		return
	}
	d, err := s.store.Document(r.Context(), digest)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	w.Header().Set("ETag", strconv.Quote(digest))
	_, _ = w.Write(d.Body) // the agent has gone if this fails
}

// report hears how carrying a delivery out went.
func (s *Service) report(w http.ResponseWriter, r *http.Request) {
	h := agentFrom(r.Context())
	var in api.Report
	if !decode(w, r, 1<<20, &in) {
		return
	}
	final := in.State == store.Done || in.State == store.Unchanged || in.State == store.Failed
	if !final && in.State != store.Working {
		problem(w, http.StatusBadRequest, fmt.Sprintf("the state %q is not known", in.State))
		return
	}
	if in.Rollout == 0 { // the agent could not tell: what it was given was not genuine
		in.Rollout = h.row().Task
	}
	if in.Rollout == 0 || h.row().Task != in.Rollout {
		problem(w, http.StatusConflict, "this host has no such task (any more)")
		return
	}
	ro, err := s.store.Rollout(r.Context(), in.Rollout)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	good := in.State == store.Done || in.State == store.Unchanged
	if good && (!s.store.Known(in.Sheet, store.KindSheet) || !s.store.Known(in.Survey, store.KindSurvey)) {
		problem(w, http.StatusConflict, "send the survey first, then the report")
		return
	}
	ended := false
	body, err := json.Marshal(&in)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	now := s.now()
	_, err = s.change(r.Context(), h, func(v *hostView) error {
		if final {
			v.Task, v.failure = 0, ""
			v.LastSeen = now
		}
		if in.State == store.Failed {
			v.failure = fmt.Sprintf("%s: %s", in.Step, in.Message)
		}
		if good {
			v.Revision, v.Sheet, v.Survey = ro.Revision, in.Sheet, in.Survey
			v.Carried = store.Carried{Sheet: in.Sheet, Survey: in.Survey, At: now.UTC()}
		}
		return nil
	}, func(v *hostView) error {
		var err error
		ended, err = s.store.Progress(r.Context(), in.Rollout, store.RolloutHost{Host: v.Name, State: in.State, Report: body, Updated: now}, &v.Host)
		return err
	})
	if err != nil {
		s.fault(w, r, err)
		return
	}
	s.log.Info("report", "host", h.row().Name, "rollout", in.Rollout, "state", in.State, "step", in.Step, "message", in.Message)
	if ended {
		s.log.Info("rollout ended", "rollout", in.Rollout)
	}
	s.events.send(api.Event{Kind: "rollout", Name: strconv.FormatInt(in.Rollout, 10)})
	w.WriteHeader(http.StatusNoContent)
}
