package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/wire"
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
						subscription.Money(c.Price, ""),
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
						view.T(subscription.Money(c.Price, c.Currency)),
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

// outlookParts are the tables of the outlook, each of which can be had as CSV.
var outlookParts = []string{"ending", "usage", "twice", "silent", "idle"}

func (a *app) contractOutlook() *cobra.Command {
	var part string
	cmd := &cobra.Command{
		Use:         "outlook",
		Short:       "What is coming: contracts that end, hosts that fall out, seats paid for nothing",
		Args:        cobra.NoArgs,
		Annotations: map[string]string{moreFormats: "csv"},
		Long: "What the buyer of contracts wants to know: contracts that end within 90 days and the hosts\nthat would fall out; hosts " +
			"that several contracts cover; seats of silent hosts, and of hosts\nthat need none; seats used, each time that it " +
			"changed.\n\nWith --format csv one part is printed: " + strings.Join(
			outlookParts,
			", ",
		) + ".",
		Example: "  lantern contract outlook\n  lantern contract outlook --format csv --part usage",
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := a.client().Outlook(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(o); done {
				return err
			}
			if a.format == "csv" {
				return a.outlookCSV(o, part)
			}
			a.showOutlook(o)
			return nil
		},
	}
	cmd.Flags().StringVar(&part, "part", "ending", "with --format csv: which part")
	return cmd
}

func (a *app) outlookCSV(o api.Outlook, part string) error {
	var rows [][]string
	var head []string
	seats := func(list []api.SilentSeat) {
		head = []string{"host", "account", "contract", "last_seen"}
		for _, s := range list {
			seen := ""
			if s.LastSeen != nil {
				seen = s.LastSeen.UTC().Format(wire.Moment)
			}
			rows = append(rows, []string{s.Host, s.Account, s.Contract, seen})
		}
	}
	switch part {
	case "ending":
		head = []string{"account", "contract", "end", "days", "host", "moves_to"}
		for _, e := range o.Ending {
			of := []string{e.Contract.Account, e.Contract.Number, day(e.Contract.End), fmt.Sprint(e.Days)}
			for _, m := range e.Moving {
				rows = append(rows, append(of[:4:4], m.Host, m.To))
			}
			for _, h := range e.Falling {
				rows = append(rows, append(of[:4:4], h, ""))
			}
			if len(e.Moving)+len(e.Falling) == 0 {
				rows = append(rows, append(of[:4:4], "", ""))
			}
		}
	case "usage":
		head = []string{"from", "account", "contract", "used", "seats"}
		for _, u := range o.Usage {
			rows = append(rows, []string{u.At.UTC().Format(wire.Moment), u.Account, u.Contract, fmt.Sprint(u.Used), fmt.Sprint(u.Seats)})
		}
	case "twice":
		head = []string{"host", "account", "contracts"}
		for _, d := range o.Twice {
			rows = append(rows, []string{d.Host, d.Account, strings.Join(d.Contracts, " ")})
		}
	case "silent":
		seats(o.Silent)
	case "idle":
		seats(o.Idle)
	default:
		return wrong("--part is %q; it must be one of %s", part, strings.Join(outlookParts, ", "))
	}
	_, err := a.csv(head, rows)
	return err
}

func (a *app) showOutlook(o api.Outlook) {
	quiet := true
	for _, e := range o.Ending {
		quiet = false
		what := fmt.Sprintf("ends on %s, in %s", day(e.Contract.End), view.Count(e.Days, "day", "days"))
		style := view.Yellow
		switch {
		case e.Contract.Withdrawn:
			what, style = "was withdrawn", view.Red
		case e.Days < 0 || time.Until(e.Contract.End) <= 0:
			what, style = "ended on "+day(e.Contract.End), view.Red
		}
		if e.Contract.Evaluation {
			what = "is an evaluation and " + what
		}
		a.out.Printf("%s %s", a.out.Paint(style, "! "+e.Contract.Number), what)
		for _, m := range e.Moving {
			a.out.Printf("    %s  another contract takes it: %s", m.Host, m.To)
		}
		for _, h := range e.Falling {
			a.out.Printf("    %s  %s", h, a.out.Paint(view.Red, "would have no seat"))
		}
		if len(e.Moving)+len(e.Falling) == 0 {
			a.out.Printf("    no host sits in it")
		}
	}
	for _, x := range o.Twice {
		quiet = false
		a.out.Printf(
			"%s %s is covered by %s: the first could be given back",
			a.out.Paint(view.Yellow, "! twice"),
			x.Host,
			strings.Join(x.Contracts, " and "),
		)
	}
	for _, x := range o.Silent {
		quiet = false
		seen := "never"
		if x.LastSeen != nil {
			seen = view.Ago(time.Since(*x.LastSeen))
		}
		a.out.Printf("%s %s has a seat in %s and was last seen %s", a.out.Paint(view.Yellow, "? silent"), x.Host, x.Contract, seen)
	}
	for _, x := range o.Idle {
		quiet = false
		a.out.Printf(
			"%s %s has a seat in %s that its sheet does not need: lantern seat release %s",
			a.out.Paint(view.Yellow, "- idle"),
			x.Host,
			x.Contract,
			shortName(x.Host),
		)
	}
	if quiet {
		a.out.Printf("%s", a.out.Paint(view.Green, "Nothing ends within 90 days, and no seat is paid for nothing."))
	}
	latest := map[string]api.SeatUsage{}
	var order []string
	first := map[string]time.Time{}
	for _, u := range o.Usage {
		if _, ok := latest[u.Contract]; !ok {
			order = append(order, u.Contract)
			first[u.Contract] = u.At
		}
		latest[u.Contract] = u
	}
	var rows [][]view.Cell
	for _, n := range order {
		u := latest[n]
		of := "no limit"
		if u.Seats > 0 {
			of = fmt.Sprint(u.Seats)
		}
		rows = append(rows, []view.Cell{view.T(n), view.T(fmt.Sprint(u.Used)), view.T(of), view.T(day(first[n]))})
	}
	if len(rows) > 0 {
		a.out.Printf("")
		a.out.Table(
			[]view.Column{{Name: "CONTRACT"}, {Name: "USED", Right: true}, {Name: "SEATS", Right: true}, {Name: "COUNTED SINCE"}},
			rows,
		)
	}
}

// none says that a list is empty: of what was picked, or at all, and what to do then.
func (a *app) none(picked bool, what, all string) {
	if picked {
		a.out.Printf("No %s of that kind.", what)
		return
	}
	a.out.Printf("%s", all)
}
