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
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-jose/go-jose/v4"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family"
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
		problem(w, http.StatusBadRequest, "the body is not the JSON that is wanted: "+short(err.Error()))
		return false
	}
	return true
}

// short bounds an error that may repeat what somebody sent.
func short(s string) string { return clip(s, 200) }

// clip cuts a text off after so many bytes, and shows that it did.
func clip(s string, most int) string {
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "") + " …"
	}
	return s
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
	if !decode(w, r, maxSignIn, &in) {
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
	var same *store.SameKeyError
	if errors.As(err, &same) {
		s.metrics.refused.WithLabelValues("join").Inc()
		problem(w, http.StatusConflict, same.Error())
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
	if h.runs.note(in.Instance, now) {
		s.log.Warn("two machines check in with one identity", "host", h.row().Name)
		s.events.send(api.Event{Kind: "host", Name: h.row().Name})
	}
	wasSilent := h.state(now) == api.StateSilent
	first := h.lastSeen.Load() == 0
	h.seen(now)
	v := h.row()
	out := api.CheckInAnswer{Interval: int(s.opts.Interval.Milliseconds()), Access: s.keeper.stamp(v.Name)}
	stamp, names := s.asked.current()
	if out.Asked = stamp; stamp != "" && stamp != v.answered {
		out.Packages = names
	}
	if in.Traits == v.Traits && in.Survey == v.Survey && in.Agent == v.Agent && in.Free == nil && in.Access == nil && in.Packages == nil && in.Trouble == v.Trouble {
		out.Work = v.Task != 0
		if wasSilent || first {
			s.events.send(api.Event{Kind: "host", Name: v.Name})
		}
		answer(w, &out)
		return
	}
	s.naming.RLock()
	defer s.naming.RUnlock()
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
		v.Trouble = short(in.Trouble)
		if in.Packages != nil {
			if err := takePackages(v, in.Packages, stamp, names); err != nil {
				return err
			}
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

// takePackages notes which packages a host says are installed.
func takePackages(v *hostView, in *api.Packages, stamp string, names []string) error {
	if in.Asked != stamp {
		return nil // of a list that was asked for before
	}
	p := havePackages{Asked: stamp, Names: names, Installed: map[string]string{}}
	for _, n := range names {
		if version := in.Installed[n]; version != "" {
			p.Installed[n] = short(version)
		}
	}
	b, err := json.Marshal(p)
	v.Packages = b
	return err
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
	v.broken = ""
	s.ask(ctx, &v)
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
	jws, err := s.key.sign(api.Delivery{Host: v.Name, Revision: ro.Revision, Sheet: res.Digest, Rollout: ro.ID, SetAside: ro.SetAside, Issued: now.UTC(), Expires: now.Add(deliveryLife).UTC()})
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
	d, err := s.store.Document(r.Context(), digest, store.KindSheet)
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
	final := in.State == store.Done || in.State == store.Unchanged || in.State == store.Failed || in.State == store.Stopped
	if !final && in.State != store.Working {
		problem(w, http.StatusBadRequest, fmt.Sprintf("the state %q is not known", short(in.State)))
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
	if !final {
		if !s.hear(h, ro, in.Step) {
			problem(w, http.StatusConflict, "the rollout was stopped")
			return
		}
		if h.row().working {
			w.WriteHeader(http.StatusNoContent)
			return
		}
	}
	if in.State == store.Stopped {
		s.withdraw(w, r, h, ro)
		return
	}
	s.naming.RLock()
	defer s.naming.RUnlock()
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
		v.behind, v.working = false, !final
		if final {
			v.Task, v.failure = 0, ""
			v.LastSeen = now
			v.unfetched = unfetchedOf(body)
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
	s.log.Info("report", "host", h.row().Name, "rollout", in.Rollout, "state", in.State, "step", in.Step, "message", family.HideWords(in.Message, nil))
	if ended {
		s.log.Info("rollout ended", "rollout", in.Rollout)
	}
	s.events.send(api.Event{Kind: "rollout", Name: strconv.FormatInt(in.Rollout, 10)})
	w.WriteHeader(http.StatusNoContent)
}

// withdraw takes a host out of a rollout that was stopped before it had touched anything.
func (s *Service) withdraw(w http.ResponseWriter, r *http.Request, h *host, ro store.Rollout) {
	ended := false
	_, err := s.change(r.Context(), h, func(v *hostView) error {
		v.Task, v.working, v.behind = 0, false, false
		return nil
	}, func(v *hostView) error {
		var err error
		ended, err = s.store.Withdraw(r.Context(), ro.ID, &v.Host, s.now())
		return err
	})
	if err != nil {
		s.fault(w, r, err)
		return
	}
	s.log.Info("stopped before anything was touched", "host", h.row().Name, "rollout", ro.ID, "ended", ended)
	s.events.send(api.Event{Kind: "rollout", Name: strconv.FormatInt(ro.ID, 10)})
	w.WriteHeader(http.StatusNoContent)
}
