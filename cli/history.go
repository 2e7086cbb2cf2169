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
	var m meant
	cmd := &cobra.Command{
		Use: "history HOST...", Short: "Show what happened to hosts: findings, changes, and who had what done",
		Long:              "The newest first. A finding comes with the moment at which it was found, and goes when it was found no more.",
		Example:           "  lantern host history gw-01\n  lantern host history gw-01 --limit 200 --format json",
		ValidArgsFunction: a.completeEveryHost,
		RunE: func(cmd *cobra.Command, args []string) error {
			of, many := "", m.several(args)
			return every(cmd.Context(), a, &m, args, func(h string) (api.HistoryPage, error) {
				of = h
				return a.client().History(cmd.Context(), h, before, limit)
			}, func(page *api.HistoryPage) {
				if many {
					a.out.Printf("%s", a.out.Paint(view.Bold, of))
				}
				a.moments(page)
			})
		},
	}
	listing(cmd)
	m.add(a, cmd)
	cmd.Flags().Int64Var(&before, "before", 0, "only what happened before the entry of this number")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many entries, up to 500")
	return cmd
}

// moments shows a page of a host's history.
func (a *app) moments(page *api.HistoryPage) {
	if len(page.Moments) == 0 {
		a.out.Printf("Nothing is kept of this host.")
	}
	for i := range page.Moments {
		a.moment(&page.Moments[i])
	}
	if page.Next > 0 {
		a.out.Printf("%s", a.out.Paint(view.Dim, fmt.Sprintf("earlier: --before %d", page.Next)))
	}
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
