// Package contracts is what vendors sold: channels, accounts at desks, contracts, and the seats and access
// of hosts in them.
package contracts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/desk"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/seats"
	"patientlantern.example/lantern/store"
)

// Contracts are contracts with vendors, and who has a seat in them.
type Contracts struct{ *ground.Ground }

// New is that of a service.
func New(g *ground.Ground) *Contracts { return &Contracts{g} }

// WantedSeats is what a host would need under a revision.
type WantedSeats struct {
	Host  *fleet.View
	Needs []resolve.Needs
}

func (s *Contracts) need(ctx context.Context, v *fleet.View, n resolve.Needs) (subscription.Need, error) {
	t, err := s.Compute.TraitsOf(ctx, v.Traits)
	if err != nil {
		return subscription.Need{}, err
	}
	return subscription.Need{
		Host:    v.Name,
		Account: n.Account,
		Numbers: n.Numbers,
		Opens:   n.Opens,
		OS:      t.OS.ID,
		Version: t.OS.Version,
		Arch:    t.Arch,
	}, nil
}

// plan works out which seats hosts are to take: groups that take theirs by
// themselves, each whole or not at all, and the hosts for which somebody must.
func (s *Contracts) plan(ctx context.Context, wanted []WantedSeats) (subscription.Plan, []subscription.Need, error) {
	books := s.Keeper.Current()
	var groups []subscription.Group
	at := map[[2]string]int{}
	var byHand []subscription.Need
	for _, w := range wanted {
		for _, n := range w.Needs {
			need, err := s.need(ctx, w.Host, n)
			if err != nil {
				return subscription.Plan{}, nil, err
			}
			if !n.Automatic {
				good := false
				if seat := books.Seat(w.Host.Name, n.Account); seat != nil {
					if c := books.Contract(n.Account, seat.Contract); c != nil {
						good, _ = c.Good(books.Now)
					}
				}
				if !good {
					byHand = append(byHand, need)
				}
				continue
			}
			key := [2]string{n.Group, n.Account}
			i, ok := at[key]
			if !ok {
				i = len(groups)
				at[key] = i
				groups = append(groups, subscription.Group{Name: n.Group})
			}
			groups[i].Needs = append(groups[i].Needs, need)
		}
	}
	return books.Plan(groups), byHand, nil
}

// SeatsAhead says how many seats hosts would take, and who would get none.
func (s *Contracts) SeatsAhead(ctx context.Context, wanted []WantedSeats) (api.SeatsAhead, error) {
	out := api.SeatsAhead{Taking: []api.SeatTaking{}, Short: []api.SeatShortage{}, ByHand: []string{}}
	plan, byHand, err := s.plan(ctx, wanted)
	if err != nil {
		return out, err
	}
	for _, x := range plan.Take {
		out.Taking = append(out.Taking, api.SeatTaking{Host: x.Need.Host, Account: x.Need.Account, Contract: x.Contract, Why: x.Why})
	}
	for _, x := range plan.Short {
		out.Short = append(out.Short, api.SeatShortage(x))
	}
	for _, n := range byHand {
		out.ByHand = append(out.ByHand, n.Host)
	}
	return out, nil
}

// SeatsFor takes the seats that carrying a revision needs, all of them or none. It returns
// those that were taken.
func (s *Contracts) SeatsFor(ctx context.Context, revision int64, targets []*fleet.Host) ([]subscription.Taking, error) {
	rs, err := s.Compute.Revision(ctx, revision)
	if err != nil {
		return nil, err
	}
	var wanted []WantedSeats
	for _, h := range targets {
		v := h.Row()
		res, err := s.Compute.Resolve(ctx, rs, v)
		if err != nil {
			return nil, err
		}
		if needs := res.Given().Needs; len(needs) > 0 {
			wanted = append(wanted, WantedSeats{Host: v, Needs: needs})
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	plan, byHand, err := s.plan(ctx, wanted)
	if err != nil {
		return nil, err
	}
	var missing []error
	for _, x := range plan.Short {
		missing = append(
			missing,
			&refusal.Detail{
				Message: fmt.Sprintf(
					"%s: %d of %d seats are missing, so %s would go without: %s",
					x.Group,
					x.Short,
					x.Needed,
					strings.Join(x.Hosts, ", "),
					x.Why,
				),
				Location: x.Group,
				Value:    x.Account,
			},
		)
	}
	for _, n := range byHand {
		short, _, _ := strings.Cut(n.Host, ".")
		missing = append(
			missing,
			&refusal.Detail{
				Message:  fmt.Sprintf("%s needs a seat in the account %s: lantern seat take %s", n.Host, n.Account, short),
				Location: n.Host,
				Value:    n.Account,
			},
		)
	}
	if len(missing) > 0 {
		return nil, refusal.Conflict("seats are missing, so nothing was begun", missing...)
	}
	return s.takeAll(ctx, plan.Take)
}

// atOnce is how many calls go to desks at a time.
const atOnce = 8

// takeAll takes seats, and returns those that are new. When one cannot be had, those that
// were taken are given back.
func (s *Contracts) takeAll(ctx context.Context, list []subscription.Taking) ([]subscription.Taking, error) {
	by := identity.Operator(ctx).Name
	if by == "" {
		by = "the policy"
	}
	fresh := make([]bool, len(list))
	group, calls := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for i, t := range list {
		group.Go(func() (err error) {
			if calls.Err() != nil { // another could not be had
				return nil
			}
			if _, fresh[i], err = s.Keeper.Take(ctx, t.Need, t.Contract, t.Why, by, true); err != nil {
				return fmt.Errorf("no seat could be taken for %s: %w", t.Need.Host, err)
			}
			return nil
		})
	}
	err := group.Wait()
	var taken []subscription.Taking
	for i, t := range list {
		if fresh[i] {
			taken = append(taken, t)
		}
	}
	if err == nil {
		s.seatsChanged(ctx, "take-seat", hostsOf(taken))
		return taken, nil
	}
	s.GiveBack(ctx, taken)
	return nil, s.refuseSeat(fmt.Errorf("%w; nothing was begun, and the seats that were taken on the way are given back", err))
}

// GiveBack gives seats back that were taken for something that does not come.
func (s *Contracts) GiveBack(ctx context.Context, taken []subscription.Taking) {
	ctx = context.WithoutCancel(ctx)
	for _, t := range taken {
		if _, err := s.Keeper.Release(ctx, t.Need.Host, t.Need.Account, identity.Operator(ctx).Name); err != nil {
			s.Log.Error("giving a seat back", "host", t.Need.Host, "error", err)
		}
	}
}

func hostsOf(list []subscription.Taking) (out []string) {
	for _, t := range list {
		out = append(out, t.Need.Host)
	}
	return out
}

// seatsChanged works the standing of hosts out again.
func (s *Contracts) seatsChanged(ctx context.Context, command string, hosts []string) {
	for _, name := range hosts {
		if h, err := s.Fleet.Find(name); err == nil {
			if _, err := s.Again(ctx, h, command); err != nil {
				s.Log.Error("working out how a host stands", "host", name, "error", err)
			}
		}
	}
	s.countSeats(ctx)
}

// refuseSeat turns what a desk says into problem details.
func (s *Contracts) refuseSeat(err error) error {
	var no *desk.Refusal
	var none *subscription.NoContract
	var account seats.UnknownAccount
	switch {
	case errors.As(err, &none), errors.As(err, &no), errors.As(err, &account):
		return refusal.Conflict(err.Error())
	case errors.Is(err, desk.ErrAway):
		return refusal.Of(refusal.Unavailable, err.Error()+"; try again when it does, nothing was changed")
	case errors.Is(err, store.ErrNotFound):
		return refusal.NotFound(err.Error())
	}
	return err
}

// SeatIn says which seat is taken.
type SeatIn struct {
	Body api.SeatOrder
}

// TakeSeat takes a seat for one host. Two operators who do it at the same moment
// get one seat.
func (s *Contracts) TakeSeat(ctx context.Context, in *SeatIn) (*api.Seat, error) {
	h, err := s.FindHost(in.Body.Host)
	if err != nil {
		return nil, err
	}
	v := h.Row()
	if v.Traits == "" {
		return nil, refusal.Conflict(fmt.Sprintf("%s has sent no survey yet, so nobody can tell which contract fits it", v.Name))
	}
	needs, err := s.needsAhead(ctx, v)
	if err != nil {
		return nil, err
	}
	var accounts []string
	pick := -1
	for i, n := range needs {
		accounts = append(accounts, n.Account)
		if n.Account == in.Body.Account || in.Body.Account == "" && len(needs) == 1 {
			pick = i
		}
	}
	var n resolve.Needs
	switch {
	case pick >= 0:
		n = needs[pick]
	case in.Body.Account != "" && in.Body.Contract != "": // somebody knows better
		n = resolve.Needs{Account: in.Body.Account}
	case in.Body.Account != "":
		return nil, refusal.Conflict(
			fmt.Sprintf(
				"the sheet of %s needs nothing of the account %s; name the contract with --contract to take a seat all the same",
				v.Name,
				in.Body.Account,
			),
		)
	case len(needs) == 0:
		return nil, refusal.Conflict(
			fmt.Sprintf(
				"nothing on the sheet of %s needs a contract; name one with --account and --contract to take a seat all the same",
				v.Name,
			),
		)
	default:
		return nil, refusal.Conflict(
			fmt.Sprintf("%s needs seats in several accounts: %s; say which with --account", v.Name, strings.Join(accounts, ", ")),
		)
	}
	need, err := s.need(ctx, v, n)
	if err != nil {
		return nil, err
	}
	why := ""
	if in.Body.Contract != "" {
		why = "asked for by " + identity.Operator(ctx).Name
	}
	seat, _, err := s.Keeper.Take(ctx, need, in.Body.Contract, why, identity.Operator(ctx).Name, false)
	if err != nil {
		return nil, s.refuseSeat(err)
	}
	s.seatsChanged(ctx, "take-seat", []string{v.Name})
	return new(s.seat(seat)), nil
}

// needsAhead is what a host needs: under the revision that was carried to it, and
// under the newest.
func (s *Contracts) needsAhead(ctx context.Context, v *fleet.View) ([]resolve.Needs, error) {
	out := slices.Clone(v.Needs)
	revs, err := s.Store.Revisions(ctx)
	if err != nil || len(revs) == 0 || revs[0].Number == v.Revision {
		return out, err
	}
	rs, err := s.Compute.Revision(ctx, revs[0].Number)
	if err != nil {
		return nil, err
	}
	res, err := s.Compute.Resolve(ctx, rs, v)
	if err != nil {
		return nil, err
	}
	for _, n := range res.Given().Needs {
		if i := slices.IndexFunc(out, func(x resolve.Needs) bool { return x.Account == n.Account }); i >= 0 {
			out[i] = n
		} else {
			out = append(out, n)
		}
	}
	return out, nil
}

// SeatPath names a seat.
type SeatPath struct {
	Host    string `path:"host"`
	Account string `path:"account"`
}

// ReleaseSeat gives a seat back.
func (s *Contracts) ReleaseSeat(ctx context.Context, in *SeatPath) (*api.Seat, error) {
	name := in.Host
	if h, err := s.Fleet.Find(name); err == nil {
		name = h.Row().Name
	} else if len(s.Keeper.Of(name)) == 0 {
		_, err := s.FindHost(name)
		return nil, err
	}
	old, ok := s.Keeper.Seat(name, in.Account)
	if !ok {
		msg := fmt.Sprintf("%s has no seat in an account %q", name, in.Account)
		var have []string
		for _, x := range s.Keeper.Of(name) {
			have = append(have, x.Account)
		}
		return nil, refusal.NotFound(msg + refusal.Meant(names.Nearest(in.Account, have)))
	}
	done, err := s.Keeper.Release(ctx, name, in.Account, identity.Operator(ctx).Name)
	if err != nil {
		return nil, s.refuseSeat(err)
	}
	s.seatsChanged(ctx, "release-seat", []string{name})
	out := s.seat(old)
	out.Leaving = !done
	return &out, nil
}

// Seat describes a seat; never what opens the sources.
func (s *Contracts) seat(x store.Seat) api.Seat {
	out := api.Seat{Seat: x.Seat, Automatic: x.Automatic, Leaving: x.Leaving, Kind: x.Kind, Renewal: s.Keeper.Refusals(x.Host)[x.Account]}
	out.Taken = out.Taken.UTC()
	if !x.Expires.IsZero() {
		out.Expires = &x.Expires
	}
	if h, err := s.Fleet.Find(x.Host); err == nil {
		out.State = h.State(s.Now())
		out.Needed = slices.ContainsFunc(h.Row().Needs, func(n resolve.Needs) bool { return n.Account == x.Account })
	}
	return out
}

// SeatQuery says which seats are asked for.
type SeatQuery struct {
	ground.Paging
	Q        string `query:"q" doc:"Part of the host's name or the contract's number"`
	Account  string `query:"account" doc:"Only those of this account"`
	Contract string `query:"contract" doc:"Only those of the contract with this number"`
	Sort     string `query:"sort" enum:"host,contract,taken,expires,-host,-contract,-taken,-expires" default:"host"`
}

// ListSeats lists seats and who has them, page by page.
func (s *Contracts) ListSeats(_ context.Context, in *SeatQuery) (*api.SeatPage, error) {
	if err := s.known(in.Account, in.Contract); err != nil {
		return nil, err
	}
	var rows []store.Seat
	for _, x := range s.Keeper.Every() {
		if in.Account != "" && x.Account != in.Account || in.Contract != "" && x.Contract != in.Contract ||
			in.Q != "" && !strings.Contains(x.Host, strings.ToLower(in.Q)) && !strings.Contains(x.Contract, in.Q) {
			continue
		}
		rows = append(rows, x)
	}
	order, turned := strings.CutPrefix(in.Sort, "-")
	slices.SortStableFunc(rows, func(a, b store.Seat) int {
		n := 0
		switch order {
		case "contract":
			n = cmp.Compare(a.Contract, b.Contract)
		case "taken":
			n = a.Taken.Compare(b.Taken)
		case "expires":
			n = a.Expires.Compare(b.Expires)
		default:
			n = cmp.Compare(a.Host, b.Host)
		}
		if turned {
			n = -n
		}
		return n
	})
	page := api.SeatPage{Seats: []api.Seat{}, Total: len(rows)}
	from, to := in.Cut(len(rows))
	page.Next = in.Next(len(rows))
	for _, x := range rows[from:to] {
		page.Seats = append(page.Seats, s.seat(x))
	}
	return &page, nil
}
