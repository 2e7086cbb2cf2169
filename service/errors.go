package service

import (
	"fmt"
	"net/http"
	"sync"

	"github.com/danielgtaylor/huma/v2"
)

// mostErrors bounds how many things are said about one call, and mostSaid how long each
// is: an answer never grows with what was sent.
const (
	mostErrors = 10
	mostSaid   = 400
)

// humaOnce changes what huma keeps for the whole process.
var humaOnce sync.Once

// setHuma makes lists never null, and errors few, short and without the values that were
// sent: they may be secrets.
func setHuma() {
	huma.DefaultArrayNullable = false
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		out := &huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: bounded(message)}
		for _, err := range errs {
			if err == nil {
				continue
			}
			if len(out.Errors) == mostErrors && status < 500 && !spared(err) {
				out.Detail += fmt.Sprintf(" (and %d more)", len(errs)-mostErrors)
				break
			}
			out.Errors = append(out.Errors, detail(err))
		}
		return out
	}
}

// diagnosed is an error about a policy folder: it is of this program's own making, and as
// many are shown as there are.
type diagnosed struct{ huma.ErrorDetail }

func (d *diagnosed) Error() string { return d.Message }

func spared(err error) bool {
	_, ok := err.(*diagnosed) //nolint:errorlint // the very value
	return ok
}

func detail(err error) *huma.ErrorDetail {
	switch e := err.(type) { //nolint:errorlint // the very values
	case *diagnosed:
		return &e.ErrorDetail
	case *huma.ErrorDetail:
		return &huma.ErrorDetail{Message: bounded(e.Message), Location: bounded(e.Location)}
	}
	return &huma.ErrorDetail{Message: bounded(err.Error())}
}

func bounded(s string) string { return clip(s, mostSaid) }
