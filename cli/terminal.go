package cli

import (
	"context"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
)

// patience is how long a command that was interrupted may take to end by itself.
const patience = 2 * time.Second

// interruptible is a context that ends when the command is interrupted. What does not end soon
// then is ended; the service and the demo take their time, and end at a second interrupt.
func interruptible(patient *atomic.Bool) (context.Context, func()) {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	ended := make(chan struct{})
	go func() {
		select {
		case <-ended:
			return
		case <-ctx.Done():
		}
		stop() // a second one ends the program at once
		if patient.Load() {
			return
		}
		select {
		case <-ended:
		case <-time.After(patience):
			_, _ = os.Stderr.WriteString("lantern: interrupted\n")
			os.Exit(ExitInterrupted)
		}
	}()
	return ctx, func() { close(ended); stop() }
}

// stdout is standard output for what is written before the settings are known: help and
// completions. An error of writing is kept.
type stdout struct{ a *app }

func (w stdout) Write(p []byte) (int, error) {
	if w.a.out == nil {
		w.a.out = view.NewOut(os.Stdout, "never")
	}
	if err := w.a.out.Raw(string(p)); err != nil {
		return 0, err
	}
	return len(p), nil
}

func flagged(cmd *cobra.Command, name string) bool {
	f := cmd.Flags().Lookup(name)
	return f != nil && f.Changed
}

// pager shows long output page by page.
type pager struct {
	cmd  *exec.Cmd
	pipe io.WriteCloser
}

// startPager sends what is written through the pager that LANTERN_PAGER or PAGER names, or less,
// where standard output is a terminal. Nothing or cat stands for none. What fits a screen is
// written as it stands.
func startPager(out *view.Out) *pager {
	name, set := os.LookupEnv("LANTERN_PAGER")
	if !set {
		if name, set = os.LookupEnv("PAGER"); !set {
			name = "less"
		}
	}
	words := strings.Fields(name)
	if !out.Live || len(words) == 0 || words[0] == "cat" {
		return nil
	}
	cmd := exec.Command(words[0], words[1:]...) //nolint:gosec // the user's own choice
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	if _, own := os.LookupEnv("LESS"); !own { // ends on one screen, and shows colours
		cmd.Env = append(os.Environ(), "LESS=FRX")
	}
	pipe, err := cmd.StdinPipe()
	if err != nil || cmd.Start() != nil {
		return nil
	}
	out.Through(pipe)
	return &pager{cmd, pipe}
}

// wait ends what is written, and waits until it was read.
func (p *pager) wait() {
	_ = p.pipe.Close()
	_ = p.cmd.Wait() // how the reader left it is no matter
}

// watching lets a command be run again every two seconds, on a screen of its own.
func (a *app) watching(cmd *cobra.Command) {
	var watch bool
	cmd.Flags().BoolVar(&watch, "watch", false, "show it anew every two seconds, until interrupted")
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		for {
			if watch && a.out.Live {
				_ = a.out.Raw("\x1b[H\x1b[2J") // kept, see Err
			}
			err := run(cmd, args)
			if !watch || err != nil || a.out.Err() != nil {
				return err
			}
			select {
			case <-cmd.Context().Done():
				return &exit{ExitInterrupted, ""}
			case <-time.After(2 * time.Second):
			}
		}
	}
}
