package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
)

// orderFlags are what says who a rollout is for.
type orderFlags struct {
	order api.RolloutOrder
	meant meant
}

// asked is the order with the hosts that it is for.
func (o *orderFlags) asked() api.RolloutOrder {
	out := o.order
	out.To, out.Where = slices.Concat(out.To, o.meant.groups), o.meant.where
	return out
}

func (o *orderFlags) add(a *app, cmd *cobra.Command) {
	cmd.Flags().Int64Var(&o.order.Revision, "revision", 0, "the revision; 0 for the newest")
	cmd.Flags().Var(namesFlag{&o.order.To}, "to", "only these hosts, ranges or groups")
	must(cmd.RegisterFlagCompletionFunc("to", a.completeTo))
	o.meant.add(a, cmd)
	cmd.Flags().BoolVar(&o.order.AtOnce, "at-once", false, "all hosts together, whatever their plans say, and no gate; wants --because")
	cmd.Flags().StringVar(&o.order.Because, "because", "", "why; it is kept beside your name")
}

func (a *app) rolloutBegin() *cobra.Command {
	var o orderFlags
	var wait time.Duration
	var leave bool
	cmd := &cobra.Command{
		Use: "begin", Short: "Carry a revision to the hosts, wave by wave, and watch", Args: cobra.NoArgs,
		Long: "Only hosts that would change take part. The rollout goes on without watching; it holds by itself where a gate does not\n" +
			"pass. One that is held makes way for a newer one.",
		Example: "  lantern rollout begin\n  lantern rollout begin --no-wait\n  lantern rollout begin --to gw-01,models --no-wait",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.order.AtOnce && o.order.Because == "" {
				return wrong("say why with --because: --at-once takes every gate away")
			}
			r, err := a.client().BeginRollout(cmd.Context(), o.asked())
			if err != nil {
				return err
			}
			if leave || a.format == "json" && r.Ended != nil {
				if done, err := a.json(r); done {
					if err == nil && missed(&r) {
						err = &exit{ExitNo, ""}
					}
					return err
				}
			}
			if a.format == "table" {
				a.begun(&r)
			}
			if leave {
				if r.Ended == nil {
					a.out.Printf("It goes on by itself: lantern rollout show %d", r.ID)
				}
				return nil
			}
			return a.follow(cmd.Context(), r.ID, wait)
		},
	}
	o.add(a, cmd)
	cmd.Flags().DurationVar(&wait, "wait", 10*time.Minute, "how long to watch; it goes on without watching")
	cmd.Flags().BoolVar(&leave, "no-wait", false, "begin it and come back at once")
	return cmd
}

// begun says in a line what has begun.
func (a *app) begun(r *api.Rollout) {
	takers := taking(r)
	text := fmt.Sprintf("Rollout %d of revision %d begun: %s in %s", r.ID, r.Revision, view.Count(takers, "host", "hosts"),
		view.Count(r.Waves, "wave", "waves"))
	if n := r.Counts[rollout.Unchanged]; n > 0 && takers > 0 {
		text += fmt.Sprintf("; %d have it already", n)
	}
	if takers == 0 {
		all := r.Counts[rollout.Unchanged]
		text = fmt.Sprintf("Rollout %d of revision %d: all of %s have it already", r.ID, r.Revision, view.Count(all, "host", "hosts"))
	}
	if n := r.Counts[rollout.Skipped]; n > 0 {
		text += fmt.Sprintf("; %s no survey yet, and nothing is carried there", view.Count(n, "host has sent", "hosts have sent"))
	}
	if r.Others > 0 {
		text += fmt.Sprintf("; %s not asked for and left as they are", view.Count(r.Others, "host was", "hosts were"))
	}
	a.out.Printf("%s.", text)
	a.notKnownWhether(r.Unsure)
	if r.TookOver != 0 {
		a.out.Printf("Rollout %d, which was held, is stopped and makes way.", r.TookOver)
	}
}

func (a *app) rolloutPlan() *cobra.Command {
	var o orderFlags
	cmd := &cobra.Command{
		Use: "plan", Short: "Show what the waves of a rollout would be, and begin nothing", Args: cobra.NoArgs,
		Example: "  lantern rollout plan\n  lantern rollout plan --to models",
		RunE: func(cmd *cobra.Command, _ []string) error {
			o.order.Try = true
			r, err := a.client().BeginRollout(cmd.Context(), o.asked())
			if err != nil {
				return err
			}
			if done, err := a.json(r); done {
				return err
			}
			a.showPlan(&r)
			return nil
		},
	}
	o.add(a, cmd)
	return cmd
}

// taking counts the hosts that something is carried to.
func taking(r *api.Rollout) int {
	return r.All() - r.Counts[rollout.Unchanged] - r.Counts[rollout.Skipped]
}

func (a *app) showPlan(r *api.Rollout) {
	takers := taking(r)
	switch {
	case takers == 0 && r.Kind == "rollout":
		a.out.Printf("Revision %d would be carried to no host.", r.Revision)
	case r.Kind == "back-out":
		a.out.Printf(
			"Rollout %d would be taken back on %s in %s.\n",
			r.Of,
			view.Count(takers, "host", "hosts"),
			view.Count(r.Waves, "wave", "waves"),
		)
	case r.Kind == "heal":
		a.out.Printf("%s would be healed in %s.\n", view.Count(takers, "host", "hosts"), view.Count(r.Waves, "wave", "waves"))
	default:
		a.out.Printf(
			"Revision %d would be carried to %s in %s.\n",
			r.Revision,
			view.Count(takers, "host", "hosts"),
			view.Count(r.Waves, "wave", "waves"),
		)
	}
	for i := range r.Parts {
		p := &r.Parts[i]
		a.out.Printf("%s  %s%s", a.out.Paint(view.Bold, fmt.Sprintf("wave %d", p.Wave)), whoIn(p), a.out.Paint(view.Dim, planSays(p)))
		a.out.Printf("        %s", a.out.Paint(view.Dim, namesOf(p.Names, p.Hosts)))
		a.showRefused("        ", "%s of it", p.Refused)
		if p.Unseen > 0 {
			a.out.Printf("        %s what stands at the places that it brings is not known (lantern repository list --state unknown)",
				a.unsureOf(p.Unseen))
		}
	}
	if n := r.Counts[rollout.Unchanged]; n > 0 {
		if takers > 0 {
			a.out.Printf("")
		}
		a.out.Printf("%s would change nothing, and take no part.", view.Count(n, "host", "hosts"))
	}
	if n := r.Counts[rollout.Skipped]; n > 0 && r.Kind == "rollout" {
		a.out.Printf("%s Nothing would be carried to %s: they sent no survey yet, or do not tell what the policy puts in.",
			a.out.Paint(view.Yellow, "?"), view.Count(n, "host", "hosts"))
	}
	a.silent(a.out, r.Silent, r.Quiet...)
	a.notKnownWhether(r.Unsure)
	if r.Others > 0 && r.Kind != "heal" {
		a.out.Printf("%s not asked for.", view.Count(r.Others, "host is", "hosts are"))
	}
	if r.TookOver != 0 {
		a.out.Printf("Rollout %d is held; it would be stopped and make way.", r.TookOver)
	}
}

// whoIn says who is in a wave, and how many those are.
func whoIn(p *api.RolloutPart) string {
	hosts := view.Count(p.Hosts, "host", "hosts")
	if p.What == hosts {
		return hosts
	}
	return p.What + ": " + hosts
}

// mostSaid is how many hosts a line names.
const mostSaid = 8

// namesOf names some of so many hosts, without their domain.
func namesOf(names []string, all int) string {
	shown := min(len(names), mostSaid)
	text := someNames(names[:shown], shown)
	if all > shown {
		text += fmt.Sprintf(" and %d more", all-shown)
	}
	return text
}

// planSays tells what holds for a wave.
func planSays(p *api.RolloutPart) string {
	out := []string{"plan " + p.Plan}
	for _, g := range p.Gates {
		if g.Most >= 0 {
			out = append(out, fmt.Sprintf("%s at most %d", g.Name, g.Most))
		}
	}
	if p.Consent {
		out = append(out, "wants consent first")
	}
	if p.Quiet != "" {
		out = append(out, "nobody begins from "+p.Quiet)
	}
	if p.Soak > 0 {
		out = append(out, "then "+(time.Duration(p.Soak)*time.Second).String())
	}
	return "; " + strings.Join(out, "; ")
}

// waveBegins says which wave has begun.
func waveBegins(r *api.Rollout) string {
	var who []string
	for i := range r.Parts {
		if r.Parts[i].Wave == r.Wave {
			who = append(who, whoIn(&r.Parts[i]))
		}
	}
	return fmt.Sprintf("wave %d of %d: %s", r.Wave, r.Waves, strings.Join(who, "; "))
}

// waits tells what a rollout waits for that only somebody can give it.
func (a *app) waits(r *api.Rollout) error {
	a.whyFailed(r)
	if r.Phase == rollout.Asking {
		return no("rollout %d: %s", r.ID, r.Says)
	}
	a.out.Printf("\n%s", heldLevers(r))
	return no("rollout %d is %s", r.ID, r.Says)
}

// whyFailed shows why hosts failed, each cause once.
func (a *app) whyFailed(r *api.Rollout) {
	if len(r.Causes) == 0 {
		return
	}
	a.out.Printf("\n%s", a.out.Paint(view.Bold, "Why hosts failed"))
	for _, c := range r.Causes {
		a.out.Printf("%s  at %s: %s", a.out.Paint(view.Red, view.Count(c.Hosts, "host", "hosts")), c.Step, c.Message)
		if c.Says != "" {
			a.out.Printf("        %s: %s", a.out.Paint(view.Bold, c.Says), c.Remedy)
		}
		a.out.Printf("        %s", a.out.Paint(view.Dim, namesOf(c.Names, c.Hosts)))
	}
}

func (a *app) rolloutShow() *cobra.Command {
	var watch bool
	var wait time.Duration
	var l listFlags
	var states []string
	var q string
	cmd := &cobra.Command{
		Use: "show [NUMBER]", Short: "Show how far a rollout is: its waves, its gates, and the hosts that need somebody",
		Args:    cobra.MaximumNArgs(1),
		Long:    "Without a number it shows the one that is under way, or the newest.",
		Example: "  lantern rollout show\n  lantern rollout show 1 --state failed,behind\n  lantern rollout show --watch",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := a.which(cmd.Context(), args)
			if err != nil {
				return err
			}
			if watch {
				return a.follow(cmd.Context(), id, wait)
			}
			list := client.List{Query: q, Filter: map[string][]string{"state": states}, Page: l.page, PerPage: l.perPage}
			r, err := a.client().Rollout(cmd.Context(), id, list)
			if err != nil {
				return err
			}
			var whole any = r
			if a.format != "json" { // a row, or a line, for each host
				whole = listed[api.HostProgress]{r.Hosts, r.Total}
			}
			if done, err := a.json(whole); done {
				return err
			}
			a.showRollout(r)
			if r.Total == 0 && (q != "" || len(states) > 0) {
				a.out.Printf("None of its hosts is what was asked for.")
			}
			l.more(a, len(r.Hosts), r.Total)
			return nil
		},
	}
	l.add(cmd)
	var names []string
	for _, st := range rollout.States {
		names = append(names, string(st))
	}
	choose(cmd, &states, "state", true, "only hosts in these states: "+strings.Join(names, ", "), names...)
	cmd.Flags().StringVar(&q, "match", "", "only hosts with this in their name")
	cmd.Flags().BoolVar(&watch, "watch", false, "watch it until it ends, or waits for somebody")
	cmd.Flags().DurationVar(&wait, "wait", time.Hour, "how long to watch")
	return cmd
}

// which is the number of a rollout that is given, of the one that is under way, or of the newest.
func (a *app) which(ctx context.Context, args []string) (int64, error) {
	if len(args) > 0 {
		return number(args[0])
	}
	page, err := a.client().Rollouts(ctx, client.List{PerPage: 50})
	if err != nil {
		return 0, err
	}
	for _, r := range page.Rollouts {
		if r.Ended == nil && r.Kind != "heal" {
			return r.ID, nil
		}
	}
	if len(page.Rollouts) == 0 {
		return 0, no("there is no rollout yet: lantern rollout begin")
	}
	return page.Rollouts[0].ID, nil
}

func (a *app) showRollout(r api.Rollout) {
	what := fmt.Sprintf("of revision %d", r.Revision)
	if r.Of != 0 {
		what = fmt.Sprintf("of rollout %d", r.Of)
	}
	a.out.Printf("%s %s by %s, begun %s", a.out.Paint(view.Bold, fmt.Sprintf("%s %d", r.Kind, r.ID)), what, r.Author,
		begun(&r).Local().Format("2006-01-02 15:04:05"))
	style := view.Blue
	says := r.Says
	switch {
	case r.Ended != nil:
		style, says = view.Plain, fmt.Sprintf("ended after %s", r.Ended.Sub(begun(&r)).Round(100*time.Millisecond))
		if r.Stopped != nil {
			says += ", stopped"
		}
	case r.Phase == rollout.Held:
		style = view.Red
	case r.Phase == rollout.Asking:
		style = view.Yellow
	}
	a.out.Printf("%s", a.out.Paint(style, says))
	var counts []string
	for _, st := range rollout.States {
		if n := r.Counts[st]; n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, st))
		}
	}
	if r.NotReached > 0 {
		counts = append(counts, a.out.Paint(view.Yellow, fmt.Sprintf("%d %s", r.NotReached, notReached)))
	}
	a.out.Printf("%s: %s", view.Count(r.All(), "host", "hosts"), strings.Join(counts, ", "))
	if r.Waves > 1 || r.Ended == nil {
		a.out.Printf("")
		a.showParts(&r)
	}
	a.whyFailed(&r)
	if len(r.Hosts) > 0 {
		a.out.Printf("")
	}
	var queued []string
	for _, h := range r.Hosts {
		if h.State == rollout.Queued {
			queued = append(queued, h.Host)
			continue
		}
		a.progressLine(h, longest(r.Hosts))
		if h.Report == nil {
			continue
		}
		for _, e := range h.Report.Edits {
			a.out.Printf(
				"%s%-8s %s  %s",
				strings.Repeat(" ", 13),
				e.Action,
				a.out.Paint(view.Cyan, e.Path),
				a.out.Paint(view.Dim, strings.Join(e.Why, "; ")),
			)
		}
	}
	if len(queued) > 0 {
		a.out.Printf(
			"%s  %s",
			a.out.Paint(view.Dim, "  queued   "),
			namesOf(queued, r.Counts[rollout.Queued]),
		)
	}
	if r.Phase == rollout.Held {
		a.out.Printf("\n%s", heldLevers(&r))
	}
}

// heldLevers says what can be done about a rollout that is held.
func heldLevers(r *api.Rollout) string {
	text := fmt.Sprintf("No further host begins. Go on: lantern rollout proceed %d.", r.ID)
	if r.Counts[rollout.Done]+r.Counts[rollout.Working] > 0 {
		text += fmt.Sprintf(" Take it back: lantern rollout back-out %d.", r.ID)
	}
	return text + " Or publish what is right and begin: this one makes way."
}

// showParts shows the waves, and each gate's value beside its limit.
func (a *app) showParts(r *api.Rollout) {
	var rows [][]view.Cell
	for i := range r.Parts {
		p := &r.Parts[i]
		where := view.Cell{Text: "to come", Style: view.Dim}
		over := r.Ended != nil || r.Stopped != nil
		switch well := p.Counts[rollout.Done] + p.Counts[rollout.Unchanged]; {
		case over && p.Reached() < p.Hosts:
			where = view.Cell{Text: "stopped", Style: view.Yellow}
			if p.Reached() == 0 {
				where.Text = "not begun"
			}
		case p.Wave < r.Wave, r.Ended != nil:
			where = view.Cell{Text: "over", Style: view.Plain}
		case p.Wave == r.Wave:
			where = view.Cell{Text: string(r.Phase), Style: view.Blue}
			if well == p.Hosts && r.Phase != rollout.Held {
				where.Style = view.Green
			}
		}
		gates := view.T(gatesOf(p))
		if r.Phase == rollout.Held && slices.ContainsFunc(p.Gates, func(g api.RolloutGate) bool { return !g.Passed }) {
			gates.Style, where.Style = view.Red, view.Red
		}
		rows = append(rows, []view.Cell{
			view.T(fmt.Sprint(p.Wave)), view.T(p.Plan), view.T(p.What), view.T(fmt.Sprint(p.Hosts)),
			view.T(fmt.Sprint(p.Counts[rollout.Done] + p.Counts[rollout.Unchanged])), where, gates,
		})
	}
	a.out.Table([]view.Column{
		{
			Name:  "WAVE",
			Right: true,
		}, {Name: "PLAN"}, {Name: "WHO"}, {Name: "HOSTS", Right: true}, {Name: "WELL", Right: true}, {Name: "IS"},
		{Name: "GATES", Below: true},
	}, rows)
}

// gatesOf tells the gates of a wave that have a limit, or of which there is something to tell.
func gatesOf(p *api.RolloutPart) string {
	var out []string
	for _, g := range p.Gates {
		switch {
		case g.Name == rollout.GateRefused && g.Value == 0: // it is asked before a wave begins
		case g.Most >= 0:
			out = append(out, fmt.Sprintf("%s %d of at most %d", g.Name, g.Value, g.Most))
		case g.Value > 0:
			out = append(out, fmt.Sprintf("%s %d", g.Name, g.Value))
		}
	}
	if p.Unseen > 0 {
		out = append(out, fmt.Sprintf("unseen %d", p.Unseen))
	}
	return strings.Join(out, ", ")
}
