package cli

import (
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

func (a *app) day() *cobra.Command {
	cmd := &cobra.Command{
		Use: "day", Short: "How the fleet stood, day by day", GroupID: "fleet",
		Example: "  lantern day list\n  lantern day list --days 14 --format csv",
	}
	lists(cmd, a.dayList())
	return cmd
}

func (a *app) dayList() *cobra.Command {
	var l listFlags
	var days int
	cmd := &cobra.Command{
		Use: "list", Short: "List the days: hosts that drifted, findings that came and were closed, and how soon", Args: cobra.NoArgs,
		Long: "List how the fleet stood on each day, as it was counted last that day (UTC), the newest first. A finding is closed when the\n" +
			"host is right again; one that was waived or accepted is not. WITHIN is the time in which half of the closed ones were gone.\n" +
			"A day on which the service did not run is one of which nothing is known.",
		Example: "  lantern day list\n  lantern day list --days 14 --format csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Days(cmd.Context(), days, client.List{Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]view.Cell
			for i := range page.Days {
				rows = append(rows, dayCells(&page.Days[i]))
			}
			a.out.Table([]view.Column{
				{Name: "DAY"}, {Name: "HOSTS", Right: true, Less: 2}, {Name: "DRIFTED", Right: true}, {Name: "FAILED", Right: true, Less: 1},
				{Name: "NOT KNOWN", Right: true}, {Name: "FOUND", Right: true, Less: 3}, {Name: "CLOSED", Right: true}, {Name: "WITHIN", Right: true},
			}, rows)
			l.more(a, len(page.Days), page.Total)
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().IntVar(&days, "days", 84, "how many days back")
	return cmd
}

func dayCells(d *api.Day) []view.Cell {
	if d.Standing == nil {
		none := view.Cell{Text: "?", Style: view.Dim}
		return []view.Cell{view.T(d.Day), none, none, none, {Text: "? nobody counted", Style: view.Yellow}, none, none, none}
	}
	number := func(n int, style view.Style) view.Cell {
		if n == 0 {
			style = view.Dim
		}
		return view.Cell{Text: strconv.Itoa(n), Style: style}
	}
	within := view.T("–")
	if d.Within != nil {
		within = view.T(view.Span(time.Duration(*d.Within) * time.Second))
	}
	s := d.Standing
	return []view.Cell{
		view.T(d.Day), number(s.Hosts, view.Plain), number(s.Drifted, view.Yellow), number(s.Failed, view.Red),
		number(s.Silent+s.NoSurvey+s.NoRevision+s.Changing, view.Yellow), number(d.Arisen, view.Plain), number(d.Closed, view.Plain), within,
	}
}
