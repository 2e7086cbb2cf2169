// Package subscription answers questions about what vendors sold: which contract
// fits a host, whether there are seats for a group, and what happens when a
// contract ends.
package subscription

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// How a contract covers hosts.
const (
	CoverSeats        = "seats"        // one host takes one seat
	CoverOrganisation = "organisation" // every host of the organisation is covered
)

// Contract is what a vendor sold, as its desk tells it.
type Contract struct {
	Account    string    `json:"account" doc:"The account that it belongs to"`
	Number     string    `json:"number" doc:"The vendor's number" example:"GN-2026-014"`
	Title      string    `json:"title"`
	Start      time.Time `json:"start"`
	End        time.Time `json:"end" doc:"The first moment at which it is no longer good"`
	Evaluation bool      `json:"evaluation" doc:"To try things out, for a time"`
	Withdrawn  bool      `json:"withdrawn" doc:"The vendor has taken it back"`
	Cover      string    `json:"cover" enum:"seats,organisation"`
	Seats      int       `json:"seats" doc:"How many seats it has; 0 where the organisation is covered"`
	Price      int64     `json:"price" doc:"Price of a seat for a year, in hundredths of the currency"`
	Currency   string    `json:"currency" doc:"ISO 4217"`
	Support    string    `json:"support" doc:"The vendor's word for the support level"`
	Opens      []Opening `json:"opens"`
}

// Opening is something that a contract opens.
type Opening struct {
	Name     string   `json:"name" doc:"The vendor's name for what is opened"`
	Releases []string `json:"releases" doc:"Releases for which it is opened, as ID-VERSION or ID; empty: all"`
	Archs    []string `json:"architectures" doc:"The kernel's words; empty: all"`
}

// Seat is the place that one host takes in a contract.
type Seat struct {
	Host     string    `json:"host"`
	Account  string    `json:"account"`
	Contract string    `json:"contract" doc:"The vendor's number"`
	Taken    time.Time `json:"taken"`
	By       string    `json:"by" doc:"Who took it"`
	Why      string    `json:"why" doc:"Why this contract"`

	// Holder says who counts for it; a host of ours where it is empty.
	Holder Holder `json:"-"`
}

// Holder is who a taken seat counts for.
type Holder string

// Seats that are taken and that no host of ours has.
const (
	Elsewhere Holder = "elsewhere" // somebody took it at the desk itself
	Leaving   Holder = "leaving"   // a host of ours had it, and the desk has not heard yet that it is given back
)

// Need is what one host needs of one account.
type Need struct {
	Host    string
	Account string
	Numbers []string // only these contracts; empty: any of the account
	Opens   []string
	OS      string // id
	Version string
	Arch    string // the kernel's word
}

// Good reports whether a contract is good at a time, and why not.
func (c *Contract) Good(now time.Time) (bool, string) {
	switch {
	case c.Withdrawn:
		return false, "it was withdrawn"
	case now.Before(c.Start):
		return false, "it begins on " + c.Start.Format(time.DateOnly)
	case !now.Before(c.End):
		return false, "it ended on " + c.End.Format(time.DateOnly)
	}
	return true, ""
}

// fits reports whether a contract would serve a need at a time, seats aside.
func (c *Contract) fits(n *Need, now time.Time) (bool, string) {
	if ok, why := c.named(n); !ok {
		return false, why
	}
	if ok, why := c.Good(now); !ok {
		return false, why
	}
	return c.serves(n)
}

func (c *Contract) named(n *Need) (bool, string) {
	if len(n.Numbers) > 0 && !slices.Contains(n.Numbers, c.Number) {
		return false, "the policy does not name it"
	}
	return true, ""
}

// serves reports whether a contract would serve a need whenever it is good.
func (c *Contract) serves(n *Need) (bool, string) {
	if ok, why := c.named(n); !ok {
		return false, why
	}
	for _, name := range n.Opens {
		if ok, why := c.opens(name, n); !ok {
			return false, why
		}
	}
	return true, ""
}

func (c *Contract) opens(name string, n *Need) (bool, string) {
	why := "it does not open " + name
	for _, o := range c.Opens {
		if o.Name != name {
			continue
		}
		release := n.OS + "-" + n.Version
		major, _, _ := strings.Cut(n.Version, ".")
		switch {
		case len(o.Releases) > 0 &&
			!slices.ContainsFunc(o.Releases, func(r string) bool { return r == release || r == n.OS || r == n.OS+"-"+major }):
			why = fmt.Sprintf("it does not open %s for %s", name, release)
		case len(o.Archs) > 0 && !slices.Contains(o.Archs, n.Arch):
			why = fmt.Sprintf("it does not open %s for %s", name, n.Arch)
		default:
			return true, ""
		}
	}
	return false, why
}

// prefer orders contracts that fit: no evaluation where there is another, then the
// cheapest, then the one that ends last, then by number.
func prefer(a, b *Contract) int {
	evaluation := func(c *Contract) int {
		if c.Evaluation {
			return 1
		}
		return 0
	}
	return cmp.Or(
		cmp.Compare(evaluation(a), evaluation(b)),
		cmp.Compare(a.Price, b.Price),
		b.End.Compare(a.End),
		strings.Compare(a.Number, b.Number),
	)
}

// Books is what is known of contracts and seats at a time. Make them with NewBooks.
type Books struct {
	Contracts []Contract
	Now       time.Time

	seats map[[2]string]*Seat // host, account
	used  map[[2]string]int   // account, number

	leaving map[[2]string]int // account, number → seats of used that are to be given back
	at      map[[2]string]int // account, number → index into Contracts
}

// NewBooks opens books. A host has one seat in an account.
func NewBooks(contracts []Contract, seats []Seat, now time.Time) *Books {
	b := &Books{
		Contracts: contracts,
		Now:       now,
		seats:     make(map[[2]string]*Seat, len(seats)),
		used:      map[[2]string]int{},
		leaving:   map[[2]string]int{},
		at:        make(map[[2]string]int, len(contracts)),
	}
	for i := range contracts {
		if key := [2]string{contracts[i].Account, contracts[i].Number}; b.at[key] == 0 {
			b.at[key] = i + 1
		}
	}
	for i := range seats {
		b.add(&seats[i])
	}
	return b
}

func (b *Books) add(s *Seat) {
	switch s.Holder {
	case "":
		b.seats[[2]string{s.Host, s.Account}] = s
	case Leaving:
		b.leaving[[2]string{s.Account, s.Contract}]++
	}
	b.used[[2]string{s.Account, s.Contract}]++
}

// Used counts the seats that are taken in a contract.
func (b *Books) Used(account, number string) int { return b.used[[2]string{account, number}] }

// Free says how many seats a contract has left; -1 for as many as one likes. It is
// never less than -1: a contract that shrank below its seats has none.
func (b *Books) Free(c *Contract) int {
	if c.Cover == CoverOrganisation {
		return -1
	}
	return max(0, c.Seats-b.Used(c.Account, c.Number))
}

// Over says how many more seats are taken in a contract than it has.
func (b *Books) Over(c *Contract) int {
	if c.Cover == CoverOrganisation {
		return 0
	}
	return max(0, b.Used(c.Account, c.Number)-c.Seats)
}

// Contract returns a contract, or nil.
func (b *Books) Contract(account, number string) *Contract {
	if i := b.at[[2]string{account, number}]; i > 0 {
		return &b.Contracts[i-1]
	}
	return nil
}

// Seat returns the seat of a host in an account, or nil.
func (b *Books) Seat(host, account string) *Seat { return b.seats[[2]string{host, account}] }

// Choice is a contract that was chosen for a host.
type Choice struct {
	Contract *Contract
	Why      string
}

// NoContract says why no contract serves a host.
type NoContract struct {
	Need    Need
	Reasons []string // CONTRACT: why not
	Full    bool     // one would serve if it had a free seat
}

func (e *NoContract) Error() string {
	if len(e.Reasons) == 0 {
		return fmt.Sprintf("the account %s has no contract", e.Need.Account)
	}
	return fmt.Sprintf("no contract of the account %s serves %s: %s", e.Need.Account, e.Need.Host, strings.Join(e.Reasons, "; "))
}

// Choose picks the contract in which a host takes its seat: of those that open all
// that it needs and have a seat free, no evaluation if there is another, the
// cheapest, the one that ends last. A host that has a seat in one that fits keeps it.
func (b *Books) Choose(n Need) (Choice, error) {
	if s := b.Seat(n.Host, n.Account); s != nil {
		if c := b.Contract(s.Account, s.Contract); c != nil {
			if ok, _ := c.fits(&n, b.Now); ok {
				return Choice{c, "the host has this seat already"}, nil
			}
		}
	}
	var fit []*Contract
	fail := &NoContract{Need: n}
	for i := range b.Contracts {
		c := &b.Contracts[i]
		if c.Account != n.Account {
			continue
		}
		ok, why := c.fits(&n, b.Now)
		if ok && b.Free(c) == 0 {
			ok, why = false, fmt.Sprintf("all of its %s are taken", seats(c.Seats))
			fail.Full = true
		}
		if !ok {
			fail.Reasons = append(fail.Reasons, c.Number+": "+why)
			continue
		}
		fit = append(fit, c)
	}
	if len(fit) == 0 {
		slices.Sort(fail.Reasons)
		return Choice{}, fail
	}
	slices.SortFunc(fit, prefer)
	return Choice{fit[0], because(fit)}, nil
}

func seats(n int) string {
	if n == 1 {
		return "1 seat"
	}
	return fmt.Sprintf("%d seats", n)
}

// because says why the first of some contracts is preferred to the others.
func because(fit []*Contract) string {
	c := fit[0]
	if len(fit) == 1 {
		if c.Evaluation {
			return "the only one that fits, an evaluation"
		}
		return "the only one that fits"
	}
	next := fit[1]
	switch {
	case c.Evaluation != next.Evaluation:
		return fmt.Sprintf("no evaluation, as %s is", next.Number)
	case c.Price != next.Price:
		return fmt.Sprintf("cheapest of %d: %s, next %s", len(fit), Money(c.Price, c.Currency), Money(next.Price, next.Currency))
	case !c.End.Equal(next.End):
		return fmt.Sprintf("ends last of %d at this price: %s", len(fit), c.End.Format(time.DateOnly))
	}
	return fmt.Sprintf("first by number of %d alike", len(fit))
}

// Money writes hundredths of a currency.
func Money(hundredths int64, currency string) string {
	return strings.TrimSpace(fmt.Sprintf("%d.%02d %s", hundredths/100, hundredths%100, currency))
}
