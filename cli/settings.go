package cli

import (
	"cmp"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

func (a *app) setting() *cobra.Command {
	cmd := &cobra.Command{
		Use: "setting", Short: "What the service runs with", GroupID: "run",
		Example: "  lantern setting list\n  lantern setting list --format json",
	}
	lists(cmd, a.settingList())
	return cmd
}

func (a *app) settingList() *cobra.Command {
	var l listFlags
	cmd := &cobra.Command{
		Use: "list", Short: "List what the service runs with, and what each setting means", Args: cobra.NoArgs,
		Long: "List the settings of the service that answers: the options of lantern serve by their names, what they are set to, and what\n" +
			"that means. One that switches something off says what is not looked at because of it.",
		Example: "  lantern setting list\n  lantern setting list --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Settings(cmd.Context(), client.List{Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]view.Cell
			for _, s := range page.Settings {
				rows = append(rows, []view.Cell{view.T("--" + s.Name), view.T(cmp.Or(s.Value, "–")), view.T(s.Says)})
			}
			a.out.Table([]view.Column{{Name: "SETTING"}, {Name: "VALUE"}, {Name: "MEANS"}}, rows)
			l.more(a, len(page.Settings), page.Total)
			return nil
		},
	}
	l.add(cmd)
	return cmd
}
