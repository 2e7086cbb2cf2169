package service_test

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/internal/rig"
)

// An agent on a machine that has no more watches to give goes on, and reads all of its folders every few minutes.
func TestAnAgentThatCannotWatchReadsAgain(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root, h := r.Enrol("gw-01")
	a, err := agent.New(agent.Options{
		Host: h, Log: slog.New(slog.NewJSONHandler(r.Log, nil)), Version: "test", Now: r.Clock.Now,
		Watch: func() (*fsnotify.Watcher, error) { return nil, errors.New("too many open files") },
	})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- a.Run(ctx) }()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-ended)
	})
	r.Surveyed("gw-01")
	r.Publish()
	require.Zero(t, r.Carry().Counts[rollout.Failed])
	before := len(r.Findings("gw-01"))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"), []byte("deb [trusted=yes] http://elsewhere.example/ s main\n"), 0o644))
	r.Clock.Forward(6 * time.Minute)
	r.Until("the edit is found", func() bool { return len(r.Findings("gw-01")) > before })
}
