package subscription

import (
	"slices"
	"strings"
	"time"
)

// Ending is a contract that ends soon, with what becomes of its hosts.
type Ending struct {
	Contract Contract `json:"held"`
	Days     int      `json:"days" doc:"Whole days that are left; less than 0 when it has ended"`
	Moving   []Moving `json:"moving" doc:"Hosts that another contract would take"`
	Falling  []string `json:"falling" doc:"Hosts that would have no seat"`
}

// Moving is a host that another contract would take when its own ends.
type Moving struct {
	Host string `json:"host"`
	To   string `json:"moves_to" doc:"The number of the other contract"`
}

// Ends lists the contracts that are good now and end within a time, the first to
// end first, and the withdrawn or ended ones in which hosts still sit. needs are
// what each host needs; a seat without a need falls away without harm.
func (b *Books) Ends(within time.Duration, needs []Need) []Ending {
	sitting := map[[2]string][]*Need{} // account, number → needs of the hosts that sit there
	for i := range needs {
		n := &needs[i]
		if s := b.Seat(n.Host, n.Account); s != nil {
			at := [2]string{s.Account, s.Contract}
			sitting[at] = append(sitting[at], n)
		}
	}
	kinds := b.kinds()
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
		b.afterwards(c, sitting[[2]string{c.Account, c.Number}], kinds, &e)
		out = append(out, e)
	}
	slices.SortStableFunc(out, func(a, x Ending) int { return a.Contract.End.Compare(x.Contract.End) })
	return out
}

// kinds tells which contracts would serve a need, whenever they are good and have seats
// free, the best first. Needs that are alike are looked at once.
func (b *Books) kinds() func(*Need) []*Contract {
	byAccount := map[string][]*Contract{}
	for i := range b.Contracts {
		c := &b.Contracts[i]
		byAccount[c.Account] = append(byAccount[c.Account], c)
	}
	for _, list := range byAccount {
		slices.SortStableFunc(list, prefer)
	}
	known := map[kind][]*Contract{}
	return func(n *Need) []*Contract {
		kind := n.kind()
		fit, ok := known[kind]
		if !ok {
			for _, c := range byAccount[n.Account] {
				if ok, _ := c.serves(n); ok {
					fit = append(fit, c)
				}
			}
			known[kind] = fit
		}
		return fit
	}
}

// kind is equal for needs that differ in the host alone.
type kind struct{ account, os, version, arch, numbers, opens string }

func (n *Need) kind() kind {
	return kind{n.Account, n.OS, n.Version, n.Arch, strings.Join(n.Numbers, "\x00"), strings.Join(n.Opens, "\x00")}
}

// afterwards finds who would sit where once a contract has ended. sitting are the needs
// of the hosts that sit in it.
func (b *Books) afterwards(c *Contract, sitting []*Need, kinds func(*Need) []*Contract, e *Ending) {
	now := b.Now
	if !c.Withdrawn && c.End.After(b.Now) {
		now = c.End
	}
	moved := map[*Contract]int{}
	from := map[kind]int{} // kind → the first contract of its list that may have a seat
	for _, n := range sitting {
		fit, kind := kinds(n), n.kind()
		i := from[kind]
		for ; i < len(fit); i++ {
			x := fit[i]
			if x.Number == c.Number || !x.End.After(c.End) && !c.Withdrawn {
				continue
			}
			if good, _ := x.Good(now); good && (x.Cover == CoverOrganisation || b.Free(x) > moved[x]) {
				break
			}
		}
		from[kind] = i
		if i == len(fit) {
			e.Falling = append(e.Falling, n.Host)
			continue
		}
		moved[fit[i]]++
		e.Moving = append(e.Moving, Moving{n.Host, fit[i].Number})
	}
}

// Twice lists hosts that several contracts cover for the same account: one of them
// is paid for nothing. A seat beside an organisation's cover that opens as much counts.
func (b *Books) Twice(needs []Need) []Double {
	out := []Double{}
	wide := map[string][]*Contract{} // account → its contracts that cover the organisation
	for i := range b.Contracts {
		if c := &b.Contracts[i]; c.Cover == CoverOrganisation {
			wide[c.Account] = append(wide[c.Account], c)
		}
	}
	for i := range needs {
		n := &needs[i]
		s := b.Seat(n.Host, n.Account)
		if s == nil {
			continue
		}
		own := b.Contract(s.Account, s.Contract)
		if own == nil || own.Cover == CoverOrganisation {
			continue
		}
		var by []string
		for _, c := range wide[n.Account] {
			if ok, _ := c.fits(n, b.Now); ok {
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
	Contracts []string `json:"paid_by" doc:"Numbers; the first is the one that could be given back"`
}
