package agent

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
)

// What is sent in one call.
const (
	mostSent      = 1000    // documents
	mostSentBytes = 4 << 20 // of them together, unless one alone has more
	mostKnown     = 20_000  // digests of texts that are remembered
)

// unsent is a survey that the service has refused to take.
type unsent struct {
	why    string
	pause  time.Duration
	notYet time.Time // before which it is not sent again
}

// send brings the service the survey and what it names, each text once. sent is false where the service has refused it: it is
// sent again later, ever more rarely, and every check-in until then says why it is not there.
func (a *Agent) send(ctx context.Context) (sent bool, err error) {
	if a.now().Before(a.unsent.notYet) {
		return false, nil
	}
	left := len(a.sent) > 0
	err = a.sendAll(ctx)
	var refused *callError
	if errors.As(err, &refused) && left { // of what it was sent before it may have lost some
		a.sent = nil
		err = a.sendAll(ctx)
	}
	if !errors.As(err, &refused) {
		return err == nil, err // the service is away
	}
	a.sent = nil // it may have forgotten what it had
	u := &a.unsent
	u.pause = longer(u.pause)
	u.why, u.notYet = oneLine(a.host.clean(err.Error())), a.now().Add(u.pause)
	a.log.Error("the survey is not taken", "error", err, "next", u.pause.Round(time.Millisecond).String())
	return false, nil
}

// sendAll sends documents in parts: texts first, since a survey is taken with its texts alone.
func (a *Agent) sendAll(ctx context.Context) error {
	if a.sent == nil || len(a.sent) > mostKnown {
		a.sent = map[string]bool{}
	}
	var part []api.Document
	var digests []string
	size := 0
	flush := func() error {
		if len(part) == 0 {
			return nil
		}
		if err := a.link.call(ctx, http.MethodPost, "/api/agent/documents", api.Documents{Documents: part}, nil); err != nil {
			return fmt.Errorf("sending the survey: %w", err)
		}
		for _, d := range digests {
			a.sent[d] = true
		}
		part, digests, size = nil, nil, 0
		return nil
	}
	waiting := map[string]bool{}
	for _, d := range a.last.documents {
		digest := ""
		if d.Kind == "text" {
			digest = source.Digest(d.Body)
			if a.sent[digest] || waiting[digest] {
				continue
			}
			waiting[digest] = true
		}
		if len(part) == mostSent || size+len(d.Body) > mostSentBytes {
			if err := flush(); err != nil {
				return err
			}
		}
		if digest != "" {
			digests = append(digests, digest)
		}
		part, size = append(part, d), size+len(d.Body)
	}
	return flush()
}
