package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/wire"
)

// outlookParts are the tables of the outlook, each of which can be had as CSV.
var outlookParts = []string{"ending", "forecast", "renewals", "usage", "twice", "silent", "idle"}

func (a *app) contractOutlook() *cobra.Command {
	var part string
	cmd := &cobra.Command{
		Use:         "outlook",
		Short:       "What is coming: contracts that end, hosts that fall out, the year's seats and cost",
		Args:        cobra.NoArgs,
		Annotations: map[string]string{moreFormats: "csv"},
		Long: "What the buyer of contracts wants to know: contracts that end within 90 days and the hosts\nthat would fall out; hosts " +
			"that several contracts cover; seats of silent hosts, and of hosts\nthat need none; the year ahead of each account, if nothing " +
			"is renewed or bought: for how many\nhosts that need a seat there is none, what ends until then, and what a further year of\n" +
			"that costs; seats used, each time that it changed.\n\nWith --format csv one part is printed: " +
			strings.Join(outlookParts, ", ") + ".",
		Example: "  lantern contract outlook\n  lantern contract outlook --format csv --part usage\n" +
			"  lantern contract outlook --format csv --part renewals > renewals.csv",
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
	case "forecast":
		head, rows = forecastRows(o.Forecast)
	case "renewals":
		head, rows = renewalRows(o.Forecast)
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
	for _, e := range o.Ending {
		a.showEnding(e)
	}
	for _, x := range o.Twice {
		a.out.Printf(
			"%s %s is covered by %s: the first could be given back",
			a.out.Paint(view.Yellow, "! twice"),
			x.Host,
			strings.Join(x.Contracts, " and "),
		)
	}
	for _, x := range o.Silent {
		seen := "never"
		if x.LastSeen != nil {
			seen = view.Ago(time.Since(*x.LastSeen))
		}
		a.out.Printf("%s %s has a seat in %s and was last seen %s", a.out.Paint(view.Yellow, "? silent"), x.Host, x.Contract, seen)
	}
	for _, x := range o.Idle {
		a.out.Printf(
			"%s %s has a seat in %s that its sheet does not need: lantern seat release %s",
			a.out.Paint(view.Yellow, "- idle"),
			x.Host,
			x.Contract,
			shortName(x.Host),
		)
	}
	doubts := o.Doubts()
	for _, said := range doubts {
		a.out.Printf("%s %s", a.out.Paint(view.Yellow, "?"), said)
	}
	if len(o.Ending)+len(o.Twice)+len(o.Silent)+len(o.Idle) == 0 {
		switch {
		case len(doubts) == 0:
			a.out.Printf("%s", a.out.Paint(view.Green, "Nothing ends within 90 days, and no seat is paid for nothing."))
		case o.Accounts > 0:
			a.out.Printf("Of what is known nothing ends within 90 days, and no seat is paid for nothing.")
		}
	}
	a.showForecast(o.Forecast, o.Unknown)
	a.showUsage(o.Usage)
}

func (a *app) showEnding(e subscription.Ending) {
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

func (a *app) showUsage(usage []api.SeatUsage) {
	type contract struct{ account, number string }
	latest := map[contract]api.SeatUsage{}
	first := map[contract]time.Time{}
	var order []contract
	for _, u := range usage {
		n := contract{u.Account, u.Contract}
		if _, ok := latest[n]; !ok {
			order = append(order, n)
			first[n] = u.At
		}
		latest[n] = u
	}
	var rows [][]view.Cell
	for _, n := range order {
		u := latest[n]
		of := "no limit"
		if u.Seats > 0 {
			of = fmt.Sprint(u.Seats)
		}
		rows = append(rows, []view.Cell{view.T(n.number), view.T(fmt.Sprint(u.Used)), view.T(of), view.T(day(first[n]))})
	}
	if len(rows) > 0 {
		a.out.Printf("")
		a.out.Table(
			[]view.Column{{Name: "CONTRACT"}, {Name: "USED", Right: true}, {Name: "SEATS", Right: true}, {Name: "COUNTED SINCE"}},
			rows,
		)
	}
}
