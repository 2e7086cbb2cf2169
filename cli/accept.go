package cli

import (
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
)

// base says against what the host is held where the policy says nothing.
func (a *app) base(d *api.HostDetail) {
	switch {
	case d.Base == nil:
		a.out.Printf("%s %s", a.out.Paint(view.Dim, "base  "),
			a.out.Paint(view.Yellow, "none yet: its keys, settings, pins and holds are not held against anything"))
	case d.Base.By != "":
		a.out.Printf(
			"%s as it stood %s, accepted by %s: %s",
			a.out.Paint(view.Dim, "base  "),
			view.Ago(time.Since(d.Base.At)),
			d.Base.By,
			d.Base.Why,
		)
	default:
		a.out.Printf("%s as it stood %s, when the policy came", a.out.Paint(view.Dim, "base  "), view.Ago(time.Since(d.Base.At)))
	}
}

func (a *app) hostAccept() *cobra.Command {
	var because string
	var yes bool
	var m meant
	cmd := &cobra.Command{
		Use: "accept HOST... --because WHY", Short: "Accept hosts as they stand, where the policy says nothing",
		Long: "Keys, settings, pins, holds, services and the distribution's own entries are held against what they were when the\n" +
			"policy was first carried to the host. accept makes what stands there now the measure. What the policy does say stays a\n" +
			"finding, and so does every check that is taken away: those are closed by the policy, by healing, or on the host.",
		Example: "  lantern host accept gw-01 --because \"the metrics team's key, ticket 4711\"\n" +
			"  lantern host accept gw-{01..04} --because \"release upgrade\" --yes --format json",
		ValidArgsFunction: a.completeEveryHost,
		RunE: func(cmd *cobra.Command, args []string) error {
			if because == "" {
				return wrong("say why with --because; it is kept beside your name")
			}
			shown := false
			err := every(cmd.Context(), a, &m, args, func(h string) (api.Accepted, error) {
				d, err := a.client().Host(cmd.Context(), h)
				if err != nil {
					return api.Accepted{}, err
				}
				done, err := a.client().Accept(cmd.Context(), d.Name, api.AcceptOrder{Because: because, Document: d.Document, Try: !yes})
				shown = shown || !yes && len(done.Accepted) > 0
				return done, err
			}, func(done *api.Accepted) { a.accepted(done, yes) })
			switch {
			case err != nil || !shown:
				return err
			case a.format == "table":
				return no("nothing was accepted yet: look at the findings, then say --yes")
			}
			return &exit{ExitNo, ""}
		},
	}
	m.add(a, cmd)
	cmd.Flags().StringVar(&because, "because", "", "why it is right as it stands")
	cmd.Flags().BoolVar(&yes, "yes", false, "accept; without it the findings are only shown")
	return cmd
}

// accepted shows what was accepted, or would be, and what stays a finding.
func (a *app) accepted(done *api.Accepted, yes bool) {
	head := "Would be accepted on " + done.Host
	if yes {
		head = "Accepted on " + done.Host
	}
	if len(done.Accepted) == 0 {
		a.out.Printf("Nothing to accept on %s: no finding is about what the policy says nothing of.", done.Host)
	} else {
		a.out.Printf("%s", a.out.Paint(view.Bold, head))
	}
	for _, f := range done.Accepted {
		a.finding(f, false)
	}
	if len(done.Left) > 0 {
		a.out.Printf("\n%s", a.out.Paint(view.Bold, "Stays a finding: the policy says otherwise, or a check is taken away"))
	}
	for _, f := range done.Left {
		a.finding(f, false)
	}
}
