// Package web is the service's HTTP side: it reads what is asked, has the service do it, and
// writes what came of it. It decides nothing.
package web

import (
	"encoding/json"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"

	"patientlantern.example/lantern/service"
	"patientlantern.example/lantern/service/answer"
	"patientlantern.example/lantern/wire"
)

// Options are what the HTTP side needs from outside.
type Options struct {
	Log     *slog.Logger
	Console fs.FS // the built console; nil for none
	TLS     bool  // what serves this speaks TLS itself
	Version string
	Behind  []netip.Prefix // addresses of those who stand in front of the service, and say for whom they ask
}

// Web speaks HTTP for a service. Make one with New.
type Web struct {
	service  *service.Service
	opts     Options
	log      *slog.Logger
	router   chi.Router
	api      huma.API
	assets   assets
	requests *prometheus.HistogramVec
}

// New makes the HTTP side of a service.
func New(s *service.Service, opts Options) *Web {
	if opts.Log == nil {
		opts.Log = slog.New(slog.DiscardHandler)
	}
	w := &Web{service: s, opts: opts, log: opts.Log, requests: newRequests(s.Registry())}
	w.routes()
	return w
}

// Handler answers calls.
func (w *Web) Handler() http.Handler { return w.router }

// OpenAPI returns the description of the interface as JSON.
func (w *Web) OpenAPI() ([]byte, error) { return w.api.OpenAPI().MarshalJSON() }

// routes builds the HTTP side. Operators' calls are described and checked by
// huma; agents' calls, which are many, are plain handlers that are described
// beside them.
func (w *Web) routes() {
	s := w.service
	r := chi.NewRouter()
	r.Use(w.recover, w.measure, w.safeHeaders)
	r.Get("/healthz", w.healthz)
	r.Handle("/metrics", metricsHandler(s.Registry()))

	answer.Huma()
	config := huma.DefaultConfig("Patient Lantern", w.opts.Version)
	config.Info.Description = "Repository, signing-key and channel definitions for a fleet of Linux hosts."
	config.DocsPath = ""
	config.RejectUnknownQueryParameters = true // a filter that is misspelled would let everything through
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
		r.Use(http.NewCrossOriginProtection().Handler, middleware.RequestSize(maxUpload), w.logged, w.throttled, w.people,
			middleware.Compress(packing, "application/json", "application/problem+json"))
		w.api = humachi.New(r, config)
		w.api.UseMiddleware(w.atDoor)
		w.operatorRoutes()
		r.Get("/api/events", w.events)
	})
	r.Group(func(r chi.Router) {
		r.With(w.throttled).Post("/api/agent/join", hears(w, maxSignIn, s.Join))
		r.Group(func(r chi.Router) {
			r.Use(w.agents)
			r.Post("/api/agent/check-in", hears(w, maxCall, s.CheckIn))
			r.Post("/api/agent/documents", w.putDocuments)
			r.Get("/api/agent/delivery", w.delivery)
			r.Post("/api/agent/reports", takes(w, maxReport, s.Report))
			r.Post("/api/agent/access", w.access)
			r.Get("/api/documents/{digest}", w.document)
		})
	})
	r.Get("/shelf/{name}/*", w.serveShelf)
	r.Head("/shelf/{name}/*", w.serveShelf)
	w.describeAgents()
	if w.opts.Console != nil {
		r.NotFound(w.console)
	} else {
		r.NotFound(func(rw http.ResponseWriter, r *http.Request) {
			answer.Problem(rw, http.StatusNotFound, "there is nothing at "+r.URL.Path)
		})
	}
	r.MethodNotAllowed(func(rw http.ResponseWriter, r *http.Request) {
		answer.Problem(rw, http.StatusMethodNotAllowed, r.Method+" is not for "+r.URL.Path)
	})
	w.router = r
}

// packing is the level at which answers to operators are packed.
const packing = 5

// maxSignIn and maxOrder bound, in bytes, what signs somebody in, and what an operator
// orders; only a policy folder is larger, and an order that may name every host of a fleet.
// maxCall and maxUpload bound what an agent may send.
const (
	maxSignIn = 4 << 10
	maxOrder  = 256 << 10
	maxNaming = 8 << 20
	maxCall   = 64 << 10
	maxReport = 1 << 20
	maxUpload = 32 << 20
)

// operation describes an operator's call in few words.
func operation(id, method, path, summary string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{"operators"},
		Security: []map[string][]string{{"operator": {}}, {"session": {}}}, MaxBodyBytes: maxOrder,
		Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusConflict}}
}

// naming is an operation whose order may name every host of a fleet.
func naming(op huma.Operation) huma.Operation {
	op.MaxBodyBytes = maxNaming
	return op
}

func (w *Web) operatorRoutes() {
	signIn := operation(signInOperation, http.MethodPost, "/api/session", "Sign a browser in")
	signIn.MaxBodyBytes = maxSignIn
	huma.Register(w.api, signIn, w.signIn)
	answers(w, operation("show-session", http.MethodGet, "/api/session", "Who is signed in"), w.service.Session)
	huma.Register(w.api, operation("sign-out", http.MethodDelete, "/api/session", "Sign a browser out"), w.signOut)
	w.hostRoutes()
	w.policyRoutes()
	w.subscriptionRoutes()
	w.repositoryRoutes()
	w.whenceRoutes()
	w.dateRoutes()
	w.labelRoutes()
	w.betweenRoutes()
}
