package web

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"patientlantern.example/lantern/service/answer"
)

// healthTime is how long a look at the health may take.
const healthTime = 2 * time.Second

// healthz answers load balancers. It is well when the database can be read and written.
func (w *Web) healthz(rw http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), healthTime)
	defer cancel()
	hosts, err := w.service.Health(ctx)
	if err != nil {
		answer.Fail(w.log, rw, r, err)
		return
	}
	answer.Write(rw, map[string]any{"status": "ok", "version": w.opts.Version, "hosts": hosts})
}

func newRequests(to *prometheus.Registry) *prometheus.HistogramVec {
	out := prometheus.NewHistogramVec(
		prometheus.HistogramOpts{
			Name:    "lantern_http_request_seconds",
			Help:    "Time to answer a request.",
			Buckets: prometheus.ExponentialBuckets(0.0005, 4, 8),
		},
		[]string{"method", "route", "status"},
	)
	to.MustRegister(out)
	return out
}

func metricsHandler(of *prometheus.Registry) http.Handler {
	return promhttp.HandlerFor(of, promhttp.HandlerOpts{})
}

// measure notes how long requests take, by route.
func (w *Web) measure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(rw, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == "/api/events" {
			return
		}
		w.requests.WithLabelValues(r.Method, route, strconv.Itoa(ww.Status())).Observe(time.Since(start).Seconds())
	})
}
