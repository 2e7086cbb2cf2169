package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/preview"
)

func (a *app) policyPreview() *cobra.Command {
	var revision int64
	var from string
	cmd := &cobra.Command{
		Use:   "preview [FOLDER]",
		Short: "Show which hosts a revision or a policy folder would change, and the exact lines",
		Args:  cobra.MaximumNArgs(1),
		Long: "Show what carrying a revision, or a policy folder that is not published, would change. Hosts\nthat would change in the " +
			"same way stand together, the largest group first. What weakens\n" +
			"security and what comes to stand above other sources is told at the top.\n\nWith --surveys no service is needed: the folder is " +
			"tried on saved surveys (lantern survey save),\nas in a pipeline that reviews a change of the policy.",
		Example: "  lantern policy preview\n  lantern policy preview --revision 3 --format json\n" +
			"  lantern policy preview ./policy\n  lantern policy preview ./policy " +
			"--surveys ./surveys",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.previewed(cmd.Context(), args, from, revision)
			if err != nil {
				return err
			}
			if done, err := a.json(p); done {
				return err
			}
			a.showPreview(p)
			return nil
		},
	}
	cmd.Flags().Int64Var(&revision, "revision", 0, "the revision; 0 for the newest")
	cmd.Flags().StringVar(&from, "surveys", "", "folder of saved surveys to try the folder on, instead of the fleet")
	return cmd
}

// first tells what people should look at before all else.
func (a *app) first(p api.Preview) {
	for _, x := range []struct {
		sign  string
		style view.Style
		of    func(g *api.PreviewGroup) []string
	}{
		{"!! weakens security:", view.Red, func(g *api.PreviewGroup) []string { return g.Weakens }},
		{"! order:", view.Yellow, func(g *api.PreviewGroup) []string { return g.Overrides }},
	} {
		hosts := map[string][]string{}
		var order []string
		for i := range p.Groups {
			for _, w := range x.of(&p.Groups[i]) {
				if hosts[w] == nil {
					order = append(order, w)
				}
				hosts[w] = append(hosts[w], p.Groups[i].Hosts...)
			}
		}
		for _, w := range order {
			slices.Sort(hosts[w])
			a.out.Printf(
				"%s %s, on %s: %s",
				a.out.Paint(x.style, x.sign),
				w,
				view.Count(len(hosts[w]), "host", "hosts"),
				someNames(hosts[w], 8),
			)
		}
	}
}

// wavesAhead tells in which waves a change would be carried.
func (a *app) wavesAhead(p api.Preview) {
	if len(p.Waves) == 0 {
		return
	}
	waves, hosts, lines := 0, 0, []string{}
	for i := range p.Waves {
		hosts += p.Waves[i].Hosts
		waves = max(waves, p.Waves[i].Wave)
		lines = append(lines, fmt.Sprintf("(%d) %s", p.Waves[i].Wave, whoIn(&p.Waves[i])))
	}
	more := ""
	if p.Revision != 0 {
		more = "; host by host: lantern rollout plan"
	}
	const shown = 6
	if len(lines) > shown {
		lines = append(lines[:shown], "…")
	}
	a.out.Printf(
		"It would be carried in %s: %s%s",
		view.Count(waves, "wave", "waves"),
		strings.Join(lines, ", "),
		a.out.Paint(view.Dim, more),
	)
	if kept := hosts - p.Changing; kept > 0 {
		a.out.Printf("  %s nothing to change", view.Count(kept, "of these has", "of these have"))
	}
}

func (a *app) showPreview(p api.Preview) {
	total := p.Changing + p.Steady + p.Unmanaged + len(p.Unknown)
	what := fmt.Sprintf("Revision %d", p.Revision)
	if p.Revision == 0 {
		what = "The folder"
	}
	switch {
	case p.Changing == 0:
		a.out.Printf("%s would change %s.", what, a.out.Paint(view.Green, "nothing"))
	default:
		a.out.Printf(
			"%s would change %s of %d, in %s.",
			what,
			a.out.Paint(view.Bold, view.Count(p.Changing, "host", "hosts")),
			total,
			view.Count(len(p.Groups), "way", "ways"),
		)
	}
	if p.Steady > 0 {
		a.out.Printf("%s all of it already.", view.Count(p.Steady, "host has", "hosts have"))
	}
	if p.Drifted > 0 {
		a.out.Printf("%s drifted, with findings that it leaves as they are: lantern drift",
			a.out.Paint(view.Yellow, "! "+view.Count(p.Drifted, "of those has", "of those have")))
	}
	if p.Unmanaged > 0 {
		a.out.Printf("%s of a family that cannot be changed yet.", view.Count(p.Unmanaged, "host is", "hosts are"))
	}
	if len(p.Unknown) > 0 {
		a.out.Printf("%s sent no survey yet: %s", a.unsure(len(p.Unknown)), someNames(p.Unknown, 8))
	}
	if len(p.Unsure) > 0 {
		a.out.Printf(
			"%s not said yet whether what a repository needs is there, and will be asked: %s",
			a.unsure(len(p.Unsure)),
			someNames(p.Unsure, 8),
		)
	}
	a.silent(a.out, p.Silent, p.Quiet...)
	a.first(p)
	for _, g := range p.Gone {
		a.out.Printf("%s %s", a.out.Paint(view.Yellow, "! a source goes:"), g.Says)
	}
	a.swaps(&p)
	a.wavesAhead(p)
	a.seatsAhead(p.Seats)
	for _, g := range p.Groups {
		a.out.Printf("\n%s %s", a.out.Paint(view.Bold, view.Count(len(g.Hosts), "host:", "hosts:")), someNames(g.Hosts, 8))
		for _, f := range g.Files {
			a.out.Printf("  %-6s %s  %s", f.Action, a.out.Paint(view.Cyan, f.Path), a.out.Paint(view.Dim, strings.Join(f.Why, "; ")))
		}
		for _, s := range g.Impossible {
			a.out.Printf("  %s %s", a.out.Paint(view.Red, "!! cannot be done:"), s)
		}
		if g.Diff != "" {
			a.out.Printf("")
			a.out.Diff(2, view.FoldKeys(g.Diff))
		}
	}
}

// showRefused tells which places of packages are refused; whom says for how many hosts.
func (a *app) showRefused(indent, whom string, list []api.RefusedPlace) {
	for _, r := range list {
		a.out.Printf("%s%s %s, for %s: %s; %s", indent, a.out.Paint(view.Red, "!! refused upstream:"), r.Address,
			fmt.Sprintf(whom, view.Count(r.Hosts, "host", "hosts")), r.Says, r.Remedy)
	}
}

// swaps tells what is refused upstream, and which installed packages a change would decide otherwise.
func (a *app) swaps(p *api.Preview) {
	const most = 15
	marks := map[string]string{
		preview.Lower: a.out.Paint(
			view.Red,
			"!! a package goes down:",
		), preview.Stranded: a.out.Paint(view.Yellow, "! a package is left behind:"),
		preview.Replaced: a.out.Paint(view.Yellow, "! a package is swapped:"),
	}
	a.showRefused("", "%s of those that change", p.Refused)
	for _, x := range p.Swaps[:min(len(p.Swaps), most)] {
		a.out.Printf("%s %s", marks[x.What], x.Says)
	}
	if more := len(p.Swaps) - most; more > 0 {
		a.out.Printf("  and %d more such lines; --format json shows all", more)
	}
	for _, u := range p.Unforeseen {
		a.out.Printf("%s which packages would be swapped is not known: %s", a.unsureOf(u.Hosts), u.Why)
	}
}

// seatsAhead says which seats a rollout would take, and which it cannot.
func (a *app) seatsAhead(s api.SeatsAhead) {
	for _, x := range s.Short {
		a.out.Printf(
			"%s %s needs %s, %d of them missing, so a rollout would not begin; without: %s",
			a.out.Paint(view.Red, "✗ seats"),
			x.Group,
			view.Count(x.Needed, "seat", "seats"),
			x.Short,
			someNames(x.Hosts, 8),
		)
		a.out.Printf("%s", a.out.Wrap(4, x.Why))
	}
	if len(s.ByHand) > 0 {
		a.out.Printf(
			"%s %s a seat that nobody has taken, so a rollout would not begin: lantern seat take %s",
			a.out.Paint(view.Red, "✗ seats"),
			view.Count(len(s.ByHand), "host needs", "hosts need"),
			someNames(s.ByHand, 8),
		)
	}
	by := map[string][]string{}
	var order []string
	for _, t := range s.Taking {
		if by[t.Contract] == nil {
			order = append(order, t.Contract)
		}
		by[t.Contract] = append(by[t.Contract], t.Host)
	}
	for _, n := range order {
		a.out.Printf("%s would be taken in %s: %s", view.Count(len(by[n]), "seat", "seats"), n, someNames(by[n], 8))
	}
}

// someNames writes the first names of a list, without what all have in common.
func someNames(list []string, most int) string {
	return someOf(list[:min(len(list), most)], len(list))
}

// someOf names some of many hosts, and says how many there are beside.
func someOf(some []string, all int) string {
	var names []string
	for _, n := range some {
		names = append(names, short(n))
	}
	out := strings.Join(names, " ")
	if all > len(some) {
		out += fmt.Sprintf(" and %d more", all-len(some))
	}
	return out
}

// unsure begins a line about hosts of which something is not known.
func (a *app) unsure(n int) string {
	return a.out.Paint(view.Yellow, "? ") + view.Count(n, "host has", "hosts have")
}

// silent says of how many hosts, and some of their names, what is told is what they said before they fell silent.
func (a *app) silent(out *view.Out, n int, some ...string) {
	if n == 0 {
		return
	}
	who := out.Paint(view.Yellow, "? "+view.Count(n, "host is", "hosts are")+" silent")
	if len(some) > 0 {
		who += " (" + someOf(some, n) + ")"
	}
	out.Printf("%s: what is told of them is what they said last.", who)
}

func (a *app) unsureOf(n int) string {
	return a.out.Paint(view.Yellow, "? ") + "of " + view.Count(n, "host", "hosts")
}
