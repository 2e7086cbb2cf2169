package seats

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// find returns a seat; k.mu is held.
func (k *Keeper) find(host, account, contract string) *store.Seat {
	for i := range k.seats[host] {
		if s := &k.seats[host][i]; s.Account == account && (contract == "" || s.Contract == contract) {
			return s
		}
	}
	return nil
}

// Edition returns the books, which are never changed: others take their place.
func (k *Keeper) Edition() *subscription.Books {
	k.mu.RLock()
	b := k.books
	k.mu.RUnlock()
	if b == nil {
		k.mu.Lock()
		if k.books == nil {
			k.books = k.open()
		}
		b = k.books
		k.mu.Unlock()
	}
	return b
}

// Current returns the books as they stand now.
func (k *Keeper) Current() *subscription.Books {
	now := *k.Edition()
	now.Now = k.now()
	return &now
}

func (k *Keeper) open() *subscription.Books {
	var contracts []subscription.Contract
	var seats []subscription.Seat
	for _, a := range k.accounts {
		contracts = append(contracts, a.Contracts...)
		for _, s := range a.others {
			seats = append(
				seats,
				subscription.Seat{Host: s.Host, Account: a.Name, Contract: s.Contract, Taken: s.Taken, Holder: subscription.Elsewhere},
			)
		}
	}
	for _, list := range k.seats {
		for _, s := range list {
			x := s.Seat
			if s.Leaving { // the desk counts it, the host has it no more
				x.Holder = subscription.Leaving
			}
			seats = append(seats, x)
		}
	}
	slices.SortFunc(contracts, func(x, y subscription.Contract) int {
		return cmp.Or(cmp.Compare(x.Account, y.Account), cmp.Compare(x.Number, y.Number))
	})
	return subscription.NewBooks(contracts, seats, k.now())
}

// put stores seats by a command and puts them in place.
func (k *Keeper) put(ctx context.Context, command string, put, gone []store.Seat) error {
	var entries []store.Entry
	for _, x := range slices.Concat(put, gone) {
		e := k.entry(ctx, command, x.Host)
		e.Why = x.Why
		entries = append(entries, journal.Detailed(e, map[string]string{"account": x.Account, "contract": x.Contract}))
	}
	c := store.Noted(entries...)
	c.Then = func() { k.replace(put, gone) }
	return k.store.PutSeats(ctx, put, gone, c)
}

// replace puts seats in place that stand in the store.
func (k *Keeper) replace(put, gone []store.Seat) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, x := range put { // access alone changes nothing in the books
		if old := k.find(x.Host, x.Account, x.Contract); old == nil || old.Seat != x.Seat || old.Leaving != x.Leaving {
			k.books = nil
		}
	}
	if len(gone) > 0 {
		k.books = nil
	}
	same := func(x store.Seat) func(store.Seat) bool {
		return func(y store.Seat) bool { return x.Account == y.Account && x.Contract == y.Contract }
	}
	for _, x := range append(slices.Clone(gone), put...) {
		k.seats[x.Host] = slices.DeleteFunc(slices.Clone(k.seats[x.Host]), same(x))
	}
	for _, x := range put {
		k.seats[x.Host] = append(k.seats[x.Host], x)
		slices.SortFunc(k.seats[x.Host], func(a, b store.Seat) int {
			return cmp.Or(cmp.Compare(a.Account, b.Account), cmp.Compare(a.Contract, b.Contract))
		})
	}
	for _, x := range gone {
		if len(k.seats[x.Host]) == 0 {
			delete(k.seats, x.Host)
		}
		delete(k.refused, [2]string{x.Host, x.Account})
	}
}

// Seat returns the seat that a host has in an account.
func (k *Keeper) Seat(host, account string) (store.Seat, bool) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, s := range k.seats[host] {
		if s.Account == account && !s.Leaving {
			return s, true
		}
	}
	return store.Seat{}, false
}

// Of returns the seats of a host.
func (k *Keeper) Of(host string) []store.Seat {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.seats[host]
}

// Every returns all seats, by host.
func (k *Keeper) Every() []store.Seat {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var out []store.Seat
	for _, list := range k.seats {
		out = append(out, list...)
	}
	slices.SortFunc(out, func(a, b store.Seat) int {
		return cmp.Or(cmp.Compare(a.Host, b.Host), cmp.Compare(a.Account, b.Account), cmp.Compare(a.Contract, b.Contract))
	})
	return out
}

// Refusals says for which accounts of a host the desk renews nothing.
func (k *Keeper) Refusals(host string) map[string]string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var out map[string]string
	for key, why := range k.refused {
		if key[0] == host {
			if out == nil {
				out = map[string]string{}
			}
			out[key[1]] = why.String()
		}
	}
	return out
}

// Stamp tells the access of a host apart from what it was: also from that of a time of which nothing is known here any more,
// when its generations were counted before.
func (k *Keeper) Stamp(host string) string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var b strings.Builder
	for _, s := range k.seats[host] {
		if !s.Leaving {
			fmt.Fprintf(&b, "%s:%d.%d ", s.Account, s.Generation, s.Issued.Unix())
		}
	}
	return strings.TrimSuffix(b.String(), " ")
}

// Count notes how many seats are used, where that has changed.
func (k *Keeper) Count(ctx context.Context) error {
	b := k.Current()
	var list []store.SeatCount
	for i := range b.Contracts {
		c := &b.Contracts[i]
		list = append(
			list,
			store.SeatCount{Account: c.Account, Contract: c.Number, At: b.Now.UTC(), Used: b.Used(c.Account, c.Number), Seats: c.Seats},
		)
	}
	return k.store.PutSeatCounts(ctx, b.Now.UTC(), list)
}

// Describe describes an account; false where there is none (any more).
func (k *Keeper) Describe(name string) (out api.Account, there bool) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	a := k.accounts[name]
	if a == nil {
		return out, false
	}
	out = api.Account{Name: a.Name, Title: a.Title, Desk: a.Desk, Contracts: len(a.Contracts), Trouble: a.Trouble}
	for _, list := range k.seats {
		for _, x := range list {
			if x.Account == name {
				out.Seats++
			}
		}
	}
	if !a.Answered.IsZero() {
		at := a.Answered.UTC()
		out.Answered = &at
	}
	if !a.Since.IsZero() {
		at := a.Since.UTC()
		out.Since = &at
	}
	if out.Trouble == "" && (a.skew > mostSkew || a.skew < -mostSkew) {
		out.Trouble = fmt.Sprintf("it answers, and its clock is off by %s", a.skew.Round(time.Minute))
	}
	return out, true
}
