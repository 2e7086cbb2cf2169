package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	jsonv1 "github.com/go-json-experiment/json/v1"

	"patientlantern.example/lantern/service"
	"patientlantern.example/lantern/service/refusal"
)

// body wraps an answer as huma wants it.
type body[T any] struct{ Body T }

// answers has an operation answered by the service.
func answers[I, O any](w *Web, op huma.Operation, do func(context.Context, *I) (*O, error)) {
	huma.Register(w.api, op, func(ctx context.Context, in *I) (*body[O], error) {
		out, err := do(ctx, in)
		if err != nil {
			return nil, w.told(err)
		}
		return &body[O]{*out}, nil
	})
}

// does has an operation done by the service, of which nothing is told but that it was done.
func does[I any](w *Web, op huma.Operation, do func(context.Context, *I) error) {
	huma.Register(w.api, op, func(ctx context.Context, in *I) (*struct{}, error) { return nil, w.told(do(ctx, in)) })
}

// statuses are the kinds of refusals in HTTP.
var statuses = map[refusal.Kind]int{
	refusal.Broken: http.StatusInternalServerError, refusal.Unreadable: http.StatusBadRequest, refusal.Unknown: http.StatusUnauthorized,
	refusal.Forbidden: http.StatusForbidden, refusal.Missing: http.StatusNotFound, refusal.Conflicting: http.StatusConflict,
	refusal.Invalid: http.StatusUnprocessableEntity, refusal.TooMuch: http.StatusTooManyRequests,
	refusal.Unavailable: http.StatusServiceUnavailable, refusal.Left: 499, // nobody hears it
}

// told is what an operator is told of an error.
func (w *Web) told(err error) error {
	if err == nil {
		return nil
	}
	if no := service.Refusal(err); no != nil {
		return huma.NewError(statuses[no.Kind], no.Message, no.Details...)
	}
	w.log.Error("answering an operator", "error", err)
	return huma.NewError(http.StatusInternalServerError, refusal.Inside)
}

// fail answers an agent with what an error stands for.
func (w *Web) fail(rw http.ResponseWriter, r *http.Request, err error) {
	if no := service.Refusal(err); no != nil {
		problem(rw, statuses[no.Kind], no.Message)
		return
	}
	w.log.Error("answering", "method", r.Method, "path", r.URL.Path, "error", err)
	problem(rw, http.StatusInternalServerError, refusal.Inside)
}

// problem writes problem details, RFC 9457.
func problem(rw http.ResponseWriter, status int, detail string) {
	b, err := json.Marshal(&huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
	if err != nil {
		b = []byte("{}")
	}
	rw.Header().Set("Content-Type", "application/problem+json")
	rw.WriteHeader(status)
	_, _ = rw.Write(b) // the caller has gone if this fails
}

// decode reads a JSON body, or answers why it cannot.
func decode(rw http.ResponseWriter, r *http.Request, limit int64, v any) bool {
	text, err := io.ReadAll(http.MaxBytesReader(rw, r.Body, limit))
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		problem(rw, http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than %d bytes", limit))
		return false
	case err != nil:
		problem(rw, http.StatusBadRequest, "the body could not be read")
		return false
	}
	if err := jsonv1.Unmarshal(text, v); err != nil {
		problem(rw, http.StatusBadRequest, "the body is not the JSON that is wanted: "+refusal.Clip(err.Error(), mostRepeated))
		return false
	}
	return true
}

func answer(rw http.ResponseWriter, v any) {
	b, err := json.Marshal(v)
	if err != nil {
		problem(rw, http.StatusInternalServerError, "the answer could not be written")
		return
	}
	rw.Header().Set("Content-Type", "application/json")
	_, _ = rw.Write(b) // the caller has gone if this fails
}

// mostErrors bounds how many things are said about one call, mostSaid how long each is, and
// mostRepeated what may repeat what was sent: an answer never grows with that.
const (
	mostErrors   = 10
	mostSaid     = 400
	mostRepeated = 200
)

// humaOnce changes what huma keeps for the whole process.
var humaOnce sync.Once

// setHuma makes lists never null, and errors few, short and without the values that were
// sent: they may be secrets.
func setHuma() {
	huma.DefaultArrayNullable = false
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		if message == "validation failed" { // huma's own words, which say neither what nor where
			message = invalid(errs)
		}
		out := &huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: bounded(message)}
		for _, err := range errs {
			if err == nil {
				continue
			}
			if len(out.Errors) == mostErrors && status < 500 && !own(err) {
				out.Detail += fmt.Sprintf(" (and %d more)", len(errs)-mostErrors)
				break
			}
			out.Errors = append(out.Errors, detail(err))
		}
		return out
	}
}

// invalid says in one line what is wrong with a call, and where.
func invalid(errs []error) string {
	var said []string
	for _, err := range errs {
		d, is := err.(*huma.ErrorDetail) //nolint:errorlint // the very value
		if !is || len(said) == mostErrors {
			continue
		}
		_, at, _ := strings.Cut(d.Location, ".") // body.because
		if at == "" {
			at = d.Location
		}
		said = append(said, at+": "+d.Message)
	}
	if len(said) == 0 {
		return "this is no such call as the service knows"
	}
	return strings.Join(said, "; ")
}

// own reports whether an error is about a policy folder: it is of this program's own making,
// and as many are shown as there are.
func own(err error) bool {
	d, is := err.(*refusal.Detail) //nolint:errorlint // the very value
	return is && d.Own
}

func detail(err error) *huma.ErrorDetail {
	switch e := err.(type) { //nolint:errorlint // the very values
	case *refusal.Detail:
		if e.Own {
			return &huma.ErrorDetail{Message: e.Message, Location: e.Location, Value: e.Value}
		}
		return &huma.ErrorDetail{Message: bounded(e.Message), Location: bounded(e.Location)}
	case *huma.ErrorDetail:
		return &huma.ErrorDetail{Message: bounded(e.Message), Location: bounded(e.Location)}
	}
	return &huma.ErrorDetail{Message: bounded(err.Error())}
}

func bounded(s string) string { return refusal.Clip(s, mostSaid) }
