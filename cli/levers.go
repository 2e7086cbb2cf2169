package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
)

// lever is a command that changes where a rollout stands. Before and after tell people more of it than its name says; each may be nil.
func (a *app) lever(cmd *cobra.Command, lever string, before, after func(*api.Rollout)) *cobra.Command {
	var o api.LeverOrder
	cmd.Args = cobra.MaximumNArgs(1)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		id, err := a.which(cmd.Context(), args)
		if err != nil {
			return err
		}
		r, err := a.client().Rollout(cmd.Context(), id, client.List{PerPage: 1})
		if err != nil {
			return err
		}
		if before != nil && a.format == "table" && r.Ended == nil {
			before(&r)
		}
		o.Since = r.Since
		if r, err = a.client().PullLever(cmd.Context(), id, lever, o); err != nil {
			return err
		}
		if done, err := a.json(r); done {
			return err
		}
		a.out.Printf("Rollout %d: %s.", r.ID, r.Says)
		if after != nil {
			after(&r)
		}
		return nil
	}
	cmd.Flags().StringVar(&o.Because, "because", "", "why; it is kept beside your name")
	return cmd
}

func (a *app) rolloutHold() *cobra.Command {
	return a.lever(&cobra.Command{
		Use: "hold [NUMBER]", Short: "Let no more hosts begin; those at work go on",
		Example: "  lantern rollout hold 1 --because \"vendor has an outage\"\n  lantern rollout hold --format json",
	}, client.LeverHold, nil, func(r *api.Rollout) {
		left, work := "No host is left to begin", "none is at work"
		if n := r.Counts[rollout.Queued] + r.Counts[rollout.Waiting]; n > 0 {
			left = view.Count(n, "host has", "hosts have") + " not begun and will not"
		}
		if n := r.Counts[rollout.Working]; n > 0 {
			work = view.Count(n, "host is at work and will end by itself", "hosts are at work and will end by themselves")
		}
		a.out.Printf("%s; %s.", left, work)
	})
}

func (a *app) rolloutProceed() *cobra.Command {
	return a.lever(&cobra.Command{
		Use: "proceed [NUMBER]", Short: "Let a rollout that is held go on",
		Long:    "The gate that held it is borne as it stands now; it holds again where more hosts come.",
		Example: "  lantern rollout proceed\n  lantern rollout proceed 1 --because \"both hosts have a full disk\" --format json",
	}, client.LeverProceed, func(r *api.Rollout) {
		a.out.Printf(
			"%s still to be changed; it is %s",
			view.Count(r.Counts[rollout.Queued]+r.Counts[rollout.Waiting], "host is", "hosts are"),
			r.Says,
		)
	}, nil)
}

func (a *app) rolloutConsent() *cobra.Command {
	return a.lever(&cobra.Command{
		Use: "consent [NUMBER]", Short: "Agree to the next wave of a rollout that somebody else began",
		Example: "  lantern rollout consent\n  lantern rollout consent 8 --because \"read it with skua\" --format json",
	}, client.LeverConsent, func(r *api.Rollout) { a.out.Printf("%s", r.Says) }, nil)
}

func (a *app) rolloutSkip() *cobra.Command {
	var o api.LeverOrder
	var of int64
	var m meant
	cmd := &cobra.Command{
		Use: "skip HOST... --because WHY", Short: "Leave hosts out of a rollout before it begins on them",
		Example: "  lantern rollout skip gw-03 --because \"is being moved\"\n" +
			"  lantern rollout skip gw-{04..05} --because \"are being moved\" --format json",
		ValidArgsFunction: a.completeEveryHost,
		RunE: func(cmd *cobra.Command, args []string) error {
			if o.Because == "" {
				return wrong("say why with --because; it is kept beside your name")
			}
			if of == 0 {
				var err error
				if of, err = a.which(cmd.Context(), nil); err != nil {
					return err
				}
			}
			return every(cmd.Context(), a, &m, args, func(h string) (api.Rollout, error) {
				o.Host = h
				return a.client().PullLever(cmd.Context(), of, client.LeverSkip, o)
			}, func(r *api.Rollout) { a.out.Printf("%s is left out of rollout %d: %s.", o.Host, r.ID, r.Says) })
		},
	}
	m.add(a, cmd)
	cmd.Flags().StringVar(&o.Because, "because", "", "why")
	cmd.Flags().Int64Var(&of, "rollout", 0, "of this rollout; the one that is under way when left out")
	return cmd
}

func (a *app) rolloutBackOut() *cobra.Command {
	var o api.LeverOrder
	var wait time.Duration
	var yes bool
	cmd := &cobra.Command{
		Use: "back-out [NUMBER]", Short: "Give the hosts back what they had before a rollout", Args: cobra.MaximumNArgs(1),
		Long: "Each host puts back its own copies, byte for byte, by the same steps; those that were changed last go first. A rollout\n" +
			"that is under way is stopped. Without --yes it only says what would be done, and what would come back.",
		Example: "  lantern rollout back-out 2\n  lantern rollout back-out 2 --yes --because \"the witness lies\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := a.which(cmd.Context(), args)
			if err != nil {
				return err
			}
			o.Try = !yes
			r, err := a.client().PullLever(cmd.Context(), id, client.LeverBackOut, o)
			if err != nil {
				return err
			}
			if a.format == "table" {
				a.backing(&r)
			}
			if !yes {
				return a.shownOnly(r, "nothing was taken back yet: look at what would be, then say --yes")
			}
			return a.follow(cmd.Context(), r.ID, wait)
		},
	}
	cmd.Flags().StringVar(&o.Because, "because", "", "why; it is kept beside your name")
	cmd.Flags().BoolVar(&yes, "yes", false, "do it; without it, it is only shown")
	cmd.Flags().DurationVar(&wait, "wait", 10*time.Minute, "how long to watch; it goes on without watching")
	return cmd
}

// backing says what taking a rollout back does, and what it cannot.
func (a *app) backing(r *api.Rollout) {
	if r.ID == 0 {
		a.showPlan(r)
	} else {
		a.out.Printf("Rollout %d takes rollout %d back on %s.", r.ID, r.Of, view.Count(taking(r), "host", "hosts"))
	}
	for _, u := range r.Unknown {
		a.out.Printf("%s %s", a.out.Paint(view.Yellow, "cannot be taken back:"), u)
	}
	for _, d := range r.Dangers {
		a.out.Printf("%s %s", a.out.Paint(view.Red, "comes back:"), d)
	}
}

// unhealed says which hosts a healing does not put right.
func unhealed(r *api.Rollout) (out []string) {
	if r.Untouched > 0 {
		const silent = "the policy says nothing of what was found there; take it out by hand, adopt it, accept it, or waive it"
		out = append(out, fmt.Sprintf("on %s no file would change: %s", view.Count(r.Untouched, "host", "hosts"), silent))
	}
	if r.Others > 0 {
		out = append(out, fmt.Sprintf("%s being changed just now, and left alone; heal what is left afterwards",
			view.Count(r.Others, "host that has such a finding is", "hosts that have such a finding are")))
	}
	return out
}

// healMany heals hosts wave by wave, or shows what the waves would be.
func (a *app) healMany(ctx context.Context, o api.HealManyOrder, yes bool, wait time.Duration) error {
	if len(o.To)+len(o.Class) == 0 && o.Where == "" {
		return wrong("say which: HOST, --group GROUP, --where CONDITION or --class CLASS; `lantern drift` tells what there is")
	}
	o.Try = !yes
	r, err := a.client().HealMany(ctx, o)
	if err != nil {
		return err
	}
	if yes {
		if a.format == "table" {
			a.out.Printf("Healing %d begun: %s in %s.", r.ID, view.Count(r.All(), "host", "hosts"), view.Count(r.Waves, "wave", "waves"))
		}
		if err := a.follow(ctx, r.ID, wait); err != nil {
			return err
		}
		if left := unhealed(&r); len(left) > 0 {
			return no("%s", strings.Join(left, "; "))
		}
		return nil
	}
	if a.format == "table" {
		a.showPlan(&r)
		for _, left := range unhealed(&r) {
			a.out.Printf("%s %s.", a.out.Paint(view.Yellow, "?"), left)
		}
	}
	return a.shownOnly(r, "nothing was begun yet: look at the waves, then say --yes")
}
