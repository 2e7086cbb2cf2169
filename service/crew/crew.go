// Package crew has the work done that the service does beside the calls (telling webhooks, asking desks, looking at upstreams,
// taking rollouts on): by workers, each a loop that ends with the service. One that crashes is begun again, after a pause that
// grows, and the others go on meanwhile.
package crew

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// The pauses before a worker that crashed is begun again, and how long it must have worked
// well for the pause to be the first again.
const (
	firstPause = time.Second
	lastPause  = time.Minute
	workedWell = 10 * time.Minute
)

// Worker is work of the service's own. It returns when the context ends.
type Worker struct {
	Name string // as the metrics and the log have it
	Do   func(context.Context)
}

// Crew looks after workers.
type Crew struct {
	Log     *slog.Logger
	Crashed *prometheus.CounterVec // by the worker's name
}

// Supervise has a worker do its work until the context ends.
func (c *Crew) Supervise(ctx context.Context, w Worker) {
	pause := firstPause
	for ctx.Err() == nil {
		began := time.Now()
		if !c.Once(ctx, w) {
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

// Once has the work done once, and reports whether it ended by a crash.
func (c *Crew) Once(ctx context.Context, w Worker) (crashed bool) {
	defer func() {
		if v := recover(); v != nil {
			crashed = true
			c.Crashed.WithLabelValues(w.Name).Inc()
			c.Log.Error("a worker crashed and is begun again", "worker", w.Name, "panic", fmt.Sprint(v), "stack", string(debug.Stack()))
		}
	}()
	w.Do(ctx)
	return false
}
