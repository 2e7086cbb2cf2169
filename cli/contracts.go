package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/subscription"
)

var contractLook = map[string]struct {
	sign  string
	style view.Style
}{
	"good":      {"=", view.Green},
	"ending":    {"!", view.Yellow},
	"over":      {"✗", view.Red},
	"ended":     {"✗", view.Red},
	"withdrawn": {"✗", view.Red},
	"to-come":   {"·", view.Plain},
}

func (a *app) contract() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "contract",
		Short:   "Contracts: what they open, seats used and free, what ends",
		GroupID: "contracts",
		Example: "  lantern contract list\n  lantern contract outlook",
	}
	lists(cmd, a.contractList())
	cmd.AddCommand(a.contractOutlook())
	return cmd
}

func (a *app) contractList() *cobra.Command {
	var l listFlags
	var q, account string
	var states []string
	cmd := &cobra.Command{
		Use: "list", Short: "List contracts and how they stand", Args: cobra.NoArgs, Annotations: map[string]string{moreFormats: "csv"},
		Example: "  lantern contract list\n  lantern contract list --state ending,over\n  lantern contract list --format csv > contracts.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().
				Contracts(
					cmd.Context(),
					client.List{
						Query:   q,
						Filter:  map[string][]string{"account": {account}, "state": states},
						Sort:    l.sort(),
						Page:    l.page,
						PerPage: l.perPage,
					},
				)
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			var cells [][]view.Cell
			for _, c := range page.Contracts {
				var opens []string
				for _, o := range c.Opens {
					opens = append(opens, o.Name)
				}
				rows = append(
					rows,
					[]string{
						c.Account,
						c.Number,
						c.Title,
						c.State,
						day(c.Start),
						day(c.End),
						fmt.Sprint(c.Evaluation),
						c.Cover,
						fmt.Sprint(c.Seats),
						fmt.Sprint(c.Used),
						fmt.Sprint(c.Free),
						fmt.Sprint(c.Over),
						price(c.Contract, "", ""),
						c.Currency,
						strings.Join(opens, " "),
					},
				)
				look := contractLook[c.State]
				seats := fmt.Sprintf("%d of %d", c.Used, c.Seats)
				if c.Cover == subscription.CoverOrganisation {
					seats = fmt.Sprintf("%d, no limit", c.Used)
				}
				state := look.sign + " " + c.State
				if c.Evaluation {
					state += ", evaluation"
				}
				if c.Over > 0 {
					state += fmt.Sprintf(", %d too many", c.Over)
				}
				cells = append(
					cells,
					[]view.Cell{
						view.T(c.Number),
						{Text: state, Style: look.style},
						view.T(seats),
						view.T(ends(c.End)),
						view.T(price(c.Contract, c.Currency, "not told")),
						view.T(strings.Join(opens, ", ")),
						view.T(c.Title),
					},
				)
			}
			if done, err := a.csv(
				[]string{
					"account",
					"number",
					"title",
					"state",
					"start",
					"end",
					"evaluation",
					"cover",
					"seats",
					"used",
					"free",
					"over",
					"price",
					"currency",
					"opens",
				},
				rows,
			); done {
				return err
			}
			if len(cells) == 0 {
				a.none(q+account+strings.Join(states, "") != "", "contract", "No contract. `lantern account list` shows whether the vendors' desks answer.")
				return nil
			}
			a.out.Table(
				[]view.Column{
					{Name: "CONTRACT"},
					{Name: "STATE"},
					{Name: "SEATS"},
					{Name: "ENDS"},
					{Name: "A SEAT", Less: 2},
					{Name: "OPENS", Gives: true, Less: 1},
					{Name: "TITLE", Gives: true, Less: 3},
				},
				cells,
			)
			l.more(a, len(page.Contracts), page.Total)
			return nil
		},
	}
	l.add(cmd, turned("account", "end", "used")...)
	cmd.Flags().StringVar(&q, "match", "", "part of the number or the title")
	cmd.Flags().StringVar(&account, "account", "", "only contracts of this account")
	choose(
		cmd,
		&states,
		"state",
		true,
		"only in these states: good, ending, over, ended, withdrawn, to-come",
		"good",
		"ending",
		"over",
		"ended",
		"withdrawn",
		"to-come",
	)
	return cmd
}

func ends(t time.Time) string {
	n := int(time.Until(t).Hours() / 24)
	switch {
	case time.Until(t) <= 0:
		return day(t) + ", over"
	case n < 100:
		return fmt.Sprintf("%s, %s", day(t), view.Count(n, "day", "days"))
	}
	return day(t)
}

// price is what a seat costs for a year, or what is said where the desk tells none.
func price(c subscription.Contract, currency, untold string) string {
	if !c.Priced() {
		return untold
	}
	return subscription.Money(c.Price, currency)
}

// none says that a list is empty: of what was picked, or at all, and what to do then.
func (a *app) none(picked bool, what, all string) {
	if picked {
		a.out.Printf("No %s of that kind.", what)
		return
	}
	a.out.Printf("%s", all)
}
