package subscription

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
)

// Group is hosts that take their seats together or not at all.
type Group struct {
	Name  string
	Needs []Need // of one account
}

// Plan is which seats to take for groups of hosts.
type Plan struct {
	Take  []Taking
	Short []Shortage
}

// Taking is a seat that a host is to take.
type Taking struct {
	Need     Need
	Contract string // number
	Why      string
	Replaces string // the number of the seat that it is to give back, or empty
}

// Shortage says that a group cannot have its seats, and so takes none.
type Shortage struct {
	Group   string
	Account string
	Needed  int      // seats that the group does not have yet
	Short   int      // so many of them are missing
	Hosts   []string // the hosts that would go without
	Why     string
}

// Plan works out which seats groups are to take, in their order. A group gets all
// that it needs or nothing, and whatever can be served is: hosts that have a choice
// of contracts move aside for those that have none.
func (b *Books) Plan(groups []Group) Plan {
	var out Plan
	free := map[string]int{} // number of the contract → seats left; -1: no end
	for _, g := range groups {
		p := planner{books: b, free: map[string]int{}, taken: map[string][]int{}}
		account := ""
		for _, n := range g.Needs {
			account = n.Account
			p.add(n)
		}
		for i := range b.Contracts {
			if c := &b.Contracts[i]; c.Account == account {
				p.contracts = append(p.contracts, c)
				if _, ok := free[key(c)]; !ok {
					free[key(c)] = b.Free(c)
				}
				p.free[c.Number] = free[key(c)]
			}
		}
		p.serve()
		if len(p.unserved) > 0 {
			out.Short = append(out.Short, p.shortage(g.Name, account))
			continue
		}
		taking := p.takings()
		for _, t := range taking {
			if k := account + "\x00" + t.Contract; free[k] > 0 {
				free[k]--
			}
		}
		out.Take = append(out.Take, taking...)
	}
	return out
}

func key(c *Contract) string { return c.Account + "\x00" + c.Number }

// planner plans one group.
type planner struct {
	books     *Books
	contracts []*Contract
	needs     []planned
	free      map[string]int
	taken     map[string][]int // number → needs that sit there
	unserved  []int
}

type planned struct {
	need Need
	fit  []*Contract // by preference; seats not counted
	at   *Contract
	has  bool   // a seat that fits already
	old  string // a seat that does not fit
}

func (p *planner) add(n Need) { p.needs = append(p.needs, planned{need: n}) }

// serve seats every need if it can: a need that finds all its contracts full may
// make one that sits there move on, and so forth.
func (p *planner) serve() {
	now := p.books.Now
	// Hosts that need the same share their list.
	lists := map[kind][]*Contract{}
	for i := range p.needs {
		x := &p.needs[i]
		k := x.need.kind()
		fit, ok := lists[k]
		if !ok {
			for _, c := range p.contracts {
				if good, _ := c.fits(&x.need, now); good {
					fit = append(fit, c)
				}
			}
			slices.SortFunc(fit, prefer)
			lists[k] = fit
		}
		x.fit = fit
		if s := p.books.Seat(x.need.Host, x.need.Account); s != nil {
			x.has = slices.ContainsFunc(fit, func(c *Contract) bool { return c.Number == s.Contract })
			if !x.has {
				x.old = s.Contract
			}
		}
	}
	order := make([]int, len(p.needs))
	for i := range order {
		order[i] = i
	}
	// Those with the least choice first, so that few have to move.
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(len(p.needs[a].fit), len(p.needs[b].fit)) })
	// What one need cannot have, no later one of the same list can: seats only fill.
	hopeless := map[**Contract]bool{}
	for _, i := range order {
		x := &p.needs[i]
		switch {
		case x.has:
		case len(x.fit) == 0 || hopeless[&x.fit[0]]:
			p.unserved = append(p.unserved, i)
		case !p.seat(i, map[string]bool{}, map[**Contract]bool{}):
			p.unserved = append(p.unserved, i)
			hopeless[&x.fit[0]] = true
		}
	}
}

// seat finds a place for a need; tried are contracts whose sitters were asked to move,
// asked the lists of those who looked for a place: another of the same list finds none
// either, in the whole search.
func (p *planner) seat(i int, tried map[string]bool, asked map[**Contract]bool) bool {
	x := &p.needs[i]
	asked[&x.fit[0]] = true
	for _, c := range x.fit {
		if p.free[c.Number] != 0 {
			p.sit(i, c)
			return true
		}
	}
	for _, c := range x.fit {
		if tried[c.Number] {
			continue
		}
		tried[c.Number] = true
		for _, j := range p.taken[c.Number] {
			if asked[&p.needs[j].fit[0]] {
				continue
			}
			if p.seat(j, tried, asked) {
				p.taken[c.Number] = slices.DeleteFunc(p.taken[c.Number], func(n int) bool { return n == j })
				p.taken[c.Number] = append(p.taken[c.Number], i)
				x.at = c // the seat that was made free
				return true
			}
		}
	}
	return false
}

func (p *planner) sit(i int, c *Contract) {
	if p.free[c.Number] > 0 {
		p.free[c.Number]--
	}
	p.needs[i].at = c
	p.taken[c.Number] = append(p.taken[c.Number], i)
}

func (p *planner) takings() []Taking {
	var out []Taking
	for i := range p.needs {
		x := &p.needs[i]
		if x.has {
			continue
		}
		why := because(append([]*Contract{x.at}, slices.DeleteFunc(slices.Clone(x.fit), func(c *Contract) bool { return c == x.at })...))
		if x.at != x.fit[0] {
			why = fmt.Sprintf("%s has too few free seats for the group", x.fit[0].Number)
		}
		out = append(out, Taking{Need: x.need, Contract: x.at.Number, Why: why, Replaces: x.old})
	}
	return out
}

func (p *planner) shortage(group, account string) Shortage {
	s := Shortage{Group: group, Account: account, Short: len(p.unserved)}
	for i := range p.needs {
		if !p.needs[i].has {
			s.Needed++
		}
	}
	for _, i := range p.unserved {
		s.Hosts = append(s.Hosts, p.needs[i].need.Host)
	}
	slices.Sort(s.Hosts)
	_, err := p.books.Choose(p.needs[p.unserved[0]].need)
	var none *NoContract
	switch {
	case errors.As(err, &none):
		s.Why = none.Error()
	default:
		s.Why = fmt.Sprintf("the contracts of %s have too few free seats for the whole group", account)
	}
	return s
}
