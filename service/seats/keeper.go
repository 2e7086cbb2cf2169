// Package seats keeps what vendors sold: accounts at their desks, contracts, the seats that hosts
// take in them, and what opens licensed sources.
package seats

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/desk"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/vault"
)

// Keeper keeps the organisation's accounts at vendors' desks, its contracts, and
// the seats of hosts with their access.
type Keeper struct {
	store *store.Store
	vault *vault.Vault
	log   *slog.Logger
	now   func() time.Time
	http  *desk.Line

	mu       sync.RWMutex
	accounts map[string]*Account
	seats    map[string][]store.Seat // by host; a slice is replaced, never changed
	refused  map[[2]string]noRenewal // host, account → why the desk renews nothing
	books    *subscription.Books     // of the above; nil when it must be made anew
}

// Account is an account with what the desk told of it.
type Account struct {
	store.Account
	others []desk.Seat // seats at the desk that this service did not take
	skew   time.Duration

	calls sync.Mutex // held while seats of the account change
}

// login is what stands encrypted in the store.
type login struct {
	Login    string `json:"login"`
	Password string `json:"password"`
}

// mostSkew is how far the desk's clock may be off before that is said.
const mostSkew = 5 * time.Minute

// New loads accounts and seats from the store.
func New(ctx context.Context, st *store.Store, v *vault.Vault, log *slog.Logger, now func() time.Time) (*Keeper, error) {
	k := &Keeper{
		store:    st,
		vault:    v,
		log:      log,
		now:      now,
		http:     desk.NewHTTP(20 * time.Second),
		accounts: map[string]*Account{},
		seats:    map[string][]store.Seat{},
		refused:  map[[2]string]noRenewal{},
	}
	accounts, err := st.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range accounts {
		k.accounts[a.Name] = &Account{Account: a}
	}
	seats, err := st.Seats(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range seats {
		k.seats[s.Host] = append(k.seats[s.Host], s)
	}
	return k, nil
}

// UnknownAccount names an account that nobody has given the service.
type UnknownAccount struct{ name string }

func (e UnknownAccount) Error() string {
	return fmt.Sprintf(
		"the service has no account %q at a vendor's desk; give it one: lantern account add %s --desk URL --login NAME",
		e.name,
		e.name,
	)
}

// Account is an account by its name; an UnknownAccount where there is none.
func (k *Keeper) Account(name string) (*Account, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if a := k.accounts[name]; a != nil {
		return a, nil
	}
	return nil, UnknownAccount{name}
}

// Names are those of all accounts, in order.
func (k *Keeper) Names() []string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var out []string
	for n := range k.accounts {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// Away names the accounts whose desk does not answer, in order; never nil.
func (k *Keeper) Away() []string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	out := []string{}
	for n, a := range k.accounts {
		if !a.Since.IsZero() {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

// entry is a line of the journal about seats, of a host or of an account.
func (k *Keeper) entry(ctx context.Context, command, name string) store.Entry {
	return store.Entry{At: k.now(), Actor: journal.By(ctx).String(), Command: command, Kind: journal.KindSeats, Name: name}
}

// Take takes a seat for a host. A host that has the seat already keeps it, and
// fresh is false. number names the contract; empty: the best.
func (k *Keeper) Take(
	ctx context.Context,
	need subscription.Need,
	number, why, by string,
	automatic bool,
) (seat store.Seat, fresh bool, err error) {
	a, err := k.Account(need.Account)
	if err != nil {
		return seat, false, err
	}
	a.calls.Lock()
	defer a.calls.Unlock()
	old, has := k.Seat(need.Host, need.Account)
	if has && (number == "" || number == old.Contract) {
		b := k.Current()
		if c := b.Contract(old.Account, old.Contract); c != nil {
			if good, _ := c.Good(b.Now); good || number != "" {
				return old, false, nil
			}
		}
	}
	if number == "" {
		choice, err := k.Current().Choose(need)
		if err != nil {
			return seat, false, err
		}
		number, why = choice.Contract.Number, choice.Why
	}
	var given desk.Seat
	err = k.withDesk(ctx, a, func(d *desk.Account) (err error) {
		given, err = d.Take(ctx, number, need.Host)
		return err
	})
	if err != nil {
		return seat, false, err
	}
	seat = store.Seat{
		Seat:      subscription.Seat{Host: need.Host, Account: need.Account, Contract: number, Taken: given.Taken, By: by, Why: why},
		Automatic: automatic,
	}
	if seat.Taken.IsZero() {
		seat.Taken = k.now().UTC()
	}
	put := []store.Seat{seat}
	if has && old.Contract != number {
		old.Leaving, old.Access, old.Kind = true, nil, ""
		put = append(put, old)
	}
	k.mu.Lock()
	a.others = slices.DeleteFunc(a.others, func(s desk.Seat) bool { return s.Host == need.Host && s.Contract == number })
	delete(k.refused, [2]string{need.Host, need.Account})
	k.mu.Unlock()
	if err := k.put(ctx, "take-seat", put, nil); err != nil {
		return seat, false, err
	}
	k.log.Info("seat taken", "host", need.Host, "account", need.Account, "contract", number, "by", by, "why", why)
	if len(put) > 1 {
		k.giveBack(ctx, a, old)
	}
	return seat, true, nil
}

// Release takes a host's seat away from it at once, and gives it back to the desk
// as soon as that answers. It reports whether the desk knows.
func (k *Keeper) Release(ctx context.Context, host, account, by string) (done bool, err error) {
	a, err := k.Account(account)
	if err != nil {
		return false, err
	}
	a.calls.Lock()
	defer a.calls.Unlock()
	s, ok := k.Seat(host, account)
	if !ok {
		return false, fmt.Errorf("%s has no seat in the account %s: %w", host, account, store.ErrNotFound)
	}
	s.Leaving, s.Access, s.Kind, s.Expires = true, nil, "", time.Time{}
	if err := k.put(ctx, "release-seat", []store.Seat{s}, nil); err != nil {
		return false, err
	}
	k.log.Info("seat released", "host", host, "account", account, "contract", s.Contract, "by", by)
	return k.giveBack(ctx, a, s), nil
}

// giveBackLeft tells the desk of a seat that was leaving a while ago, unless somebody has taken it again
// meanwhile.
func (k *Keeper) giveBackLeft(ctx context.Context, a *Account, was *store.Seat) {
	a.calls.Lock()
	defer a.calls.Unlock()
	k.mu.RLock()
	is := k.find(was.Host, was.Account, was.Contract)
	k.mu.RUnlock()
	if is != nil && is.Leaving {
		k.giveBack(ctx, a, *is)
	}
}

// giveBack tells the desk of a seat that is leaving. What does not work is tried
// again later. a.calls is held.
func (k *Keeper) giveBack(ctx context.Context, a *Account, s store.Seat) bool {
	err := k.withDesk(ctx, a, func(d *desk.Account) error { return d.Release(ctx, s.Contract, s.Host) })
	if err == nil {
		err = k.put(ctx, "release-seat", nil, []store.Seat{s})
	}
	if err != nil {
		k.log.Warn("a seat could not be given back yet", "host", s.Host, "account", s.Account, "contract", s.Contract, "error", err)
	}
	return err == nil
}

// AddAccount asks the desk of a new account, or of one with a new login, and keeps it.
func (k *Keeper) AddAccount(ctx context.Context, row store.Account, name, password string) error {
	l := login{name, password}
	if _, err := k.deskOf(row.Desk, l).Book(ctx); err != nil { // nothing of it is noted unless it answers
		return err
	}
	plain, err := json.Marshal(l)
	if err != nil {
		return err
	}
	defer clear(plain)
	k.mu.RLock()
	a := k.accounts[row.Name]
	k.mu.RUnlock()
	if a == nil {
		a = &Account{Account: row}
	}
	if err := k.keepLogin(ctx, a, row, plain); err != nil {
		return err
	}
	return k.ask(ctx, a)
}

// keepLogin keeps an account with its login. What its desk told before stays, and its title where it
// gets no other.
func (k *Keeper) keepLogin(ctx context.Context, a *Account, fresh store.Account, plain []byte) error {
	a.calls.Lock()
	defer a.calls.Unlock()
	k.mu.RLock()
	row := a.Account
	k.mu.RUnlock()
	row.Title, row.Desk = cmp.Or(fresh.Title, row.Title), fresh.Desk
	return k.vault.Keep(plain, func(sealed []byte) error {
		row.Login = sealed
		c := store.Noted(k.entry(ctx, "add-account", a.Name))
		c.Then = func() {
			k.mu.Lock()
			defer k.mu.Unlock()
			a.Title, a.Desk, a.Login = row.Title, row.Desk, row.Login
			k.accounts[a.Name] = a
		}
		return k.store.PutAccount(ctx, row, c)
	})
}

// RemoveAccount forgets an account.
func (k *Keeper) RemoveAccount(ctx context.Context, name string) error {
	c := store.Noted(k.entry(ctx, "remove-account", name))
	c.Then = func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		delete(k.accounts, name)
		k.books = nil
	}
	return k.store.RemoveAccount(ctx, name, c)
}

// Rotate encrypts every secret with a new key.
func (k *Keeper) Rotate(ctx context.Context) (int, error) {
	var held []*Account
	for _, name := range k.Names() { // nobody issues anything meanwhile
		if a, err := k.Account(name); err == nil {
			a.calls.Lock()
			held = append(held, a)
		}
	}
	defer func() {
		for _, a := range held {
			a.calls.Unlock()
		}
	}()
	n := 0
	err := k.vault.Rotate(func(again func([]byte) ([]byte, error)) (err error) {
		if n, err = k.store.Reseal(
			ctx,
			again,
			store.Noted(store.Entry{At: k.now(), Actor: journal.By(ctx).String(), Command: "rotate-secrets", Kind: journal.KindSecrets}),
		); err != nil {
			return err
		}
		accounts, err := k.store.Accounts(ctx)
		if err != nil {
			return err
		}
		seats, err := k.store.Seats(ctx)
		if err != nil {
			return err
		}
		k.mu.Lock()
		defer k.mu.Unlock()
		for _, row := range accounts {
			if a := k.accounts[row.Name]; a != nil {
				a.Login = row.Login
			}
		}
		k.seats = map[string][]store.Seat{}
		for _, s := range seats {
			k.seats[s.Host] = append(k.seats[s.Host], s)
		}
		k.books = nil
		return nil
	})
	return n, err
}
