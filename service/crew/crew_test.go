package crew

import (
	"bytes"
	"context"
	"log/slog"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// supervised is a crew whose log is a buffer.
func supervised() (*Crew, *bytes.Buffer) {
	log := new(bytes.Buffer)
	crashed := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "crashes"}, []string{"worker"})
	return &Crew{Log: slog.New(slog.NewTextHandler(log, nil)), Crashed: crashed}, log
}

// A worker that crashes is begun again, each time after a longer pause, and is counted; it ends
// with the service, in its pause as well.
func TestAWorkerThatCrashesIsBegunAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, log := supervised()
		ctx, stop := context.WithCancel(t.Context())
		began := time.Now()
		var starts []time.Duration
		var ended sync.WaitGroup
		ended.Go(func() {
			s.Supervise(ctx, Worker{"webhooks", func(context.Context) {
				starts = append(starts, time.Since(began))
				if len(starts) == 9 {
					time.Sleep(workedWell) // it works well for long, so the next pause is short again
				}
				panic("the list is empty")
			}})
		})
		time.Sleep(4*time.Minute + workedWell)
		stop()
		ended.Wait()
		require.Greater(t, len(starts), 9)
		assert.Equal(t, []time.Duration{0, time.Second, 3 * time.Second, 7 * time.Second, 15 * time.Second, 31 * time.Second}, starts[:6])
		assert.Equal(t, lastPause, starts[8]-starts[7], "the pause has an end")
		assert.Equal(t, workedWell+firstPause, starts[9]-starts[8])
		all := prometheus.NewRegistry()
		all.MustRegister(s.Crashed)
		counted, err := all.Gather()
		require.NoError(t, err)
		assert.InDelta(t, float64(len(starts)), counted[0].GetMetric()[0].GetCounter().GetValue(), 0)
		assert.Contains(t, log.String(), "a worker crashed and is begun again")
		assert.Contains(t, log.String(), "crew_test.go", "with its stack")
	})
}

func TestAWorkerThatReturnsHasEnded(t *testing.T) {
	s, log := supervised()
	times := 0
	s.Supervise(t.Context(), Worker{"flush", func(context.Context) { times++ }})
	assert.Equal(t, 1, times)
	assert.Empty(t, log.String())
}
