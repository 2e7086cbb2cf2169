package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/store"
)

// find returns a seat; k.mu is held.
func (k *keeper) find(host, account, contract string) *store.Seat {
	for i := range k.seats[host] {
		if s := &k.seats[host][i]; s.Account == account && (contract == "" || s.Contract == contract) {
			return s
		}
	}
	return nil
}

// edition returns the books, which are never changed: others take their place.
func (k *keeper) edition() *subscription.Books {
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

// current returns the books as they stand now.
func (k *keeper) current() *subscription.Books {
	now := *k.edition()
	now.Now = k.now()
	return &now
}

func (k *keeper) open() *subscription.Books {
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
func (k *keeper) put(ctx context.Context, command string, put, gone []store.Seat) error {
	var entries []store.Entry
	for _, x := range slices.Concat(put, gone) {
		e := k.entry(ctx, command, x.Host)
		e.Why = x.Why
		entries = append(entries, detailed(e, map[string]string{"account": x.Account, "contract": x.Contract}))
	}
	c := store.Noted(entries...)
	c.Then = func() { k.replace(put, gone) }
	return k.store.PutSeats(ctx, put, gone, c)
}

// replace puts seats in place that stand in the store.
func (k *keeper) replace(put, gone []store.Seat) {
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

// seat returns the seat that a host has in an account.
func (k *keeper) seat(host, account string) (store.Seat, bool) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, s := range k.seats[host] {
		if s.Account == account && !s.Leaving {
			return s, true
		}
	}
	return store.Seat{}, false
}

// of returns the seats of a host.
func (k *keeper) of(host string) []store.Seat {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.seats[host]
}

// every returns all seats, by host.
func (k *keeper) every() []store.Seat {
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

// refusals says for which accounts of a host the desk renews nothing.
func (k *keeper) refusals(host string) map[string]string {
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

// stamp tells the access of a host apart from what it was.
func (k *keeper) stamp(host string) string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var b strings.Builder
	for _, s := range k.seats[host] {
		if !s.Leaving {
			fmt.Fprintf(&b, "%s:%d ", s.Account, s.Generation)
		}
	}
	return strings.TrimSuffix(b.String(), " ")
}

// count notes how many seats are used, where that has changed.
func (k *keeper) count(ctx context.Context) error {
	b := k.current()
	var list []store.SeatCount
	for i := range b.Contracts {
		c := &b.Contracts[i]
		list = append(
			list,
			store.SeatCount{Account: c.Account, Contract: c.Number, At: b.Now.UTC(), Used: b.Used(c.Account, c.Number), Seats: c.Seats},
		)
	}
	return k.store.PutSeatCounts(ctx, list)
}
