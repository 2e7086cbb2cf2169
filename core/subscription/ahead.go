package subscription

import (
	"slices"
	"strings"
	"time"
)

// Ending is a contract that ends soon, with what becomes of its hosts.
type Ending struct {
	Contract Contract `json:"contract"`
	Days     int      `json:"days" doc:"Whole days that are left; less than 0 when it has ended"`
	Moving   []Moving `json:"moving" doc:"Hosts that another contract would take"`
	Falling  []string `json:"falling" doc:"Hosts that would have no seat"`
}

// Moving is a host that another contract would take when its own ends.
type Moving struct {
	Host string `json:"host"`
	To   string `json:"to" doc:"The number of the other contract"`
}

// Ends lists the contracts that are good now and end within a time, the first to
// end first, and the withdrawn or ended ones in which hosts still sit. needs are
// what each host needs; a seat without a need falls away without harm.
func (b *Books) Ends(within time.Duration, needs []Need) []Ending {
	out := []Ending{}
	for i := range b.Contracts {
		c := &b.Contracts[i]
		good, _ := c.Good(b.Now)
		used := b.Used(c.Account, c.Number)
		if c.End.After(b.Now.Add(within)) && !c.Withdrawn || !good && used == 0 {
			continue
		}
		e := Ending{Contract: *c, Days: int(c.End.Sub(b.Now).Hours() / 24), Moving: []Moving{}, Falling: []string{}}
		if c.Withdrawn {
			e.Days = min(e.Days, 0)
		}
		b.afterwards(c, needs, &e)
		out = append(out, e)
	}
	slices.SortStableFunc(out, func(a, x Ending) int { return a.Contract.End.Compare(x.Contract.End) })
	return out
}

// afterwards finds who would sit where once a contract has ended.
func (b *Books) afterwards(c *Contract, needs []Need, e *Ending) {
	var others []Contract
	for _, x := range b.Contracts {
		if x.Account == c.Account && x.Number != c.Number && (x.End.After(c.End) || c.Withdrawn) {
			others = append(others, x)
		}
	}
	then := NewBooks(others, nil, b.Now)
	if !c.Withdrawn && c.End.After(b.Now) {
		then.Now = c.End
	}
	for _, s := range b.seats {
		if s.Account == c.Account && s.Contract != c.Number {
			then.add(s)
		}
	}
	for _, n := range needs {
		s := b.Seat(n.Host, n.Account)
		if s == nil || s.Account != c.Account || s.Contract != c.Number {
			continue
		}
		choice, err := then.Choose(n)
		if err != nil {
			e.Falling = append(e.Falling, n.Host)
			continue
		}
		e.Moving = append(e.Moving, Moving{n.Host, choice.Contract.Number})
		then.add(&Seat{Host: n.Host, Account: n.Account, Contract: choice.Contract.Number})
	}
}

// Twice lists hosts that several contracts cover for the same account: one of them
// is paid for nothing. A seat beside an organisation's cover that opens as much counts.
func (b *Books) Twice(needs []Need) []Double {
	out := []Double{}
	for _, n := range needs {
		s := b.Seat(n.Host, n.Account)
		if s == nil {
			continue
		}
		own := b.Contract(s.Account, s.Contract)
		if own == nil || own.Cover == CoverOrganisation {
			continue
		}
		var by []string
		for i := range b.Contracts {
			c := &b.Contracts[i]
			if c == own || c.Account != n.Account || c.Cover != CoverOrganisation {
				continue
			}
			if ok, _ := c.fits(&n, b.Now); ok {
				by = append(by, c.Number)
			}
		}
		if len(by) > 0 {
			out = append(out, Double{Host: n.Host, Account: n.Account, Contracts: append([]string{own.Number}, by...)})
		}
	}
	slices.SortFunc(out, func(a, x Double) int { return strings.Compare(a.Host+a.Account, x.Host+x.Account) })
	return out
}

// Double is a host that several contracts cover.
type Double struct {
	Host      string   `json:"host"`
	Account   string   `json:"account"`
	Contracts []string `json:"contracts" doc:"Numbers; the first is the one that could be given back"`
}
