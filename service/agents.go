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
	"slices"
	"strings"
	"time"

	jsonv1 "github.com/go-json-experiment/json/v1"

	"github.com/go-jose/go-jose/v4"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

// maxCall and maxUpload bound what an agent may send, in bytes.
const (
	maxCall   = 64 << 10
	maxUpload = 32 << 20
	mostZone  = 60 // of a time zone's name
)

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
	if err := jsonv1.Unmarshal(body, v); err != nil {
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
		problem(
			w,
			http.StatusForbidden,
			"the token is not known, was used already, or has expired: ask for a new one (lantern host invite NAME)",
		)
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
	out := api.CheckInAnswer{
		Interval: int(s.opts.Interval.Milliseconds()),
		Watch:    int(s.opts.Watch.Milliseconds()),
		Access:   s.keeper.stamp(v.Name),
	}
	if base := v.Carried.Known().Survey; base != "" && base == in.Survey && base != in.Base {
		out.Keep = true
	}
	if v.traced == nil || v.traced.Survey != v.Survey {
		out.Trace, out.Logins = filesOfFindings(v), v.logins
	}
	ask := s.asked.current()
	if out.Asked = ask.stamp; ask.stamp != "" && ask.stamp != v.answered {
		out.Packages, out.Sources = ask.packages, ask.sources
	}
	if in.Traits == v.Traits && in.Survey == v.Survey && in.Agent == v.Agent && in.Form == v.Form && clip(in.Zone, mostZone) == v.Zone &&
		in.Free == nil && in.Access == nil &&
		in.Packages == nil && in.Sources == nil && in.Traced == nil &&
		in.Trouble == v.Trouble {
		out.Work = s.mayWork(r.Context(), v)
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
		out.Work = s.mayWork(r.Context(), v)
		answer(w, &out)
		return
	}
	row, err := s.change(r.Context(), h, commandCheckIn, func(v *hostView) error { return said(v, &in, now, ask) }, nil)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	s.metrics.changed.Inc()
	out.Work = s.mayWork(r.Context(), row)
	answer(w, &out)
}

// said notes in a row what a host says with a check-in. ask is what it was asked for.
func said(v *hostView, in *api.CheckIn, now time.Time, ask *askedList) error {
	v.Traits, v.Survey, v.Agent, v.Form, v.LastSeen = in.Traits, in.Survey, in.Agent, in.Form, now
	v.Zone = same(clip(in.Zone, mostZone))
	if in.Free != nil {
		v.Free = maps.Clone(in.Free)
	}
	v.Trouble = short(in.Trouble)
	if in.Sources != nil {
		var err error
		if v.Watched, err = watched(in.Sources); err != nil {
			return err
		}
	}
	if in.Traced != nil {
		if err := takeTraced(v, in.Traced); err != nil {
			return err
		}
	}
	if in.Packages != nil {
		if err := takePackages(v, in.Packages, ask); err != nil {
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
}

// takePackages notes which packages a host says are installed, and what came from where.
func takePackages(v *hostView, in *api.Packages, ask *askedList) error {
	if in.Asked != ask.stamp {
		return nil // of a list that was asked for before
	}
	p := havePackages{Asked: ask.stamp, Names: ask.packages, Installed: map[string]string{}, Came: map[string]origin.Came{}}
	for _, n := range ask.packages {
		if version := in.Installed[n]; version != "" {
			p.Installed[n] = short(version)
		}
	}
	const mostNames, mostName = 20, 200
	for _, key := range ask.sources {
		c, told := in.Came[key]
		if !told {
			continue
		}
		c.Unknown, c.Packages = short(c.Unknown), max(c.Packages, 0)
		c.Names = slices.Clone(c.Names[:min(len(c.Names), mostNames)])
		for i := range c.Names {
			c.Names[i] = clip(short(c.Names[i]), mostName)
		}
		p.Came[key] = c
	}
	b, err := json.Marshal(p)
	v.Packages = b
	return err
}

// change replaces a host's row by a command: edit changes a copy, which is completed,
// stored and put in place. save stores it; nil stores the row alone. What the journal
// keeps of it is the host's history.
func (s *Service) change(
	ctx context.Context,
	h *host,
	command string,
	edit func(*hostView) error,
	save func(*hostView, store.Change) error,
) (*hostView, error) {
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
	if came := newsOf(old, &v, s.now()); came != nil {
		e = detailed(e, came)
	} else {
		e.Passing = command == commandCheckIn // what stands there changed, and how it stands did not
	}
	c := store.Noted(e)
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
