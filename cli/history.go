package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
)

func (a *app) hostHistory() *cobra.Command {
	var before int64
	var limit int
	cmd := &cobra.Command{
		Use: "history HOST", Short: "Show what happened to a host: findings, changes, and who had what done", Args: cobra.ExactArgs(1),
		Long:              "The newest first. A finding comes with the moment at which it was found, and goes when it was found no more.",
		Example:           "  lantern host history gw-01\n  lantern host history gw-01 --limit 200 --format json",
		ValidArgsFunction: a.completeHosts,
		RunE: func(cmd *cobra.Command, args []string) error {
			page, err := a.client().History(cmd.Context(), args[0], before, limit)
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if len(page.Moments) == 0 {
				a.out.Printf("Nothing is kept of this host.")
			}
			for i := range page.Moments {
				a.moment(&page.Moments[i])
			}
			if page.Next > 0 {
				a.out.Printf("%s", a.out.Paint(view.Dim, fmt.Sprintf("earlier: --before %d", page.Next)))
			}
			return nil
		},
	}
	listing(cmd)
	cmd.Flags().Int64Var(&before, "before", 0, "only what happened before the entry of this number")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many entries, up to 500")
	return cmd
}

// moment shows one of a host's moments on a line, and each finding that came on one.
func (a *app) moment(m *api.Moment) {
	var said []string
	if m.Revision > 0 {
		said = append(said, fmt.Sprintf("revision %d was carried", m.Revision))
	}
	if m.Went > 0 {
		said = append(said, view.Count(m.Went, "finding went", "findings went"))
	}
	if m.Why != "" {
		said = append(said, m.Why)
	}
	by := strings.TrimPrefix(m.By, "operator:")
	if strings.HasPrefix(m.By, "host:") {
		by = "the host"
	}
	a.out.Printf(
		"%s  %-12s %s  %s",
		m.At.Local().Format("2006-01-02 15:04:05"),
		m.What,
		a.out.Paint(view.Dim, "by "+by),
		strings.Join(said, "; "),
	)
	for _, c := range m.Came {
		look := severityLook[c.Severity]
		a.out.Printf(
			"   %s  %s  %s",
			a.out.Paint(look.style, fmt.Sprintf("%s %-6s", look.sign, c.Severity)),
			a.out.Paint(view.Cyan, c.File),
			c.Class,
		)
	}
}
