package subscription

import (
	"cmp"
	"math/bits"
	"slices"
	"strings"
	"time"
)

// Forecast is how an account comes through the next year if nobody buys, renews or
// gives anything back: for how many of the hosts that need a seat there is none, and
// what it costs to renew what ends.
type Forecast struct {
	Account  string         `json:"account"`
	Pace     *int           `json:"seats_a_year" doc:"So many more seats a year are used, by the pace so far, and 0 where it fell; null while it is not known"`
	Since    *time.Time     `json:"since" doc:"The first moment of which the pace is worked out; null before any seat was counted"`
	Steps    []ForecastStep `json:"steps" doc:"Now, and after 3, 6, 9 and 12 months"`
	Renewals []Renewal      `json:"renewals" doc:"Contracts that end within the year, the first to end first"`
	Costs    []Cost         `json:"costs" doc:"What the contracts that are good now cost for a year"`
}

// ForecastStep is how an account stands at a moment.
type ForecastStep struct {
	At     time.Time `json:"at"`
	Needed int       `json:"seats_needed" doc:"Hosts that need a seat: those of now, and more by the pace"`
	Seats  int       `json:"seats" doc:"Seats of the contracts that are good then; -1 where one covers the organisation"`
	Short  int       `json:"seats_short" doc:"So many of these hosts have none however they are seated, unless something is renewed or bought"`
	Costs  []Cost    `json:"costs" doc:"What a further year of the contracts costs that end after the step before and until this one"`
}

// Renewal is a contract that ends within the year, and what a further year of it costs.
type Renewal struct {
	Contract string    `json:"contract" doc:"The vendor's number"`
	Title    string    `json:"title"`
	End      time.Time `json:"end" doc:"The first moment at which it is no longer good"`
	Step     int       `json:"ends_by" doc:"The step of the forecast by which it has ended, counted from 0, which is now"`
	Cover    string    `json:"cover" enum:"seats,organisation"`
	Seats    int       `json:"seats" doc:"How many seats it has; 0 where the organisation is covered"`
	Used     int       `json:"seats_used"`
	Cost     int64     `json:"hundredths" doc:"What a further year of it as it is costs, in hundredths of the currency; 0 where that is not known"`
	Currency string    `json:"currency" doc:"ISO 4217"`
	Unknown  string    `json:"not_known" doc:"Why the cost is not known; empty where it is"`
}

// Cost is what some contracts cost together in one currency.
type Cost struct {
	Currency string `json:"currency" doc:"ISO 4217"`
	Cost     int64  `json:"hundredths" doc:"In hundredths of the currency, for a year"`
	Unknown  int    `json:"unknown" doc:"Contracts of it whose cost is not known, and that are not in the sum"`
}

// Count is how many seats of a contract were taken from a moment on.
type Count struct {
	Contract string
	At       time.Time
	Used     int
}

// How a pace is worked out: a fleet that is brought in takes many seats at once, which
// says nothing of the year after.
const (
	settling  = 30 * 24 * time.Hour // after the first count
	leastPace = 90 * 24 * time.Hour // after that
)

// A year is looked at in steps.
const (
	forecastSteps = 4
	stepMonths    = 3
)

// Forecast looks a year ahead. needs are what the hosts need now; those of other accounts
// are left aside. counts are the seats of this account that were taken so far, the oldest first.
func (b *Books) Forecast(account string, needs []Need, counts []Count) Forecast {
	out := Forecast{Account: account, Renewals: []Renewal{}}
	var held []*Contract
	for i := range b.Contracts {
		if c := &b.Contracts[i]; c.Account == account {
			held = append(held, c)
		}
	}
	crowd := b.crowd(account, needs)
	out.Pace, out.Since = pace(counts, held, b)
	var good bill
	var ending [forecastSteps + 1]bill
	at := func(step int) time.Time { return b.Now.AddDate(0, step*stepMonths, 0) }
	for _, c := range held {
		if ok, _ := c.Good(b.Now); ok {
			good.add(c)
		}
		if c.Withdrawn || !c.End.After(b.Now) || c.End.After(at(forecastSteps)) {
			continue
		}
		step := 1
		for c.End.After(at(step)) {
			step++
		}
		ending[step].add(c)
		out.Renewals = append(out.Renewals, c.renewal(step, b.Used(account, c.Number)))
	}
	slices.SortStableFunc(out.Renewals, func(a, x Renewal) int {
		return cmp.Or(a.End.Compare(x.End), strings.Compare(a.Contract, x.Contract))
	})
	out.Costs = good.sums()
	for i := range ending {
		step := ForecastStep{At: at(i), Needed: crowd.size(), Costs: ending[i].sums()}
		if out.Pace != nil {
			step.Needed += (*out.Pace*i + forecastSteps - 1) / forecastSteps
		}
		var there []*Contract
		for _, c := range held {
			if ok, _ := c.Good(step.At); ok {
				there = append(there, c)
				step.Seats += c.Seats
			}
		}
		if slices.ContainsFunc(there, func(c *Contract) bool { return c.Cover == CoverOrganisation }) {
			step.Seats = -1
		}
		step.Short = crowd.grown(step.Needed).short(there)
		out.Steps = append(out.Steps, step)
	}
	return out
}

// Priced reports whether it is known what a seat of a contract costs.
func (c *Contract) Priced() bool { return c.Price > 0 || c.Evaluation && c.Price == 0 }

// Yearly is what a contract costs for a year, in hundredths of its currency, and why that
// is not known where it is not.
func (c *Contract) Yearly() (cost int64, unknown string) {
	switch {
	case c.Evaluation:
		return 0, "an evaluation is not renewed"
	case c.Price <= 0:
		return 0, "the desk tells no price"
	case c.Cover == CoverOrganisation:
		return 0, "the desk tells the price of a seat, and the contract counts none"
	}
	high, low := bits.Mul64(uint64(c.Price), uint64(max(0, c.Seats)))
	if high != 0 || low > mostCost {
		return 0, "the desk tells a price that cannot be"
	}
	return int64(low), ""
}

// mostCost is the highest cost that is believed: sums of many stay within 63 bits.
const mostCost = 1 << 53

func (c *Contract) renewal(step, used int) Renewal {
	cost, unknown := c.Yearly()
	return Renewal{
		Contract: c.Number, Title: c.Title, End: c.End, Step: step, Cover: c.Cover, Seats: c.Seats, Used: used,
		Cost: cost, Currency: c.Currency, Unknown: unknown,
	}
}

// bill adds up what contracts cost, by currency.
type bill map[string]*Cost

func (l *bill) add(c *Contract) {
	if *l == nil {
		*l = bill{}
	}
	of := (*l)[c.Currency]
	if of == nil {
		of = &Cost{Currency: c.Currency}
		(*l)[c.Currency] = of
	}
	cost, unknown := c.Yearly()
	of.Cost += cost
	if unknown != "" {
		of.Unknown++
	}
}

func (l bill) sums() []Cost {
	out := []Cost{}
	for _, c := range l {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Cost) int { return strings.Compare(a.Currency, b.Currency) })
	return out
}

// pace works out how many more seats of an account are used in a year.
func pace(counts []Count, held []*Contract, b *Books) (*int, *time.Time) {
	if len(counts) == 0 {
		return nil, nil
	}
	from := counts[0].At.Add(settling)
	if year := b.Now.AddDate(-1, 0, 0); from.Before(year) {
		from = year
	}
	over := b.Now.Sub(from)
	if over < leastPace {
		first := counts[0].At
		return nil, &first
	}
	then := map[string]int{} // contract → used at that time
	for _, c := range counts {
		if !c.At.After(from) {
			then[c.Contract] = c.Used
		}
	}
	more := 0
	for _, c := range held {
		more += b.Used(c.Account, c.Number)
	}
	for _, n := range then {
		more -= n
	}
	const day = 24 * time.Hour
	days := int(over / day)
	n := max(0, (more*365+days-1)/days)
	return &n, &from
}
