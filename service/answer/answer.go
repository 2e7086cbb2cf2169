// Package answer is what answers over HTTP are made of: refusals as statuses and problem details (RFC 9457), whose length does
// not grow with what was sent, and JSON that is read up to a limit.
package answer

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	jsonv1 "github.com/go-json-experiment/json/v1"

	"patientlantern.example/lantern/service"
	"patientlantern.example/lantern/service/refusal"
)

// statuses are the kinds of refusals in HTTP.
var statuses = map[refusal.Kind]int{
	refusal.Broken: http.StatusInternalServerError, refusal.Unreadable: http.StatusBadRequest, refusal.Unknown: http.StatusUnauthorized,
	refusal.Forbidden: http.StatusForbidden, refusal.Missing: http.StatusNotFound, refusal.Conflicting: http.StatusConflict,
	refusal.Invalid: http.StatusUnprocessableEntity, refusal.TooMuch: http.StatusTooManyRequests,
	refusal.Unavailable: http.StatusServiceUnavailable, refusal.Left: 499, // nobody hears it
}

// Told is what an operator is told of an error.
func Told(log *slog.Logger, err error) error {
	if err == nil {
		return nil
	}
	if no := service.Refusal(err); no != nil {
		return huma.NewError(statuses[no.Kind], no.Message, no.Details...)
	}
	log.Error("answering an operator", "error", err)
	return huma.NewError(http.StatusInternalServerError, refusal.Inside)
}

// Fail answers an agent with what an error stands for.
func Fail(log *slog.Logger, rw http.ResponseWriter, r *http.Request, err error) {
	if no := service.Refusal(err); no != nil {
		Problem(rw, statuses[no.Kind], no.Message)
		return
	}
	log.Error("answering", "method", r.Method, "path", r.URL.Path, "error", err)
	Problem(rw, http.StatusInternalServerError, refusal.Inside)
}

// Problem writes problem details, RFC 9457.
func Problem(rw http.ResponseWriter, status int, detail string) {
	b, err := json.Marshal(&huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
	if err != nil {
		b = []byte("{}")
	}
	rw.Header().Set("Content-Type", "application/problem+json")
	rw.WriteHeader(status)
	_, _ = rw.Write(b) // the caller has gone if this fails
}

// Decode reads a JSON body, or answers why it cannot.
func Decode(rw http.ResponseWriter, r *http.Request, limit int64, v any) bool {
	text, err := io.ReadAll(http.MaxBytesReader(rw, r.Body, limit))
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		Problem(rw, http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than %d bytes", limit))
		return false
	case err != nil:
		Problem(rw, http.StatusBadRequest, "the body could not be read")
		return false
	}
	if err := jsonv1.Unmarshal(text, v); err != nil {
		Problem(rw, http.StatusBadRequest, "the body is not the JSON that is wanted: "+refusal.Clip(err.Error(), mostRepeated))
		return false
	}
	return true
}

// Write answers with a value as JSON.
func Write(rw http.ResponseWriter, v any) {
	b, err := json.Marshal(v)
	if err != nil {
		Problem(rw, http.StatusInternalServerError, "the answer could not be written")
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

// Huma changes, once, what huma keeps for the whole process: it makes lists never null, and errors few, short and without
// the values that were sent: they may be secrets.
var Huma = sync.OnceFunc(func() {
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
})

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
