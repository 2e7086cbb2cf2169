package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

func (a *app) group() *cobra.Command {
	cmd := &cobra.Command{
		Use: "group", Short: "The groups of the policy, and which hosts are in them", GroupID: "fleet",
		Example: "  lantern group list\n  lantern host list --group gateways",
	}
	lists(cmd, a.groupList())
	return cmd
}

func (a *app) groupList() *cobra.Command {
	var l listFlags
	var q string
	cmd := &cobra.Command{
		Use: "list", Short: "List the groups of the newest revision: how their hosts stand, where each is defined", Args: cobra.NoArgs,
		Example: "  lantern group list\n  lantern group list --match gate --format csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Groups(cmd.Context(), client.List{Query: q, Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if page.Revision == 0 {
				a.out.Printf("Nothing is published yet, so there are no groups: lantern policy publish FOLDER")
				return nil
			}
			if page.Total == 0 {
				a.none(q != "", "group", "The policy has no groups.")
				return nil
			}
			var rows [][]view.Cell
			for _, g := range page.Groups {
				names := make([]string, len(g.Names))
				for i, n := range g.Names {
					names[i] = short(n)
				}
				some := strings.Join(names, ", ")
				if more := g.Hosts - len(names); more > 0 {
					some += fmt.Sprintf(" and %d more", more)
				}
				rows = append(rows, []view.Cell{
					{Text: g.Name, Style: view.Bold}, view.T(fmt.Sprint(g.Hosts)), view.T(fmt.Sprint(g.Standing.Steady)),
					noticed(g.Drifted), noticed(g.Standing.NotKnown()), view.T(some), {Text: g.Place.String(), Style: view.Dim},
				})
			}
			a.out.Table([]view.Column{
				{Name: "GROUP"}, {Name: "HOSTS", Right: true}, {Name: "STEADY", Right: true}, {Name: "DRIFTED", Right: true},
				{Name: "NOT KNOWN", Right: true}, {Name: "FIRST", Gives: true}, {Name: "DEFINED", Path: true, Gives: true},
			}, rows)
			if page.Unknown > 0 {
				a.out.Printf("%sof %s it is not known in which groups they are: they have sent no survey",
					a.out.Paint(view.Yellow, "? "), view.Count(page.Unknown, "host", "hosts"))
			}
			l.more(a, len(page.Groups), page.Total)
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().StringVar(&q, "match", "", "part of the name")
	return cmd
}

// noticed is a count that somebody is to notice, unless it is none.
func noticed(n int) view.Cell {
	c := view.T(fmt.Sprint(n))
	if n > 0 {
		c.Style = view.Yellow
	}
	return c
}
