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
	"patientlantern.example/lantern/core/rollout"
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
	row, err := s.store.Join(r.Context(), hashToken(in.Token), pub, s.now(), func(row *store.Host) store.Change {
		return store.Change{
			Note: func() []store.Entry {
				return []store.Entry{s.entry(actor{actorHost, row.Name}, commandJoin, kindHost, row.Name)}
			},
			Then: func() { s.fleet.enter(row) },
		}
	})
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
	s.log.Info("a host joined", "host", row.Name)
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
		s.note(r.Context(), s.entry(actorFrom(r.Context()), commandTwins, kindHost, h.row().Name))
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
			s.note(r.Context(), s.entry(actorFrom(r.Context()), commandAppear, kindHost, v.Name))
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
	row, err := s.change(r.Context(), h, commandCheckIn, func(v *hostView) error {
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

// change replaces a host's row by a command: edit changes a copy, which is completed,
// stored and put in place. save stores it; nil stores the row alone. What the journal
// keeps of it is the host's history.
func (s *Service) change(ctx context.Context, h *host, command string, edit func(*hostView) error, save func(*hostView, store.Change) error) (*hostView, error) {
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
		save = func(v *hostView, c store.Change) error { return s.store.PutHost(ctx, &v.Host, c) }
	}
	e := s.entry(actorFrom(ctx), command, kindHost, v.Name)
	if came := newsOf(old, &v); came != nil {
		e = detailed(e, came)
	}
	c := noted(e)
	c.Then = func() {
		v.Key = h.row().Key // it may have joined anew meanwhile
		h.put(&v)
	}
	if err := save(&v, c); err != nil {
		return nil, err
	}
	for i, f := range v.findings {
		if _, before := old.Since.Of(v.keys[i]); !before {
			s.log.Info("drift", "host", v.Name, "class", f.Class, "severity", f.Severity, "file", f.File, "line", f.Line)
		}
	}
	return &v, nil
}

// again works out anew how a host stands, because of a command that changed something else.
func (s *Service) again(ctx context.Context, h *host, command string) (*hostView, error) {
	return s.change(ctx, h, command, func(*hostView) error { return nil }, nil)
}

// news is what changed on a host: findings that came, by class, and how many went.
type news struct {
	Came     []newsItem `json:"came,omitempty"`
	Went     int        `json:"went,omitempty"`
	Revision int64      `json:"revision,omitempty"`
}

type newsItem struct {
	Class    string `json:"class"`
	Severity string `json:"severity"`
	File     string `json:"file,omitempty"`
}

// mostNews bounds how many findings one entry names.
const mostNews = 50

func newsOf(old, v *hostView) *news {
	var out news
	for i, f := range v.findings {
		if _, before := old.Since.Of(v.keys[i]); !before && len(out.Came) < mostNews {
			out.Came = append(out.Came, newsItem{f.Class, f.Severity, f.File})
		}
	}
	for _, k := range old.keys {
		if _, still := v.Since.Of(k); !still {
			out.Went++
		}
	}
	if v.Revision != old.Revision {
		out.Revision = v.Revision
	}
	if len(out.Came) == 0 && out.Went == 0 && out.Revision == 0 {
		return nil
	}
	return &out
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
	rs, err := s.compute.revision(r.Context(), ro.Revision)
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
	if err := s.compute.putSheet(r.Context(), res, now); err != nil {
		s.fault(w, r, err)
		return
	}
	jws, err := s.key.sign(api.Delivery{Host: v.Name, Revision: ro.Revision, Sheet: res.Digest(), Rollout: ro.ID, SetAside: ro.SetAside, Issued: now.UTC(), Expires: now.Add(deliveryLife).UTC()})
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
	event, known := rollout.ReportEvents[in.State]
	if !known {
		problem(w, http.StatusBadRequest, fmt.Sprintf("the state %q is not known", short(in.State)))
		return
	}
	final := event != rollout.Works
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
		if h.row().working() {
			w.WriteHeader(http.StatusNoContent)
			return
		}
	}
	if event == rollout.Withdraws {
		s.withdraw(w, r, h, ro)
		return
	}
	s.naming.RLock()
	defer s.naming.RUnlock()
	good := event == rollout.Succeeds || event == rollout.Rests
	if good && (!s.store.Known(in.Sheet, store.KindSheet) || !s.store.Known(in.Survey, store.KindSurvey)) {
		problem(w, http.StatusConflict, "send the survey first, then the report")
		return
	}
	if err := s.takeReport(r.Context(), h, ro, event, &in); err != nil {
		s.refuseReport(w, r, err)
		return
	}
	s.log.Info("report", "host", h.row().Name, "rollout", in.Rollout, "state", in.State, "step", in.Step, "message", family.HideWords(in.Message, nil))
	w.WriteHeader(http.StatusNoContent)
}

// refuseReport answers a report that does not fit how far the host is.
func (s *Service) refuseReport(w http.ResponseWriter, r *http.Request, err error) {
	var place *rollout.PlaceError
	if errors.As(err, &place) {
		problem(w, http.StatusConflict, place.Error())
		return
	}
	s.fault(w, r, err)
}

// takeReport stores what a host says of its task.
func (s *Service) takeReport(ctx context.Context, h *host, ro store.Rollout, event rollout.Event, in *api.Report) error {
	said := store.RolloutHost{Rollout: ro.ID, Updated: s.now()}
	var err error
	if said.Took, err = json.Marshal(in.Took); err != nil {
		return err
	}
	rest := *in
	rest.Took = nil
	if said.Report, err = json.Marshal(&rest); err != nil {
		return err
	}
	over := false
	_, err = s.change(ctx, h, commandReport, func(v *hostView) error {
		v.Stage = rollout.Working
		if event != rollout.Works {
			v.Task, v.Stage, v.Failure = 0, "", ""
			v.LastSeen = said.Updated
			v.Unfetched = unfetchedOf(in)
		}
		switch event {
		case rollout.Fails:
			v.Failure = fmt.Sprintf("%s: %s", in.Step, in.Message)
		case rollout.Succeeds, rollout.Rests:
			v.Revision, v.Sheet, v.Survey = ro.Revision, in.Sheet, in.Survey
			v.Carried = store.Carried{Sheet: in.Sheet, Survey: in.Survey, At: said.Updated.UTC()}
		}
		return nil
	}, func(v *hostView, c store.Change) error {
		said.Host = v.Name
		return s.store.Progress(ctx, said, event, &v.Host, func(ended bool) store.Change {
			over = ended
			return s.withRollout(ctx, c, commandReport, ro.ID, ended)
		})
	})
	if over {
		s.log.Info("rollout ended", "rollout", ro.ID)
	}
	return err
}

// withRollout is a change that the journal also tells of a rollout.
func (s *Service) withRollout(ctx context.Context, c store.Change, command string, id int64, ended bool) store.Change {
	return store.Change{Then: c.Then, Note: func() []store.Entry {
		return append(c.Note(), s.rolloutEntry(actorFrom(ctx), command, id, ended))
	}}
}

// withdraw takes a host out of a rollout that was stopped before it had touched anything.
func (s *Service) withdraw(w http.ResponseWriter, r *http.Request, h *host, ro store.Rollout) {
	over := false
	_, err := s.change(r.Context(), h, commandWithdraw, func(v *hostView) error {
		v.Task, v.Stage = 0, ""
		return nil
	}, func(v *hostView, c store.Change) error {
		return s.store.Withdraw(r.Context(), ro.ID, &v.Host, s.now(), func(ended bool) store.Change {
			over = ended
			return s.withRollout(r.Context(), c, commandWithdraw, ro.ID, ended)
		})
	})
	if err != nil {
		s.refuseReport(w, r, err)
		return
	}
	s.log.Info("stopped before anything was touched", "host", h.row().Name, "rollout", ro.ID, "ended", over)
	w.WriteHeader(http.StatusNoContent)
}
