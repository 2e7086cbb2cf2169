package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

func (a *app) audit() *cobra.Command {
	cmd := &cobra.Command{
		Use: "audit", Short: "What people did, and what became of rollouts, in a chain that shows changes", GroupID: "run",
		Example: "  lantern audit list\n  lantern audit verify",
	}
	lists(cmd, a.auditList())
	cmd.AddCommand(a.auditVerify())
	return cmd
}

func (a *app) auditList() *cobra.Command {
	var by, what, name string
	var kind []string
	var before int64
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "Show what people did, and what became of rollouts", Args: cobra.NoArgs,
		Long: "The newest first. Entries are never changed and never taken out: each one's hash follows from the one before, and\n" +
			"lantern audit verify checks them all.",
		Example: "  lantern audit list\n  lantern audit list --by mira --what publish-policy\n" +
			"  lantern audit list --kind rollout --name 4",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Audit(cmd.Context(), client.List{PerPage: limit, Filter: map[string][]string{
				"by": {by}, "what": {what}, "kind": kind, "name": {name}, "before": {number64(before)},
			}})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if len(page.Entries) == 0 {
				a.out.Printf("There is no such entry.")
			}
			a.auditEntries(page.Entries)
			if page.Next > 0 {
				a.out.Printf("%s", a.out.Paint(view.Dim, fmt.Sprintf("earlier: --before %d", page.Next)))
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&by, "by", "", "only what this operator or host did; service for what the service decided")
	cmd.Flags().StringVar(&what, "what", "", "only this command, such as begin-rollout")
	choose(cmd, &kind, "kind", false, "only what was done to things of this kind: "+strings.Join(api.AuditKinds, ", "), api.AuditKinds...)
	cmd.Flags().StringVar(&name, "name", "", "only what was done to the one of this name or number")
	cmd.Flags().Int64Var(&before, "before", 0, "only entries before the one of this number")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many entries, up to 500")
	listing(cmd)
	return cmd
}

// number64 is a number as a filter; empty for none.
func number64(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

func (a *app) auditEntries(list []api.AuditEntry) {
	var rows [][]view.Cell
	for _, e := range list {
		why := e.Why
		switch {
		case why == "":
			why = e.Says
		case e.Says != "":
			why += " (" + e.Says + ")"
		}
		rows = append(rows, []view.Cell{
			{Text: fmt.Sprint(e.Number), Style: view.Dim}, view.T(e.At.Local().Format("2006-01-02 15:04:05")),
			view.T(strings.TrimPrefix(e.By, "operator:")), {Text: e.What, Style: view.Bold}, view.T(strings.TrimSpace(e.Kind + " " + e.Name)),
			{Text: why, Style: view.Dim},
		})
	}
	if len(rows) > 0 {
		a.out.Table([]view.Column{
			{Name: "ENTRY", Right: true}, {Name: "WHEN"}, {Name: "BY"}, {Name: "WHAT"}, {Name: "TO"}, {Name: "WHY", Below: true},
		}, rows)
	}
}

func (a *app) auditVerify() *cobra.Command {
	var noted string
	cmd := &cobra.Command{
		Use: "verify", Short: "Check that no entry was changed or taken out", Args: cobra.NoArgs,
		Long: "It prints the head of the chain: note it where the service cannot reach, and give it with --noted the next time. Only so\n" +
			"is it seen that the newest entries were cut off, or that everything was written anew.",
		Example: "  lantern audit verify\n  lantern audit verify --noted 3f1c…",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client().AuditChain(cmd.Context(), noted)
			if err != nil {
				return err
			}
			if done, err := a.json(c); done {
				if err == nil && !c.Whole {
					err = &exit{ExitNo, ""}
				}
				return err
			}
			switch {
			case c.Broken != 0:
				return no("the chain is broken at entry %d: it, or one before it, is not as it was written", c.Broken)
			case c.Met != nil && !*c.Met:
				return no("the head that was noted is not in the chain: entries were cut off, or all were written anew")
			case c.Entries == 0:
				a.out.Printf("There is no entry yet.")
				return nil
			}
			a.out.Printf(
				"%s %s, the newest of %s.",
				a.out.Paint(view.Green, "The chain is whole:"),
				view.Count(c.Entries, "entry", "entries"),
				c.At.Local().Format("2006-01-02 15:04:05"),
			)
			if noted == "" {
				a.out.Printf("Whether the newest were cut off is not known without a head that was noted before.")
			}
			a.out.Printf("head %s", c.Head)
			return nil
		},
	}
	cmd.Flags().StringVar(&noted, "noted", "", "a head that was noted before")
	return cmd
}
