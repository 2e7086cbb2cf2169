package service

import (
	"context"
	"fmt"
	"runtime/debug"
	"time"
)

// What the service does beside the calls (telling webhooks, asking desks, looking at upstreams,
// taking rollouts on) is done by workers: each a loop that ends with the service. One that
// crashes is begun again, after a pause that grows, and the others go on meanwhile.

// The pauses before a worker that crashed is begun again, and how long it must have worked
// well for the pause to be the first again.
const (
	firstPause = time.Second
	lastPause  = time.Minute
	workedWell = 10 * time.Minute
)

// worker is work of the service's own. It returns when the context ends.
type worker struct {
	name string // as the metrics and the log have it
	do   func(context.Context)
}

// supervise has a worker do its work until the context ends.
func (s *Service) supervise(ctx context.Context, w worker) {
	pause := firstPause
	for ctx.Err() == nil {
		began := time.Now()
		if !s.crashes(ctx, w) {
			return
		}
		if time.Since(began) >= workedWell {
			pause = firstPause
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, lastPause)
	}
}

// crashes does the work once, and reports whether it ended by a crash.
func (s *Service) crashes(ctx context.Context, w worker) (crashed bool) {
	defer func() {
		if v := recover(); v != nil {
			crashed = true
			s.metrics.crashed.WithLabelValues(w.name).Inc()
			s.Log.Error("a worker crashed and is begun again", "worker", w.name, "panic", fmt.Sprint(v), "stack", string(debug.Stack()))
		}
	}()
	w.do(ctx)
	return false
}
