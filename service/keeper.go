package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/desk"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/vault"
)

// keeper keeps the organisation's accounts at vendors' desks, its contracts, and
// the seats of hosts with their access.
type keeper struct {
	store *store.Store
	vault *vault.Vault
	log   *slog.Logger
	now   func() time.Time
	http  *http.Client

	mu       sync.RWMutex
	accounts map[string]*account
	seats    map[string][]store.Seat // by host; a slice is replaced, never changed
	refused  map[[2]string]refusal   // host, account → why the desk renews nothing
	books    *subscription.Books     // of the above; nil when it must be made anew
}

// account is an account with what the desk told of it.
type account struct {
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

func newKeeper(ctx context.Context, st *store.Store, v *vault.Vault, log *slog.Logger, now func() time.Time) (*keeper, error) {
	k := &keeper{store: st, vault: v, log: log, now: now, http: desk.NewHTTP(20 * time.Second), accounts: map[string]*account{}, seats: map[string][]store.Seat{}, refused: map[[2]string]refusal{}}
	accounts, err := st.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range accounts {
		k.accounts[a.Name] = &account{Account: a}
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

// errNoAccount names an account that nobody has given the service.
type errNoAccount struct{ name string }

func (e errNoAccount) Error() string {
	return fmt.Sprintf("the service has no account %q at a vendor's desk; give it one: lantern account add %s --desk URL --login NAME", e.name, e.name)
}

func (k *keeper) account(name string) (*account, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if a := k.accounts[name]; a != nil {
		return a, nil
	}
	return nil, errNoAccount{name}
}

func (k *keeper) names() []string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var out []string
	for n := range k.accounts {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// withDesk calls a desk; the organisation's login is in memory for as long as that
// takes. The outcome is noted with the account.
func (k *keeper) withDesk(ctx context.Context, a *account, call func(*desk.Account) error) error {
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
func (k *keeper) desk(a *account) (*desk.Account, error) {
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
	return &desk.Account{URL: url, Login: l.Login, Password: l.Password, HTTP: k.http}, nil
}

// noteOutcome notes since when a desk does not answer.
func (k *keeper) noteOutcome(ctx context.Context, a *account, err error) {
	trouble := ""
	var no *desk.Refusal
	switch {
	case errors.As(err, &no) && no.Status != http.StatusUnauthorized: // it answers
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
	if err := k.store.PutAccount(ctx, row, noted(k.entry(ctx, commandSeats, a.Name))); err != nil {
		k.log.Error("noting how a desk answers", "account", a.Name, "error", err)
	}
}

// ask brings what the desk tells of an account up to date.
func (k *keeper) ask(ctx context.Context, a *account) error {
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
		c = noted(k.entry(ctx, commandSeats, a.Name))
	}
	return k.store.PutAccount(ctx, row, c)
}

// takeBook notes what a desk told of an account. It returns the account's row, and whether
// anything stands otherwise than before.
func (k *keeper) takeBook(a *account, book *desk.Book) (row store.Account, changed bool) {
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
			if back := (refusal{takenBack: s.Contract}); !there[[2]string{host, s.Contract}] {
				k.refused[key] = back
			} else if k.refused[key] == back {
				delete(k.refused, key)
			}
		}
	}
	k.books = nil
	return a.Account, !reflect.DeepEqual(contracts, a.Contracts) || !reflect.DeepEqual(others, a.others)
}

// refusal is why a desk renews nothing for a host.
type refusal struct {
	takenBack string // the contract in which the desk has taken the seat back
	said      string // else, what the desk said
}

func (r refusal) String() string {
	if r.takenBack != "" {
		return "the desk has taken the seat in " + r.takenBack + " back"
	}
	return r.said
}

// entry is a line of the journal about seats, of a host or of an account.
func (k *keeper) entry(ctx context.Context, command, name string) store.Entry {
	return store.Entry{At: k.now(), Actor: actorFrom(ctx).String(), Command: command, Kind: kindSeats, Name: name}
}

// find returns a seat; k.mu is held.
func (k *keeper) find(host, account, contract string) *store.Seat {
	for i := range k.seats[host] {
		if s := &k.seats[host][i]; s.Account == account && (contract == "" || s.Contract == contract) {
			return s
		}
	}
	return nil
}

// current returns the books as they stand now.
func (k *keeper) current() *subscription.Books {
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
	now := *b
	now.Now = k.now()
	return &now
}

func (k *keeper) open() *subscription.Books {
	var contracts []subscription.Contract
	var seats []subscription.Seat
	for _, a := range k.accounts {
		contracts = append(contracts, a.Contracts...)
		for _, s := range a.others {
			seats = append(seats, subscription.Seat{Host: s.Host, Account: a.Name, Contract: s.Contract, Taken: s.Taken, Holder: subscription.Elsewhere})
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
	c := noted(entries...)
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

// take takes a seat for a host. A host that has the seat already keeps it, and
// fresh is false. number names the contract; empty: the best.
func (k *keeper) take(ctx context.Context, need subscription.Need, number, why, by string, automatic bool) (seat store.Seat, fresh bool, err error) {
	a, err := k.account(need.Account)
	if err != nil {
		return seat, false, err
	}
	a.calls.Lock()
	defer a.calls.Unlock()
	old, has := k.seat(need.Host, need.Account)
	if has && (number == "" || number == old.Contract) {
		b := k.current()
		if c := b.Contract(old.Account, old.Contract); c != nil {
			if good, _ := c.Good(b.Now); good || number != "" {
				return old, false, nil
			}
		}
	}
	if number == "" {
		choice, err := k.current().Choose(need)
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
	seat = store.Seat{Seat: subscription.Seat{Host: need.Host, Account: need.Account, Contract: number, Taken: given.Taken, By: by, Why: why}, Automatic: automatic}
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

// release takes a host's seat away from it at once, and gives it back to the desk
// as soon as that answers. It reports whether the desk knows.
func (k *keeper) release(ctx context.Context, host, account, by string) (done bool, err error) {
	a, err := k.account(account)
	if err != nil {
		return false, err
	}
	a.calls.Lock()
	defer a.calls.Unlock()
	s, ok := k.seat(host, account)
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

// giveBack tells the desk of a seat that is leaving. What does not work is tried
// again later. a.calls is held.
func (k *keeper) giveBack(ctx context.Context, a *account, s store.Seat) bool {
	err := k.withDesk(ctx, a, func(d *desk.Account) error { return d.Release(ctx, s.Contract, s.Host) })
	if err == nil {
		err = k.put(ctx, "release-seat", nil, []store.Seat{s})
	}
	if err != nil {
		k.log.Warn("a seat could not be given back yet", "host", s.Host, "account", s.Account, "contract", s.Contract, "error", err)
	}
	return err == nil
}

// noAccess is the kind of error for a desk that answers and gives a host nothing that
// opens its sources. Whatever else goes wrong passes, and takes nothing from the host.
type noAccess struct{ error }

func (e noAccess) Unwrap() error { return e.error }

// secret returns the access of a host's seat, of a kind; where there is none that
// is good, the desk is asked for it.
func (k *keeper) secret(ctx context.Context, host, account, kind string) (credential.Secret, error) {
	s, ok := k.seat(host, account)
	if !ok {
		return credential.Secret{}, fmt.Errorf("the host has no seat in the account %s", account)
	}
	if s.Kind == kind && len(s.Access) > 0 && s.Expires.After(k.now()) {
		return k.unseal(s)
	}
	return k.issue(ctx, host, account, kind)
}

func (k *keeper) unseal(s store.Seat) (credential.Secret, error) {
	var out credential.Secret
	plain, err := k.vault.Open(s.Access)
	if err != nil {
		return out, fmt.Errorf("the access of %s in the account %s: %w", s.Host, s.Account, err)
	}
	defer clear(plain)
	if json.Unmarshal(plain, &out) != nil {
		return out, fmt.Errorf("the access of %s in the account %s is damaged", s.Host, s.Account)
	}
	return out, nil
}

// issue asks the desk for new access and keeps it, encrypted.
func (k *keeper) issue(ctx context.Context, host, accountName, kind string) (credential.Secret, error) {
	a, err := k.account(accountName)
	if err != nil {
		return credential.Secret{}, err
	}
	a.calls.Lock()
	defer a.calls.Unlock()
	s, ok := k.seat(host, accountName)
	if !ok {
		return credential.Secret{}, fmt.Errorf("the host has no seat in the account %s", accountName)
	}
	var secret credential.Secret
	err = k.withDesk(ctx, a, func(d *desk.Account) (err error) {
		secret, err = d.Access(ctx, s.Contract, host, kind)
		return err
	})
	if err == nil && secret.Kind != kind {
		err = noAccess{fmt.Errorf("the desk gave access of kind %s, not %s", secret.Kind, kind)}
	}
	now := k.now()
	if err == nil {
		if bad := secret.Check(now); bad != nil {
			k.mu.RLock()
			if a.skew > mostSkew || a.skew < -mostSkew {
				bad = fmt.Errorf("%w (the desk's clock is off by %s)", bad, a.skew.Round(time.Minute))
			}
			k.mu.RUnlock()
			err = noAccess{fmt.Errorf("the desk's access cannot be used: %w", bad)}
		}
	}
	// A login of the organisation that is not taken is the account's trouble, not this
	// host's, and is noted there.
	var no *desk.Refusal
	if errors.As(err, &no) && no.Status != http.StatusUnauthorized {
		err = noAccess{err}
	}
	var none noAccess
	if errors.As(err, &none) {
		k.mu.Lock()
		k.refused[[2]string{host, accountName}] = refusal{said: err.Error()}
		k.mu.Unlock()
	}
	if err != nil {
		return credential.Secret{}, err
	}
	plain, err := json.Marshal(secret)
	if err != nil {
		return credential.Secret{}, err
	}
	defer clear(plain)
	if s.Access, err = k.vault.Seal(plain); err != nil {
		return credential.Secret{}, err
	}
	s.Kind, s.Expires, s.Issued = kind, secret.Expires.UTC(), now.UTC()
	s.Generation = max(s.Generation+1, now.UnixMilli())
	if err := k.put(ctx, commandRenew, []store.Seat{s}, nil); err != nil {
		return credential.Secret{}, err
	}
	k.mu.Lock()
	delete(k.refused, [2]string{host, accountName})
	k.mu.Unlock()
	return secret, nil
}

// due reports whether the access of a seat is to be renewed: at half of its life,
// unless it lasts as long as the contract already.
func (k *keeper) due(s *store.Seat, books *subscription.Books) bool {
	if s.Leaving || len(s.Access) == 0 || books.Now.Before(s.Issued.Add(s.Expires.Sub(s.Issued)/2)) {
		return false
	}
	c := books.Contract(s.Account, s.Contract)
	return c == nil || s.Expires.Before(c.End.Add(-time.Second))
}

// tend does what is due at the desks: asks them, gives back what is leaving, renews
// what ends. A desk that is away costs the others nothing.
func (k *keeper) tend(ctx context.Context) {
	var all sync.WaitGroup
	for _, name := range k.names() {
		a, err := k.account(name)
		if err != nil {
			continue
		}
		all.Go(func() { k.tendAccount(ctx, a) })
	}
	all.Wait()
}

func (k *keeper) tendAccount(ctx context.Context, a *account) {
	if err := k.ask(ctx, a); err != nil {
		return // noted with the account; nothing changes on any host
	}
	books := k.current()
	for _, s := range k.every() {
		if s.Account != a.Name || ctx.Err() != nil {
			continue
		}
		if s.Leaving {
			a.calls.Lock()
			k.giveBack(ctx, a, s)
			a.calls.Unlock()
			continue
		}
		if !k.due(&s, books) {
			continue
		}
		if _, err := k.issue(ctx, s.Host, s.Account, s.Kind); err != nil {
			k.log.Warn("access could not be renewed", "host", s.Host, "account", s.Account, "contract", s.Contract, "expires", s.Expires, "error", err)
			if errors.Is(err, desk.ErrAway) {
				return
			}
		}
	}
}

// count notes how many seats are used, where that has changed.
func (k *keeper) count(ctx context.Context) error {
	b := k.current()
	var list []store.SeatCount
	for i := range b.Contracts {
		c := &b.Contracts[i]
		list = append(list, store.SeatCount{Account: c.Account, Contract: c.Number, At: b.Now.UTC(), Used: b.Used(c.Account, c.Number), Seats: c.Seats})
	}
	return k.store.PutSeatCounts(ctx, list)
}

// addAccount asks the desk of a new account, or of one with a new login, and keeps it.
func (k *keeper) addAccount(ctx context.Context, a *account) error {
	k.mu.RLock()
	old := k.accounts[a.Name]
	k.mu.RUnlock()
	d, err := k.desk(a)
	if err != nil {
		return err
	}
	if _, err := d.Book(ctx); err != nil { // nothing of it is noted unless it answers
		return err
	}
	if old != nil { // its seats stay
		old.calls.Lock()
		defer old.calls.Unlock()
		k.mu.Lock()
		old.Title, old.Desk, old.Login = a.Title, a.Desk, a.Login
		row := old.Account
		k.mu.Unlock()
		if err := k.store.PutAccount(ctx, row, noted(k.entry(ctx, "add-account", a.Name))); err != nil {
			return err
		}
		return k.ask(ctx, old)
	}
	c := noted(k.entry(ctx, "add-account", a.Name))
	c.Then = func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		k.accounts[a.Name] = a
	}
	if err := k.store.PutAccount(ctx, a.Account, c); err != nil {
		return err
	}
	return k.ask(ctx, a)
}

func (k *keeper) removeAccount(ctx context.Context, name string) error {
	c := noted(k.entry(ctx, "remove-account", name))
	c.Then = func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		delete(k.accounts, name)
		k.books = nil
	}
	return k.store.RemoveAccount(ctx, name, c)
}

// rotate encrypts every secret with a new key.
func (k *keeper) rotate(ctx context.Context) (int, error) {
	var held []*account
	for _, name := range k.names() { // nobody issues anything meanwhile
		if a, err := k.account(name); err == nil {
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
		if n, err = k.store.Reseal(ctx, again, noted(store.Entry{At: k.now(), Actor: actorFrom(ctx).String(), Command: "rotate-secrets", Kind: kindSecrets})); err != nil {
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
