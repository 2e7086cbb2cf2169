package seats

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"time"

	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/desk"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// withDesk calls a desk; the organisation's login is in memory for as long as that
// takes. The outcome is noted with the account.
func (k *Keeper) withDesk(ctx context.Context, a *Account, call func(*desk.Account) error) error {
	d, err := k.desk(a)
	if err != nil {
		return err
	}
	err = call(d)
	if ctx.Err() == nil {
		k.noteOutcome(ctx, a, err)
	}
	return err
}

// desk is an account's desk with the organisation's login.
func (k *Keeper) desk(a *Account) (*desk.Account, error) {
	k.mu.RLock()
	url, sealed := a.Desk, a.Login
	k.mu.RUnlock()
	plain, err := k.vault.Open(sealed)
	if err != nil {
		return nil, fmt.Errorf("the login of the account %s: %w", a.Name, err)
	}
	var l login
	err = json.Unmarshal(plain, &l)
	clear(plain)
	if err != nil {
		return nil, fmt.Errorf("the login of the account %s is damaged", a.Name)
	}
	return k.deskOf(url, l), nil
}

func (k *Keeper) deskOf(url string, l login) *desk.Account {
	return &desk.Account{URL: url, Login: l.Login, Password: l.Password, HTTP: k.http}
}

// noteOutcome notes since when a desk does not answer.
func (k *Keeper) noteOutcome(ctx context.Context, a *Account, err error) {
	trouble := ""
	var no *desk.Refusal
	switch {
	case errors.As(err, &no) && !no.LoginRefused(): // it answers
	case err != nil:
		trouble = err.Error()
	}
	k.mu.Lock()
	now := k.now()
	changed := a.Trouble != trouble
	if trouble == "" {
		a.Answered = now
		a.Since = time.Time{}
	} else if a.Trouble == "" {
		a.Since = now
	}
	a.Trouble = trouble
	row := a.Account
	k.mu.Unlock()
	if !changed {
		return
	}
	if trouble != "" {
		k.log.Warn("a vendor's desk does not answer", "account", a.Name, "why", trouble)
	} else {
		k.log.Info("a vendor's desk answers again", "account", a.Name)
	}
	if err := k.store.NoteAccount(ctx, row, store.Noted(k.entry(ctx, journal.CommandSeats, a.Name))); err != nil {
		k.log.Error("noting how a desk answers", "account", a.Name, "error", err)
	}
}

// ask brings what the desk tells of an account up to date.
func (k *Keeper) ask(ctx context.Context, a *Account) error {
	var book desk.Book
	err := k.withDesk(ctx, a, func(d *desk.Account) (err error) {
		book, err = d.Book(ctx)
		return err
	})
	if err != nil {
		return err
	}
	row, changed := k.takeBook(a, &book)
	c := store.Change{}
	if changed {
		c = store.Noted(k.entry(ctx, journal.CommandSeats, a.Name))
	}
	return k.store.NoteAccount(ctx, row, c)
}

// takeBook notes what a desk told of an account. It returns the account's row, and whether
// anything stands otherwise than before.
func (k *Keeper) takeBook(a *Account, book *desk.Book) (row store.Account, changed bool) {
	for i := range book.Contracts {
		book.Contracts[i].Account = a.Name
	}
	slices.SortFunc(book.Contracts, func(x, y subscription.Contract) int { return cmp.Compare(x.Number, y.Number) })
	k.mu.Lock()
	defer k.mu.Unlock()
	contracts, others := a.Contracts, a.others
	a.Contracts, a.Answered = book.Contracts, k.now()
	a.skew = book.Time.Sub(k.now())
	if a.skew > mostSkew || a.skew < -mostSkew {
		k.log.Warn("a desk's clock differs from this machine's", "account", a.Name, "by", a.skew.Round(time.Second))
	}
	a.others = nil
	there := map[[2]string]bool{}
	for _, s := range book.Seats {
		there[[2]string{s.Host, s.Contract}] = true
		if k.find(s.Host, a.Name, s.Contract) == nil {
			a.others = append(a.others, s)
		}
	}
	for host, list := range k.seats {
		for _, s := range list {
			if s.Account != a.Name || s.Leaving {
				continue
			}
			key := [2]string{host, a.Name}
			if back := (noRenewal{takenBack: s.Contract}); !there[[2]string{host, s.Contract}] {
				k.refused[key] = back
			} else if k.refused[key] == back {
				delete(k.refused, key)
			}
		}
	}
	k.books = nil
	return a.Account, !reflect.DeepEqual(contracts, a.Contracts) || !reflect.DeepEqual(others, a.others)
}

// noRenewal is why a desk renews nothing for a host.
type noRenewal struct {
	takenBack string // the contract in which the desk has taken the seat back
	said      string // else, what the desk said
}

func (r noRenewal) String() string {
	if r.takenBack != "" {
		return "the desk has taken the seat in " + r.takenBack + " back"
	}
	return r.said
}

// due reports whether the access of a seat is to be renewed: at half of its life,
// unless it lasts as long as the contract already.
func (k *Keeper) due(s *store.Seat, books *subscription.Books) bool {
	if s.Leaving || len(s.Access) == 0 || books.Now.Before(s.Issued.Add(s.Expires.Sub(s.Issued)/2)) {
		return false
	}
	c := books.Contract(s.Account, s.Contract)
	return c == nil || s.Expires.Before(c.End.Add(-time.Second))
}

// Tend does what is due at the desks: asks them, gives back what is leaving, renews
// what ends. A desk that is away costs the others nothing.
func (k *Keeper) Tend(ctx context.Context) {
	var all sync.WaitGroup
	for _, name := range k.Names() {
		a, err := k.Account(name)
		if err != nil {
			continue
		}
		all.Go(func() { k.tendAccount(ctx, a) })
	}
	all.Wait()
}

func (k *Keeper) tendAccount(ctx context.Context, a *Account) {
	if err := k.ask(ctx, a); err != nil {
		return // noted with the account; nothing changes on any host
	}
	books := k.Current()
	for _, s := range k.Every() {
		if s.Account != a.Name || ctx.Err() != nil {
			continue
		}
		if s.Leaving {
			k.giveBackLeft(ctx, a, &s)
			continue
		}
		if !k.due(&s, books) {
			continue
		}
		if _, err := k.issue(ctx, s.Host, s.Account, s.Kind); err != nil {
			k.log.Warn(
				"access could not be renewed",
				"host",
				s.Host,
				"account",
				s.Account,
				"contract",
				s.Contract,
				"expires",
				s.Expires,
				"error",
				err,
			)
			if errors.Is(err, desk.ErrAway) {
				return
			}
		}
	}
}
