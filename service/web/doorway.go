package web

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"

	"patientlantern.example/lantern/service/answer"
	"patientlantern.example/lantern/service/refusal"
)

// Without sign-in, a caller who fails to prove who they are is heard so often and no more.
const (
	mostFailures = 30
	failureTime  = time.Minute
)

// peer is the address that a caller connects from. No header counts, since anybody can send one, but that of those who are
// known to stand in front of the service: they say for whom they ask, and the last whom nobody of them is, is the caller.
func (w *Web) peer(r *http.Request) (string, error) {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil || !w.inFront(host) {
		return host, err
	}
	asked := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for _, whom := range slices.Backward(asked) {
		at, err := netip.ParseAddr(strings.TrimSpace(whom))
		if err != nil { // no address, so whoever said it is as far as it is known
			return host, nil
		}
		host = at.Unmap().String()
		if !w.inFront(host) {
			return host, nil
		}
	}
	return host, nil
}

// inFront reports whether an address is of those that stand in front of the service.
func (w *Web) inFront(host string) bool {
	at, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(w.opts.Behind, func(p netip.Prefix) bool { return p.Contains(at.Unmap()) })
}

// throttled refuses callers of the calls that need no sign-in after too many failures.
func (w *Web) throttled(next http.Handler) http.Handler {
	limiter := httprate.NewRateLimiter(mostFailures, failureTime, httprate.WithKeyFuncs(w.peer))
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost || r.URL.Path != "/api/session" && r.URL.Path != "/api/agent/join" {
			next.ServeHTTP(rw, r)
			return
		}
		key, err := w.peer(r)
		if err != nil {
			key = "unknown"
		}
		if within, rate, err := limiter.Status(key); err == nil && (!within || rate >= mostFailures) {
			w.service.Refused("throttled")
			rw.Header().Set("Retry-After", strconv.Itoa(int(failureTime.Seconds())))
			answer.Problem(rw, http.StatusTooManyRequests, "too many failed tries from this address; wait a minute")
			return
		}
		ww := middleware.NewWrapResponseWriter(rw, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		if st := ww.Status(); st >= 400 && st < 500 {
			limiter.OnLimit(ww, r, key)
		}
	})
}

// safeHeaders tells browsers to load nothing from elsewhere, and to come back by TLS only
// where this service speaks it.
func (w *Web) safeHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		h := rw.Header()
		if w.opts.TLS {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; "+
				"form-action 'self'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		next.ServeHTTP(rw, r)
	})
}

// logged notes calls that change something, and those that fail.
func (w *Web) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		ww := middleware.NewWrapResponseWriter(rw, r.ProtoMajor)
		start := time.Now()
		next.ServeHTTP(ww, r)
		level := slog.LevelDebug
		if r.Method != http.MethodGet {
			level = slog.LevelInfo
		}
		if ww.Status() >= 500 {
			level = slog.LevelError
		}
		w.log.Log(
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
func (w *Web) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		defer func() {
			if v := recover(); v != nil && v != http.ErrAbortHandler { //nolint:errorlint // the very value
				w.log.Error("a handler crashed", "method", r.Method, "path", r.URL.Path, "panic", v, "stack", string(debug.Stack()))
				answer.Problem(rw, http.StatusInternalServerError, refusal.Inside)
			}
		}()
		next.ServeHTTP(rw, r)
	})
}

// bearer is the token that a call is sent with.
func bearer(r *http.Request) (token string, is bool) {
	return strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
}

// person finds out which operator calls, from a token or a session's cookie.
func (w *Web) person(r *http.Request) (context.Context, error) {
	if t, is := bearer(r); is {
		return w.service.Person(r.Context(), t, false)
	}
	if c, err := r.Cookie(cookieName); err == nil {
		return w.service.Person(r.Context(), c.Value, true)
	}
	return nil, refusal.Of(refusal.Unknown, "sign in first: send an operator's token as Authorization: Bearer …")
}

// people lets those through who sign in. Which operations each may have is asked at the
// door.
func (w *Web) people(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost && r.URL.Path == "/api/session" {
			next.ServeHTTP(rw, r)
			return
		}
		ctx, err := w.person(r)
		if err != nil {
			answer.Fail(w.log, rw, r, err)
			return
		}
		next.ServeHTTP(rw, r.WithContext(ctx))
	})
}

// agents lets hosts through that prove themselves.
func (w *Web) agents(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		token, is := bearer(r)
		if !is {
			w.service.Refused("agent")
			answer.Problem(rw, http.StatusUnauthorized, "an agent signs its calls: Authorization: Bearer, a JWT")
			return
		}
		ctx, err := w.service.Host(r.Context(), token)
		if err != nil {
			answer.Fail(w.log, rw, r, err)
			return
		}
		next.ServeHTTP(rw, r.WithContext(ctx))
	})
}

// signInOperation is the one that nobody has to be signed in for.
const signInOperation = "sign-in"

// atDoor asks for each operation whether the operator may have it.
func (w *Web) atDoor(ctx huma.Context, next func(huma.Context)) {
	operation := ctx.Operation().OperationID
	if operation != signInOperation {
		if err := w.service.May(ctx.Context(), operation); err != nil {
			r, rw := humachi.Unwrap(ctx)
			answer.Fail(w.log, rw, r, err)
			return
		}
	}
	defer w.service.Enter()()
	next(ctx)
}
