package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
)

func (a *app) hostLabel() *cobra.Command {
	var m meant
	var dry bool
	cmd := &cobra.Command{
		Use:               "label HOST... [KEY=VALUE | KEY-]...",
		Short:             "Give hosts labels, or take them away",
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.completeEveryHost,
		Example: "  lantern host label gw-01 site=north duty=relay\n  lantern host label gw-01 duty-\n" +
			"  lantern host label gw-{01..04} site=north --dry-run\n  lantern host label --where 'cpu.level >= 4' kind=quick",
		RunE: func(cmd *cobra.Command, args []string) error {
			at := slices.IndexFunc(args, func(s string) bool { return strings.Contains(s, "=") || strings.HasSuffix(s, "-") })
			if at < 0 {
				return wrong("say which labels: KEY=VALUE gives one, KEY- takes it away")
			}
			for _, s := range args[at:] {
				if !strings.Contains(s, "=") && !strings.HasSuffix(s, "-") {
					return wrong("%q is neither KEY=VALUE nor KEY-; hosts come first", s)
				}
			}
			return a.label(cmd.Context(), &m, args[:at], args[at:], dry)
		},
	}
	m.add(a, cmd)
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only say what would come of it")
	return cmd
}

// label gives labels and takes others away, or only says what would come of it.
func (a *app) label(ctx context.Context, m *meant, hosts, words []string, dry bool) error {
	o := api.LabelOrder{To: slices.Concat(apart(hosts), m.groups), Where: m.where, Set: map[string]string{}, Try: dry}
	for _, s := range words {
		if k, v, ok := strings.Cut(s, "="); ok {
			o.Set[k] = v
		} else {
			o.Unset = append(o.Unset, strings.TrimSuffix(s, "-"))
		}
	}
	l, err := a.client().LabelHosts(ctx, o)
	if err != nil {
		return err
	}
	if done, err := a.json(l); done {
		return err
	}
	says := [...]string{view.Count(l.Relabelled, "host has", "hosts have"), "come", "leave", "says"}
	if dry {
		says = [...]string{view.Count(l.Relabelled, "host", "hosts") + " would have", "would come", "would leave", "would say"}
	}
	if l.Unknown > 0 {
		who := view.Count(l.Unknown, "host has", "hosts have")
		a.out.Printf("%s %s sent no survey: what comes of it there is not known.", a.out.Paint(view.Yellow, "?"), who)
	}
	if l.Relabelled == 0 {
		a.out.Printf("%s so already; nothing changes.", view.Count(l.Kept, "host is", "hosts are"))
		return nil
	}
	already := ""
	if l.Kept > 0 {
		already = "; " + view.Count(l.Kept, "host is", "hosts are") + " so already"
	}
	a.out.Printf("%s other labels: %s%s", says[0], someOf(l.Names, l.Relabelled), already)
	for _, g := range l.Moves {
		if g.Come > 0 {
			a.out.Printf("  + %d %s into the group %s", g.Come, says[1], g.Group)
		}
		if g.Leave > 0 {
			a.out.Printf("  - %d %s the group %s", g.Leave, says[2], g.Group)
		}
	}
	if l.Changing > 0 {
		a.out.Printf("The newest revision %s something else of %s by it; nothing is carried there before a rollout begins.",
			says[3], view.Count(l.Changing, "host", "hosts"))
	}
	if l.Revision == 0 {
		mark := a.out.Paint(view.Yellow, "?")
		a.out.Printf("%s nothing is published: which groups they come into, and what a policy says of them, is not known.", mark)
	}
	return nil
}
