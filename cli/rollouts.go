package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
)

func (a *app) rollout() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "rollout",
		Short:   "Carry a revision to the hosts, and see how far it is",
		GroupID: "policy",
		Long: "A rollout goes in waves: one host, a tenth, then all others, or as the plans of the policy say. Before each wave\n" +
			"every gate of those before must hold; one that does not holds the rollout until somebody decides.",
		Example: "  lantern rollout plan\n  lantern rollout begin\n  lantern rollout show",
	}
	lists(cmd, a.rolloutList())
	cmd.AddCommand(
		a.rolloutBegin(),
		a.rolloutPlan(),
		a.rolloutShow(),
		a.rolloutHold(),
		a.rolloutProceed(),
		a.rolloutConsent(),
		a.rolloutSkip(),
		a.rolloutBackOut(),
		a.rolloutStop(),
	)
	return cmd
}

// mostFollowed is how many hosts a rollout has at most whose lines are written one by one;
// of a larger one, those that need somebody.
const mostFollowed = 200

// pauseFor is how long to wait before looking at a rollout of so many hosts again.
func pauseFor(hosts int) time.Duration {
	if hosts > mostFollowed {
		return 2 * time.Second
	}
	return 250 * time.Millisecond
}

// follow watches a rollout until it ends, or waits for somebody.
func (a *app) follow(ctx context.Context, id int64, wait time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	told := map[string]bool{}
	width := 0
	wave := 0
	start := time.Now()
	for {
		r, err := a.client().Rollout(ctx, id, client.List{PerPage: mostFollowed})
		if err != nil && ctx.Err() == nil {
			return err
		}
		if errors.Is(ctx.Err(), context.Canceled) {
			return &exit{ExitInterrupted, fmt.Sprintf("interrupted; rollout %d goes on by itself: watch it with lantern rollout show %d --watch, "+
				"hold it with lantern rollout hold %d", id, id, id)}
		}
		if ctx.Err() != nil {
			return no("rollout %d is still under way after %s; it goes on: watch it with lantern rollout show %d --watch", id, wait, id)
		}
		if a.format == "jsonl" {
			if err := a.streamed(&r, told); err != nil {
				return err
			}
		}
		if a.format == "table" {
			width = max(width, longest(r.Hosts))
			a.tellProgress(r, told, width, time.Since(start))
			if r.Wave > wave && r.Waves > 1 && r.Ended == nil {
				wave = r.Wave
				a.out.Printf("%s", a.out.Paint(view.Dim, waveBegins(&r)))
			}
		}
		waits := r.Phase == rollout.Asking || r.Phase == rollout.Held && r.Counts[rollout.Working] == 0
		if r.Ended != nil || waits {
			if done, err := a.json(r); done {
				if err == nil && (waits || missed(&r)) {
					err = &exit{ExitNo, ""}
				}
				return err
			}
			if waits {
				return a.waits(&r)
			}
			return a.ended(r)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pauseFor(r.All())):
		}
	}
}

var progressLook = map[rollout.State]struct {
	sign  string
	style view.Style
}{
	rollout.Queued: {" ", view.Dim}, rollout.Skipped: {"-", view.Dim},
	rollout.Waiting: {"·", view.Dim}, rollout.Working: {"→", view.Blue}, rollout.Behind: {"?", view.Yellow},
	rollout.Done: {"✓", view.Green}, rollout.Unchanged: {"=", view.Plain}, rollout.Failed: {"✗", view.Red},
}

// streamed writes a line of JSON for each host that has finished since the last look.
func (a *app) streamed(r *api.Rollout, told map[string]bool) error {
	for _, h := range r.Hosts {
		if told[h.Host] || h.State.Open() || h.State == rollout.Queued {
			continue
		}
		told[h.Host] = true
		if err := a.line(h); err != nil {
			return err
		}
	}
	return nil
}

// tellProgress writes a line for each host that has finished, and on a terminal
// one line for the rest that is written over.
func (a *app) tellProgress(r api.Rollout, told map[string]bool, width int, since time.Duration) {
	if a.out.Live {
		a.out.Over("")
	}
	for _, h := range r.Hosts {
		well := h.State == rollout.Done || h.State == rollout.Unchanged
		so := (h.State == rollout.Unchanged || h.State == rollout.Skipped) && h.Wave == 0 && r.Waves > 0 // told of when it began
		if told[h.Host] || h.State.Open() || h.State == rollout.Queued || so || well && r.All() > mostFollowed {
			continue
		}
		told[h.Host] = true
		a.progressLine(h, width)
	}
	if a.out.Live && r.Ended == nil {
		a.out.Over(
			fmt.Sprintf(
				"%d of %d done, %d at work, %ds%s …",
				r.Counts[rollout.Done]+r.Counts[rollout.Unchanged],
				r.All(),
				r.Counts[rollout.Working],
				int(since.Seconds()),
				timeLeft(r.Counts[rollout.Done]+r.Counts[rollout.Failed], r.All()-r.Counts[rollout.Unchanged], since),
			),
		)
	}
}

// longest is the length of the longest name.
func longest(hosts []api.HostProgress) (n int) {
	for _, h := range hosts {
		n = max(n, len(h.Host))
	}
	return n
}

func (a *app) progressLine(h api.HostProgress, width int) {
	look := progressLook[h.State]
	text := ""
	if h.Report != nil {
		switch h.State {
		case rollout.Failed:
			text = fmt.Sprintf("at %s: %s", h.Report.Step, h.Report.Message)
			if h.Report.Undone {
				text += " (put back as it was)"
			}
			if len(h.Report.Kept) > 0 {
				text += " (kept: " + strings.Join(h.Report.Kept, ", ") + ")"
			}
		case rollout.Done:
			text = view.Count(len(h.Report.Edits), "file", "files") + " changed"
		case rollout.Unchanged:
			text = "nothing to change"
		case rollout.Working:
			text = "at " + h.Report.Step
		}
		if h.State != rollout.Failed && h.State != rollout.Working && h.Report.Message != "" && len(h.Report.Around) > 0 {
			text += "; " + strings.Join(h.Report.Around, "; ")
		}
		if ok, bad := refreshed(h.Report); ok+bad > 0 {
			text += fmt.Sprintf("; %d of %s refreshed by %s", ok, view.Count(ok+bad, "source", "sources"), h.Report.Refresh)
		}
	}
	if h.State == rollout.Skipped {
		text = "left as it is"
		if h.Report != nil && h.Report.Message != "" {
			text = h.Report.Message
		}
	}
	if h.State == rollout.Behind {
		text = "gives no sign of life; the others went on, and it catches up when it comes back"
	}
	a.out.Printf(
		"%s  %s  %s",
		a.out.Paint(look.style, fmt.Sprintf("%s %-9s", look.sign, h.State)),
		a.out.Paint(view.Bold, fmt.Sprintf("%-*s", width, h.Host)),
		text,
	)
	if h.Report != nil {
		for _, s := range h.Report.Sources {
			if !s.OK {
				a.out.Printf(
					"%s %s %s %s",
					strings.Repeat(" ", 13),
					a.out.Paint(view.Red, "!"),
					s.URL+" "+s.Suite,
					a.out.Paint(view.Dim, s.Message),
				)
			}
		}
	}
}

func refreshed(r *api.Report) (ok, bad int) {
	for _, s := range r.Sources {
		if s.OK {
			ok++
		} else {
			bad++
		}
	}
	return ok, bad
}

// missed reports whether a rollout that has ended did not come to all of its hosts.
func missed(r *api.Rollout) bool {
	return r.Stopped != nil || r.Counts[rollout.Failed]+leftOut(r) > 0
}

// leftOut counts the hosts to which nothing was carried: those that gave no sign of life, that somebody skipped, and that a
// rollout never came to before it was stopped.
func leftOut(r *api.Rollout) int {
	return r.Counts[rollout.Behind] + r.Counts[rollout.Skipped] + r.NotReached
}

// counted is a number of hosts that stands out where there are any.
func counted(hosts int, style view.Style) view.Cell {
	c := view.T(fmt.Sprint(hosts))
	if hosts > 0 {
		c.Style = style
	}
	return c
}

// notReached is said of the hosts that a rollout never came to, behind their number.
const notReached = "not reached: they keep what they have"

// whoWereLeft tells of those that leftOut counts, behind other counts; nothing where there are none.
func whoWereLeft(r *api.Rollout) (text string) {
	for _, left := range []struct {
		hosts int
		how   string
	}{
		{r.Counts[rollout.Behind], "left behind without a sign of life"},
		{r.Counts[rollout.Skipped], "skipped: left as they are"},
		{r.NotReached, notReached},
	} {
		if left.hosts > 0 {
			text += fmt.Sprintf(", %d %s", left.hosts, left.how)
		}
	}
	return text
}

// begun is when a rollout began; a plan never did.
func begun(r *api.Rollout) time.Time {
	if r.Begun == nil {
		return time.Time{}
	}
	return *r.Begun
}

// ended says how a rollout ended. Where it did not come to all of its hosts the answer is no.
func (a *app) ended(r api.Rollout) error {
	took := r.Ended.Sub(begun(&r)).Round(100 * time.Millisecond)
	if missed(&r) {
		text := fmt.Sprintf("rollout %d ended after %s", r.ID, took)
		if r.Stopped != nil {
			text = fmt.Sprintf("rollout %d was stopped after %s", r.ID, took)
		}
		text += fmt.Sprintf(": %s failed, %d done, %d unchanged", view.Count(r.Counts[rollout.Failed], "host", "hosts"),
			r.Counts[rollout.Done], r.Counts[rollout.Unchanged])
		return no("%s%s", text, whoWereLeft(&r))
	}
	a.out.Printf(
		"%s %d changed, %d unchanged, in %s.",
		a.out.Paint(view.Green, fmt.Sprintf("Rollout %d done:", r.ID)),
		r.Counts[rollout.Done],
		r.Counts[rollout.Unchanged],
		took,
	)
	return nil
}

func number(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, wrong("%q is not the number of a rollout; `lantern rollout list` shows them", s)
	}
	return n, nil
}

func (a *app) rolloutList() *cobra.Command {
	var l listFlags
	cmd := &cobra.Command{
		Use: "list", Short: "List rollouts, the newest first", Args: cobra.NoArgs,
		Example: "  lantern rollout list\n" +
			"  lantern rollout list --format csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Rollouts(cmd.Context(), client.List{Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if page.Total == 0 {
				a.out.Printf("No rollout yet: lantern rollout begin")
				return nil
			}
			var rows [][]view.Cell
			for _, r := range page.Rollouts {
				ended := view.Cell{Text: "under way", Style: view.Blue}
				switch {
				case r.Ended != nil:
					ended = view.T(r.Ended.Local().Format("15:04:05"))
				case r.Phase == rollout.Held:
					ended = view.Cell{Text: "held", Style: view.Yellow}
				}
				rows = append(
					rows,
					[]view.Cell{
						view.T(fmt.Sprint(r.ID)),
						view.T(r.Kind),
						view.T(fmt.Sprint(r.Revision)),
						view.T(r.Author),
						view.T(begun(&r).Local().Format("2006-01-02 15:04:05")),
						ended,
						view.T(
							fmt.Sprint(r.Counts[rollout.Done]),
						),
						view.T(fmt.Sprint(r.Counts[rollout.Unchanged])),
						counted(r.Counts[rollout.Failed], view.Red),
						counted(leftOut(&r), view.Yellow),
						view.T(fmt.Sprint(r.Counts[rollout.Queued] + r.Counts[rollout.Waiting] + r.Counts[rollout.Working])),
					},
				)
			}
			a.out.Table(
				[]view.Column{
					{Name: "ROLLOUT", Right: true},
					{Name: "KIND", Less: 3},
					{Name: "REVISION", Right: true},
					{Name: "BY", Less: 4},
					{Name: "BEGUN", Less: 1},
					{Name: "ENDED"},
					{
						Name:  "DONE",
						Right: true,
					},
					{Name: "UNCHANGED", Right: true, Less: 5},
					{Name: "FAILED", Right: true},
					{Name: "LEFT OUT", Right: true},
					{Name: "TO DO", Right: true},
				},
				rows,
			)
			l.more(a, len(page.Rollouts), page.Total)
			return nil
		},
	}
	l.add(cmd)
	a.watching(cmd)
	return cmd
}

func (a *app) rolloutStop() *cobra.Command {
	return &cobra.Command{
		Use: "stop NUMBER", Short: "Stop a rollout where nothing was touched yet", Args: cobra.ExactArgs(1),
		Example: "  lantern rollout stop 1\n  lantern rollout stop 6 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			r, err := a.client().StopRollout(cmd.Context(), id)
			if err != nil {
				return err
			}
			if done, err := a.json(r); done {
				return err
			}
			a.out.Printf(
				"Rollout %d stopped: %d changed, %d unchanged, %d failed%s.",
				r.ID,
				r.Counts[rollout.Done],
				r.Counts[rollout.Unchanged],
				r.Counts[rollout.Failed],
				whoWereLeft(&r),
			)
			if len(r.Left) > 0 {
				a.out.Printf(
					"%s at work, and cannot be interrupted safely; they stop before they touch anything, or finish: %s",
					view.Count(len(r.Left), "host is", "hosts are"),
					someNames(r.Left, 8),
				)
			}
			return nil
		},
	}
}
