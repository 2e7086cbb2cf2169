package cli

import (
	"fmt"
	"strings"
	"time"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/subscription"
)

// showForecast shows the year ahead of each account, and what is not known of it: unknown hosts
// may need a seat too.
func (a *app) showForecast(list []subscription.Forecast, unknown int) {
	if len(list) == 0 {
		return
	}
	nobody := view.Cell{Text: "=", Style: view.Green}
	if unknown > 0 {
		nobody = view.Cell{Text: "?", Style: view.Yellow}
	}
	var rows [][]view.Cell
	for _, f := range list {
		for i, s := range f.Steps {
			name, at := "", day(s.At)
			if i == 0 {
				name, at = f.Account, "now"
			}
			short := nobody
			if s.Short > 0 {
				short = view.Cell{Text: fmt.Sprintf("✗ %d", s.Short), Style: view.Red}
			}
			seats := fmt.Sprint(s.Seats)
			if s.Seats < 0 {
				seats = "no limit"
			}
			rows = append(rows, []view.Cell{
				view.T(name), view.T(at), view.T(fmt.Sprint(s.Needed)), view.T(seats), short,
				view.T(strings.Join(endingBy(f, i), ", ")), view.T(costs(s.Costs)),
			})
		}
	}
	a.out.Printf("")
	a.out.Printf("The year ahead if nothing is renewed, bought or given back:")
	a.out.Table([]view.Column{
		{Name: "ACCOUNT"}, {Name: "AT"}, {Name: "NEED A SEAT", Right: true, Less: 2}, {Name: "SEATS", Right: true, Less: 1},
		{Name: "SHORT", Right: true}, {Name: "ENDS UNTIL THEN", Gives: true}, {Name: "A FURTHER YEAR", Right: true},
	}, rows)
	for _, f := range list {
		said := "no contract is good now"
		if len(f.Costs) > 0 {
			said = "a year of what is good now: " + costs(f.Costs)
		}
		a.out.Printf("%s: %s; %s", f.Account, said, grows(f))
	}
}

// endingBy names the contracts that have ended by a step, and not by the one before.
func endingBy(f subscription.Forecast, step int) (out []string) {
	for _, r := range f.Renewals {
		if r.Step != step {
			continue
		}
		used := fmt.Sprintf("%d of %d used", r.Used, r.Seats)
		if r.Cover == subscription.CoverOrganisation {
			used = fmt.Sprintf("%d used", r.Used)
		}
		out = append(out, r.Contract+" ("+used+")")
	}
	return out
}

// costs says sums, and of how many contracts the cost is not known.
func costs(list []subscription.Cost) string {
	var out []string
	unknown := 0
	for _, c := range list {
		if c.Cost > 0 {
			out = append(out, subscription.Money(c.Cost, c.Currency))
		}
		unknown += c.Unknown
	}
	if unknown > 0 {
		out = append(out, view.Count(unknown, "contract", "contracts")+" not known")
	}
	return strings.Join(out, " + ")
}

// grows says by how many seats a year an account grows, if that is known.
func grows(f subscription.Forecast) string {
	switch {
	case f.Since == nil:
		return "how its seats grow is not known: none was counted yet"
	case f.Pace == nil:
		return fmt.Sprintf("how its seats grow is not known yet: they are counted since %s, and 120 days are needed", day(*f.Since))
	case *f.Pace == 0:
		return fmt.Sprintf("no more seats than on %s", day(*f.Since))
	}
	return fmt.Sprintf("%s more a year, by the pace since %s", view.Count(*f.Pace, "seat", "seats"), day(*f.Since))
}

func forecastRows(list []subscription.Forecast) (head []string, rows [][]string) {
	head = []string{"account", "at", "seats_needed", "seats", "seats_short", "cost", "currency", "cost_not_known"}
	for _, f := range list {
		for _, s := range f.Steps {
			of := []string{f.Account, s.At.UTC().Format(time.DateOnly), fmt.Sprint(s.Needed), fmt.Sprint(s.Seats), fmt.Sprint(s.Short)}
			for _, c := range s.Costs {
				rows = append(rows, append(of[:5:5], subscription.Money(c.Cost, ""), c.Currency, fmt.Sprint(c.Unknown)))
			}
			if len(s.Costs) == 0 {
				rows = append(rows, append(of[:5:5], "", "", ""))
			}
		}
	}
	return head, rows
}

func renewalRows(list []subscription.Forecast) (head []string, rows [][]string) {
	head = []string{"account", "contract", "title", "end", "cover", "seats", "seats_used", "cost", "currency", "not_known"}
	for _, f := range list {
		for _, r := range f.Renewals {
			cost := ""
			if r.Unknown == "" {
				cost = subscription.Money(r.Cost, "")
			}
			rows = append(rows, []string{
				f.Account, r.Contract, r.Title, r.End.UTC().Format(time.DateOnly), r.Cover,
				fmt.Sprint(r.Seats), fmt.Sprint(r.Used), cost, r.Currency, r.Unknown,
			})
		}
	}
	return head, rows
}
