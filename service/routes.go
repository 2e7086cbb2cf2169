package service

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"reflect"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/wire"
)

// routes builds the HTTP side. Operators' calls are described and checked by
// huma; agents' calls, which are many, are plain handlers that are described
// beside them.
func (s *Service) routes() {
	r := chi.NewRouter()
	r.Use(s.recover, s.metrics.measure, s.safeHeaders)
	r.Get("/healthz", s.healthz)
	r.Handle("/metrics", s.metrics.handler())

	humaOnce.Do(setHuma)
	config := huma.DefaultConfig("Patient Lantern", s.opts.Version)
	config.Info.Description = "Repository, signing-key and channel definitions for a fleet of Linux hosts."
	config.DocsPath = ""
	config.CreateHooks = nil
	format := huma.Format{Marshal: wire.Write, Unmarshal: json.Unmarshal}
	config.Formats = map[string]huma.Format{"application/json": format, "json": format}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"operator": {Type: "http", Scheme: "bearer", Description: "An operator's token"},
		"session":  {Type: "apiKey", In: "cookie", Name: cookieName, Description: "A browser's session"},
		"agent": {
			Type:         "http",
			Scheme:       "bearer",
			BearerFormat: "JWT",
			Description:  "A token that a host's agent signs with its own key (EdDSA)",
		},
	}

	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler, middleware.RequestSize(maxUpload), s.logged, s.throttled, s.people,
			middleware.Compress(packing, "application/json", "application/problem+json"))
		s.api = humachi.New(r, config)
		s.api.UseMiddleware(s.atDoor)
		s.operatorRoutes()
		r.Get("/api/events", s.serveEvents)
	})
	r.Group(func(r chi.Router) {
		r.With(s.throttled).Post("/api/agent/join", s.join)
		r.Group(func(r chi.Router) {
			r.Use(s.agents)
			r.Post("/api/agent/check-in", s.checkIn)
			r.Post("/api/agent/documents", s.putDocuments)
			r.Get("/api/agent/delivery", s.delivery)
			r.Post("/api/agent/reports", s.report)
			r.Post("/api/agent/access", s.access)
			r.Get("/api/documents/{digest}", s.document)
		})
	})
	r.Get("/shelf/{name}/*", s.serveShelf)
	r.Head("/shelf/{name}/*", s.serveShelf)
	s.describeAgents()
	if s.opts.Console != nil {
		r.NotFound(s.console)
	} else {
		r.NotFound(func(w http.ResponseWriter, r *http.Request) {
			problem(w, http.StatusNotFound, "there is nothing at "+r.URL.Path)
		})
	}
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		problem(w, http.StatusMethodNotAllowed, r.Method+" is not for "+r.URL.Path)
	})
	s.router = r
}

// packing is the level at which answers to operators are packed.
const packing = 5

// Without sign-in, a caller who fails to prove who they are is heard so often and no more.
const (
	mostFailures = 30
	failureTime  = time.Minute
)

// peer is the address that a caller connects from. No header counts: anybody can send one.
// Behind something that speaks TLS for the service, all who come through it are one.
func peer(r *http.Request) (string, error) {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	return host, err
}

// throttled refuses callers of the calls that need no sign-in after too many failures.
func (s *Service) throttled(next http.Handler) http.Handler {
	limiter := httprate.NewRateLimiter(mostFailures, failureTime, httprate.WithKeyFuncs(peer))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost || r.URL.Path != "/api/session" && r.URL.Path != "/api/agent/join" {
			next.ServeHTTP(w, r)
			return
		}
		key, err := peer(r)
		if err != nil {
			key = "unknown"
		}
		if within, rate, err := limiter.Status(key); err == nil && (!within || rate >= mostFailures) {
			s.metrics.refused.WithLabelValues("throttled").Inc()
			w.Header().Set("Retry-After", strconv.Itoa(int(failureTime.Seconds())))
			problem(w, http.StatusTooManyRequests, "too many failed tries from this address; wait a minute")
			return
		}
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		if st := ww.Status(); st >= 400 && st < 500 {
			limiter.OnLimit(ww, r, key)
		}
	})
}

// maxSignIn and maxOrder bound, in bytes, what signs somebody in, and what an operator
// orders; only a policy folder is larger.
const (
	maxSignIn = 4 << 10
	maxOrder  = 256 << 10
)

// operation describes an operator's call in few words.
func operation(id, method, path, summary string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{"operators"},
		Security: []map[string][]string{{"operator": {}}, {"session": {}}}, MaxBodyBytes: maxOrder,
		Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusConflict}}
}

func (s *Service) operatorRoutes() {
	a := s.api
	signIn := operation(signInOperation, http.MethodPost, "/api/session", "Sign a browser in")
	signIn.MaxBodyBytes = maxSignIn
	huma.Register(a, signIn, s.signIn)
	huma.Register(a, operation("show-session", http.MethodGet, "/api/session", "Who is signed in"), s.session)
	huma.Register(a, operation("sign-out", http.MethodDelete, "/api/session", "Sign a browser out"), s.signOut)
	s.hostRoutes(a)
	s.policyRoutes(a)
	s.subscriptionRoutes(a)
	s.repositoryRoutes(a)
	s.whenceRoutes(a)
	s.dateRoutes(a)
	s.labelRoutes(a)
	s.betweenRoutes(a)
}

// describeAgents puts the agents' calls into the description.
func (s *Service) describeAgents() {
	doc := s.api.OpenAPI()
	schema := func(v any, mediaType string) map[string]*huma.MediaType {
		if v == nil {
			return map[string]*huma.MediaType{mediaType: {Schema: &huma.Schema{Type: huma.TypeString}}}
		}
		return map[string]*huma.MediaType{mediaType: {Schema: doc.Components.Schemas.Schema(reflect.TypeOf(v), true, "")}}
	}
	add := func(id, method, route, summary string, in any, status string, out map[string]*huma.MediaType) {
		op := &huma.Operation{OperationID: id, Method: method, Path: route, Summary: summary, Tags: []string{"agents"},
			Responses: map[string]*huma.Response{
				status:    {Description: "Done", Content: out},
				"default": {Description: "Problem", Content: schema(huma.ErrorModel{}, "application/problem+json")},
			}}
		if id != "join" {
			op.Security = []map[string][]string{{"agent": {}}}
		}
		if in != nil {
			op.RequestBody = &huma.RequestBody{Required: true, Content: schema(in, "application/json")}
		}
		if strings.Contains(route, "{digest}") {
			op.Parameters = []*huma.Param{
				{Name: "digest", In: "path", Required: true, Schema: &huma.Schema{Type: huma.TypeString, Pattern: "^[0-9a-f]{64}$"}},
			}
		}
		doc.AddOperation(op)
	}
	add(
		"join",
		http.MethodPost,
		"/api/agent/join",
		"Take a host into the fleet",
		api.Join{},
		"200",
		schema(api.Joined{}, "application/json"),
	)
	add(
		"check-in",
		http.MethodPost,
		"/api/agent/check-in",
		"Say by digest how the host stands",
		api.CheckIn{},
		"200",
		schema(api.CheckInAnswer{}, "application/json"),
	)
	add("send-documents", http.MethodPost, "/api/agent/documents", "Send documents that the service asked for", api.Documents{}, "204", nil)
	add(
		"delivery",
		http.MethodGet,
		"/api/agent/delivery",
		"The signed delivery that waits: a compact JWS of a Delivery",
		nil,
		"200",
		schema(nil, "application/jose"),
	)
	add("report", http.MethodPost, "/api/agent/reports", "Say how carrying the delivery out went", api.Report{}, "204", nil)
	add(
		"access",
		http.MethodPost,
		"/api/agent/access",
		"Fetch what opens licensed sources, encrypted to this host",
		api.AccessOrder{},
		"200",
		schema(api.AccessAnswer{}, "application/json"),
	)
	add("document", http.MethodGet, "/api/documents/{digest}", "A sheet by its digest", nil, "200", schema(nil, "application/json"))
	add(
		"events",
		http.MethodGet,
		"/api/events",
		"Changes as they happen, as server-sent events",
		nil,
		"200",
		schema(api.Event{}, "text/event-stream"),
	)
	doc.Paths["/api/events"].Get.Tags = []string{"operators"}
	doc.Paths["/api/events"].Get.Security = []map[string][]string{{"operator": {}}, {"session": {}}}
	doc.Components.Schemas.Schema(reflect.TypeOf(api.Delivery{}), true, "")
	doc.Components.Schemas.Schema(reflect.TypeOf(api.AccessClaim{}), true, "")
}

type signInIn struct {
	Proto string `header:"X-Forwarded-Proto" hidden:"true"`
	Body  api.SignIn
}

type sessionOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

func (s *Service) signIn(ctx context.Context, in *signInIn) (*sessionOut, error) {
	o, err := s.store.OperatorByToken(ctx, hashToken(strings.TrimSpace(in.Body.Token)))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, s.refuse(err)
	}
	if err != nil {
		s.metrics.refused.WithLabelValues("operator").Inc()
		return nil, huma.Error401Unauthorized("no operator has this token; copy it whole, it begins with plo_")
	}
	cookie, hash := NewToken("pls_")
	now := s.now()
	if err := s.store.AddSession(ctx, hash, o.Name, now, now.Add(sessionLife)); err != nil {
		return nil, s.refuse(err)
	}
	return &sessionOut{
		SetCookie: http.Cookie{
			Name:     cookieName,
			Value:    cookie,
			Path:     "/",
			HttpOnly: true,
			SameSite: http.SameSiteStrictMode,
			Secure:   in.Proto == "https" || s.opts.TLS,
			MaxAge:   int(sessionLife.Seconds()),
		},
		Body: api.Session{Operator: o.Name, Role: o.Role, Service: s.opts.Version},
	}, nil
}

func (s *Service) session(ctx context.Context, _ *struct{}) (*body[api.Session], error) {
	o := operatorFrom(ctx)
	return &body[api.Session]{api.Session{Operator: o.Name, Role: o.Role, Service: s.opts.Version}}, nil
}

type signOutIn struct {
	Cookie string `cookie:"lantern-session" hidden:"true"`
}

type signOutOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (s *Service) signOut(ctx context.Context, in *signOutIn) (*signOutOut, error) {
	if in.Cookie != "" {
		if err := s.store.EndSession(ctx, hashToken(in.Cookie)); err != nil {
			return nil, s.refuse(err)
		}
		s.auth.forget()
	}
	return &signOutOut{
		http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.opts.TLS},
	}, nil
}

// safeHeaders tells browsers to load nothing from elsewhere, and to come back by TLS only
// where this service speaks it.
func (s *Service) safeHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		if s.opts.TLS {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; "+
				"form-action 'self'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		next.ServeHTTP(w, r)
	})
}

// logged notes calls that change something, and those that fail.
func (s *Service) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		start := time.Now()
		next.ServeHTTP(ww, r)
		level := slog.LevelDebug
		if r.Method != http.MethodGet {
			level = slog.LevelInfo
		}
		if ww.Status() >= 500 {
			level = slog.LevelError
		}
		s.log.Log(
			r.Context(),
			level,
			"call",
			"method",
			r.Method,
			"path",
			r.URL.Path,
			"status",
			ww.Status(),
			"took",
			time.Since(start).Round(time.Microsecond),
		)
	})
}

// recover turns a crash of one handler into an answer and a line in the log.
func (s *Service) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if v := recover(); v != nil && v != http.ErrAbortHandler { //nolint:errorlint // the very value
				s.log.Error("a handler crashed", "method", r.Method, "path", r.URL.Path, "panic", v, "stack", string(debug.Stack()))
				problem(w, http.StatusInternalServerError, "the service could not do it; its log says why")
			}
		}()
		next.ServeHTTP(w, r)
	})
}
