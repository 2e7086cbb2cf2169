package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

// dateKinds are the kinds of what falls due.
var dateKinds = []string{api.DueContract, api.DueKey, api.DueWaiver, api.DueReview, api.DueFreeze, api.DueCertificate}

func (a *app) date() *cobra.Command {
	cmd := &cobra.Command{
		Use: "date", Short: "What falls due: contracts, keys, waivers, reviews, freezes, the service's certificate", GroupID: "contracts",
		Example: "  lantern date list\n  lantern date list --kind contract,key\n  lantern date list --format ics > lantern.ics",
	}
	lists(cmd, a.dateList())
	return cmd
}

func (a *app) dateList() *cobra.Command {
	var l listFlags
	var kinds []string
	cmd := &cobra.Command{
		Use: "list", Short: "List what falls due, the next first", Args: cobra.NoArgs, Annotations: map[string]string{moreFormats: "ics"},
		Long: "List what falls due: contracts and signing keys that end, waivers and freezes that run out, decisions that are looked at\n" +
			"again, the certificate of the service. --format ics prints all of it as a calendar (iCalendar, RFC 5545); the same is at\n" +
			"/api/calendar.",
		Example: "  lantern date list\n  lantern date list --kind contract,key\n  lantern date list --format ics > lantern.ics",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if a.format == "ics" {
				text, err := a.client().Calendar(cmd.Context())
				if err == nil {
					_, err = a.out.JSON().Write(text)
				}
				return err
			}
			page, err := a.client().Dates(cmd.Context(),
				client.List{Filter: map[string][]string{"kind": kinds}, Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if page.Total == 0 {
				a.out.Printf("Nothing falls due of what is known.")
			}
			for _, said := range page.Unknown() {
				a.out.Printf("%s", said)
			}
			if page.Total == 0 {
				return nil
			}
			var rows [][]view.Cell
			for _, d := range page.Dates {
				left := view.Cell{Text: view.Span(time.Until(d.Due))}
				if time.Until(d.Due) < 30*24*time.Hour {
					left.Style = view.Yellow
				}
				rows = append(rows, []view.Cell{view.T(local(d.Due)), left, view.T(d.Kind), view.T(d.Says), {Text: d.Detail, Style: view.Dim}})
			}
			a.out.Table([]view.Column{
				{Name: "DUE"}, {Name: "IN", Less: 1}, {Name: "KIND", Less: 2}, {Name: "WHAT", Gives: true}, {Name: "AND THEN", Less: 3, Gives: true},
			}, rows)
			l.more(a, len(page.Dates), page.Total)
			return nil
		},
	}
	l.add(cmd)
	choose(cmd, &kinds, "kind", true, "only these kinds: "+fmt.Sprint(dateKinds), dateKinds...)
	return cmd
}
