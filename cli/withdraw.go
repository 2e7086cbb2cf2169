package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/trust"
	"patientlantern.example/lantern/store"
)

func (a *app) keyWithdraw() *cobra.Command {
	var because string
	var yes bool
	var wait time.Duration
	cmd := &cobra.Command{
		Use: "withdraw KEY", Short: "Take a signing key away from the whole fleet, at once", Args: cobra.ExactArgs(1),
		Long: "For the day on which a vendor's key has fallen into other hands: publish the newest revision with the key withdrawn,\n" +
			"stop what is being carried, wait for hosts that are at work, and carry that to all hosts together. It leaves the\n" +
			"keyrings of apt, rpm and pacman as well, whoever put it there. A repository that is left without a key is switched\n" +
			"off. A key that the policy does not know is named by its fingerprint. Without --yes it only says what would happen.\n" +
			"A later folder that would believe the key again is refused, until somebody says that it is meant\n" +
			"(lantern policy publish --believe).",
		Example: "  lantern key withdraw plover-2024 --because 'Plover lost it'\n" +
			"  lantern key withdraw plover-2024 --because 'Plover lost it' --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(because) == "" {
				return wrong("say why with --because: it is kept beside your name")
			}
			return a.withdraw(cmd, args[0], because, yes, wait)
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "why; it is kept beside your name")
	cmd.Flags().BoolVar(&yes, "yes", false, "do it")
	cmd.Flags().DurationVar(&wait, "wait", 10*time.Minute, "how long to watch the rollout; it goes on by itself")
	return cmd
}

// withdraw takes a key away, or says what that would do.
func (a *app) withdraw(cmd *cobra.Command, name, because string, yes bool, wait time.Duration) error {
	ctx, c := cmd.Context(), a.client()
	k, err := c.Key(ctx, name, true, client.List{PerPage: 1})
	if err != nil {
		return err
	}
	called := cmp.Or(k.Policy, k.Fingerprint) // one that the policy does not know is named by its fingerprint
	newest, err := c.RevisionFiles(ctx, k.Revision)
	if err != nil {
		return err
	}
	before, _ := policy.Load(newest.Files, time.Now())
	if before.WithdrawalOf(called) != nil {
		return no("revision %d withdraws the key %s already: lantern rollout begin carries it", k.Revision, called)
	}
	file, text, err := withdrawal(called, because)
	if err != nil {
		return err
	}
	newest.Files[file] = text
	newest.Message = "the key " + called + " is withdrawn: " + because
	after, _ := policy.Load(newest.Files, time.Now())
	stop := a.waiting("working out what that does")
	p, err := c.PreviewFolder(ctx, api.Publication{Files: newest.Files})
	stop()
	if err != nil {
		return err
	}
	if !yes {
		return a.wouldWithdraw(&k, &p, after)
	}
	r, err := c.Publish(ctx, api.Publication{Files: newest.Files, Message: newest.Message, Alone: true}) // it cannot wait
	if err != nil {
		return err
	}
	if a.format == "table" {
		a.out.Printf("%s The key %s is withdrawn.", a.out.Paint(view.Bold, fmt.Sprintf("Revision %d published.", r.Number)), called)
		a.out.Printf("Put this into your policy folder too, as %s, or its next revision is refused:\n", file)
		for line := range strings.Lines(string(text)) {
			a.out.Printf("    %s", strings.TrimRight(line, "\n"))
		}
		a.out.Printf("")
		a.believedWidely(&k)
	}
	if err := a.makeWay(ctx, r.Number, wait); err != nil {
		return err
	}
	begun, err := c.BeginRollout(ctx, api.RolloutOrder{Revision: r.Number, AtOnce: true, Because: newest.Message})
	if err != nil {
		return err
	}
	if a.format == "table" {
		a.begun(&begun)
	}
	return a.follow(ctx, begun.ID, wait)
}

// withdrawal is a policy file that takes a key away.
func withdrawal(key, because string) (name string, text []byte, err error) {
	text, err = yaml.Marshal(yaml.MapSlice{
		{Key: "format", Value: policy.Format},
		{Key: "withdrawn", Value: yaml.MapSlice{{Key: key, Value: yaml.MapSlice{{Key: "because", Value: because}}}}},
	})
	return "withdrawn-" + key + ".yaml", text, err
}

// withdrawing is what withdrawing a key would do.
type withdrawing struct {
	Key         trust.FleetKey `json:"key"`
	SwitchedOff []string       `json:"switched_off"` // repositories that are left without a key
	OtherKeys   []string       `json:"other_keys"`   // repositories that are believed by others as well
	Preview     *api.Preview   `json:"preview"`
}

// wouldWithdraw says what withdrawing a key would do.
func (a *app) wouldWithdraw(k *api.KeyDetail, p *api.Preview, after *policy.Policy) error {
	var off, left []string
	for _, name := range k.For {
		if r := after.Repositories[name]; r != nil && r.Keyless {
			off = append(off, name)
		} else {
			left = append(left, name)
		}
	}
	if done, err := a.json(withdrawing{k.FleetKey, append([]string{}, off...), append([]string{}, left...), p}); done {
		return err
	}
	a.keyHead(&k.FleetKey)
	a.out.Printf("Withdrawing it changes %s.", view.Count(p.Changing, "host", "hosts"))
	if len(off) > 0 {
		a.out.Printf("%s %s: they are believed by no other key, and stop refreshing until the vendor has a new one.",
			a.out.Paint(view.Yellow, "! Switched off:"), strings.Join(off, ", "))
	}
	if len(left) > 0 {
		a.out.Printf("Other keys are left for: %s. They refresh where the vendor signs with one of those.", strings.Join(left, ", "))
	}
	if k.Signs > 0 {
		a.out.Printf("%s it signs %s today: those stop refreshing until the vendor signs with another key.",
			a.out.Paint(view.Yellow, "!"), view.Count(k.Signs, "place of packages", "places of packages"))
	}
	if len(p.Unknown) > 0 {
		a.out.Printf("%s sent no survey yet, so nothing is known of them.", a.unsure(len(p.Unknown)))
	}
	a.silent(a.out, k.Silent, k.Quiet...)
	a.believedWidely(k)
	a.out.Printf("\nNothing was done. Do it: the same with --yes")
	return nil
}

// believedWidely says where a key is believed in ways that are not the policy's files.
func (a *app) believedWidely(k *api.KeyDetail) {
	if k.Wide > 0 {
		a.out.Printf("%s it is trusted for every source. It goes out of the keyrings of apt, rpm and pacman there too; "+
			"where it cannot, the host says so: lantern drift --class key-withdrawn.",
			a.out.Paint(view.Red, fmt.Sprintf("!! On %s", view.Count(k.Wide, "host", "hosts"))))
	}
}

// makeWay stops what is being carried, taken back and healed, and waits until the hosts that had begun are
// done. What is held makes way by itself.
func (a *app) makeWay(ctx context.Context, revision int64, wait time.Duration) error {
	page, err := a.client().Rollouts(ctx, client.List{PerPage: 50})
	if err != nil {
		return err
	}
	end := time.Now().Add(wait)
	for i := range page.Rollouts {
		r := &page.Rollouts[i]
		if r.Ended != nil || r.Kind == store.KindRollout && r.Phase == rollout.Held && r.Counts[rollout.Working] == 0 {
			continue
		}
		switch err := a.stopWhole(ctx, r.ID, end); {
		case errors.Is(err, context.Canceled):
			return &exit{
				ExitInterrupted,
				fmt.Sprintf("interrupted; revision %d is published and not begun: lantern rollout begin --at-once carries it", revision),
			}
		case errors.Is(err, context.DeadlineExceeded):
			return no("%s %d is still under way after %s, so revision %d was not begun; it is published: lantern rollout begin --at-once carries it",
				r.Kind, r.ID, wait, revision)
		case err != nil:
			return err
		}
	}
	return nil
}

// stopWhole stops a rollout, and waits for its hosts that had begun until a moment.
func (a *app) stopWhole(ctx context.Context, id int64, end time.Time) error {
	ctx, cancel := context.WithDeadline(ctx, end)
	defer cancel()
	stop := a.waiting("waiting for hosts that had begun")
	defer stop()
	for told := false; ; {
		// Stopped once more, it lets go of hosts that gave no sign of life meanwhile.
		r, err := a.client().StopRollout(ctx, id)
		var p *client.Error
		switch {
		case errors.As(err, &p) && p.Status == http.StatusConflict:
			return nil // it has ended
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return err
		}
		if !told && a.format == "table" {
			a.out.Printf("Stopped %s %d, which was being carried.", r.Kind, r.ID)
		}
		if told = true; r.Ended != nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second / 2):
		}
	}
}
