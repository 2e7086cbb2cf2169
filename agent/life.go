package agent

import (
	"context"
	"errors"
	"net/http"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
)

// signTime is how often an agent that is at work gives a sign of life, though its step
// has not changed; signLimit bounds one such call.
const (
	signTime  = 20 * time.Second
	signLimit = 10 * time.Second
)

// errStopped is the error of a change that an operator stopped before anything was
// touched.
var errStopped = errors.New("stopped by an operator; nothing was changed")

// life tells the service at which step the host is, beside the work itself: a service
// that is away or slow holds nothing up. A nil life tells nobody.
type life struct {
	link   *link
	report api.Report
	steps  chan string
	stop   context.CancelFunc
	done   sync.WaitGroup

	mu   sync.Mutex
	halt bool // the service does not want the change any more
}

// live begins to give signs of life.
func (l *link) live(ctx context.Context, report api.Report) *life {
	ctx, stop := context.WithCancel(ctx)
	s := &life{link: l, report: report, steps: make(chan string, 1), stop: stop}
	s.done.Go(func() { s.tell(ctx) })
	return s
}

func (s *life) tell(ctx context.Context) {
	tick := time.NewTicker(signTime)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case s.report.Step = <-s.steps:
		case <-tick.C:
		}
		bounded, cancel := context.WithTimeout(ctx, signLimit)
		err := s.link.call(bounded, http.MethodPost, "/api/agent/reports", s.report, nil)
		cancel()
		var answered *callError
		if errors.As(err, &answered) && answered.status == http.StatusConflict {
			s.mu.Lock()
			s.halt = true
			s.mu.Unlock()
		}
	}
}

// at notes the step; only the newest is of interest.
func (s *life) at(step string) {
	if s == nil || step == "" {
		return
	}
	for {
		select {
		case s.steps <- step:
			return
		default:
		}
		select {
		case <-s.steps:
		default:
		}
	}
}

// stopped is errStopped when an operator has stopped the change.
func (s *life) stopped() error {
	if s == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.halt {
		return errStopped
	}
	return nil
}

// end waits until nothing is told any more.
func (s *life) end() {
	if s == nil {
		return
	}
	s.stop()
	s.done.Wait()
}
