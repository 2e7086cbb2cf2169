package subscription

import (
	"cmp"
	"slices"
)

// crowd is hosts that need seats of one account, counted by what they need.
type crowd struct {
	needs  []*Need // one for each kind
	counts []int
	others map[string]int // number of the contract → seats of it that none of these hosts has
}

// crowd counts the hosts that need seats of an account; a host has one need of it.
func (b *Books) crowd(account string, needs []Need) *crowd {
	out := crowd{others: map[string]int{}}
	at := map[kind]int{}
	for i := range b.Contracts {
		if c := &b.Contracts[i]; c.Account == account {
			out.others[c.Number] = b.Used(account, c.Number) - b.leaving[[2]string{account, c.Number}]
		}
	}
	for i := range needs {
		n := &needs[i]
		if n.Account != account {
			continue
		}
		key := n.kind()
		k, known := at[key]
		if !known {
			k = len(out.needs)
			at[key] = k
			out.needs, out.counts = append(out.needs, n), append(out.counts, 0)
		}
		out.counts[k]++
		if s := b.Seat(n.Host, account); s != nil {
			out.others[s.Contract]--
		}
	}
	return &out
}

func (w *crowd) size() int {
	n := 0
	for _, c := range w.counts {
		n += c
	}
	return n
}

// grown is a crowd of so many hosts that need the same in the same shares.
func (w *crowd) grown(size int) *crowd {
	now := w.size()
	if size <= now || now == 0 {
		return w
	}
	out := *w
	out.counts = make([]int, len(w.counts))
	order := make([]int, len(w.counts))
	left := size
	for k, n := range w.counts {
		out.counts[k] = n * size / now
		left -= out.counts[k]
		order[k] = k
	}
	// What is left by rounding goes to those that lost most by it.
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(w.counts[b]*size%now, w.counts[a]*size%now) })
	for _, k := range order[:left] {
		out.counts[k]++
	}
	return &out
}

// short counts the hosts for which there is no seat in some contracts, however all are
// seated: a greatest flow from kinds of needs to contracts.
func (w *crowd) short(there []*Contract) int {
	f := seating{crowd: w, free: make([]int, len(there)), sits: make([][]int, len(w.needs)), fits: make([][]int, len(w.needs))}
	for i, c := range there {
		f.free[i] = max(0, c.Seats-w.others[c.Number])
	}
	out := 0
	for k, n := range w.needs {
		f.sits[k] = make([]int, len(there))
		covered := false
		for i, c := range there {
			if ok, _ := c.serves(n); ok {
				f.fits[k] = append(f.fits[k], i)
				covered = covered || c.Cover == CoverOrganisation
			}
		}
		if covered {
			f.fits[k] = nil
			continue
		}
		left := w.counts[k]
		for left > 0 {
			n := f.push(k, left)
			if n == 0 {
				break
			}
			left -= n
		}
		out += left
	}
	return out
}

// seating is who sits where while a crowd is seated.
type seating struct {
	*crowd
	fits [][]int // kind → contracts that serve it
	sits [][]int // kind, contract → hosts
	free []int   // contract → seats left
}

// push seats up to so many hosts of a kind along one way, on which others move on, and
// returns how many; 0 where there is no way.
func (f *seating) push(k, most int) int {
	type step struct{ kind, contract, before int } // who goes to a contract, and the step whose hosts then find room
	var way []step
	seen := make([]bool, len(f.free))
	reach := func(kind, before int) {
		for _, c := range f.fits[kind] {
			if !seen[c] {
				seen[c] = true
				way = append(way, step{kind, c, before})
			}
		}
	}
	reach(k, -1)
	for at := 0; at < len(way); at++ {
		if free := f.free[way[at].contract]; free > 0 {
			n := min(most, free)
			for i := at; way[i].before >= 0; i = way[i].before {
				n = min(n, f.sits[way[i].kind][way[way[i].before].contract])
			}
			f.free[way[at].contract] -= n
			for i := at; i >= 0; i = way[i].before {
				f.sits[way[i].kind][way[i].contract] += n
				if b := way[i].before; b >= 0 {
					f.sits[way[i].kind][way[b].contract] -= n
				}
			}
			return n
		}
		for kind := range f.sits {
			if f.sits[kind] != nil && f.sits[kind][way[at].contract] > 0 {
				reach(kind, at)
			}
		}
	}
	return 0
}
