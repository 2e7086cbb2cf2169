package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/desk"
	"patientlantern.example/lantern/store"
)

// endingSoon is how long before its end a contract is shown as ending.
const endingSoon = 90 * 24 * time.Hour

// wantedSeats is what a host would need under a revision.
type wantedSeats struct {
	host  *hostView
	needs []resolve.Needs
}

func (s *Service) need(ctx context.Context, v *hostView, n resolve.Needs) (subscription.Need, error) {
	t, err := s.compute.traitsOf(ctx, v.Traits)
	if err != nil {
		return subscription.Need{}, err
	}
	return subscription.Need{Host: v.Name, Account: n.Account, Numbers: n.Numbers, Opens: n.Opens, OS: t.OS.ID, Version: t.OS.Version, Arch: t.Arch}, nil
}

// plan works out which seats hosts are to take: groups that take theirs by
// themselves, each whole or not at all, and the hosts for which somebody must.
func (s *Service) plan(ctx context.Context, wanted []wantedSeats) (subscription.Plan, []subscription.Need, error) {
	books := s.keeper.current()
	var groups []subscription.Group
	at := map[[2]string]int{}
	var byHand []subscription.Need
	for _, w := range wanted {
		for _, n := range w.needs {
			need, err := s.need(ctx, w.host, n)
			if err != nil {
				return subscription.Plan{}, nil, err
			}
			if !n.Automatic {
				good := false
				if seat := books.Seat(w.host.Name, n.Account); seat != nil {
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

func (s *Service) seatsAhead(ctx context.Context, wanted []wantedSeats) (api.SeatsAhead, error) {
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

// seatsFor takes the seats that carrying a revision needs, all of them or none. It returns
// those that were taken.
func (s *Service) seatsFor(ctx context.Context, revision int64, targets []*host) ([]subscription.Taking, error) {
	rs, err := s.compute.revision(ctx, revision)
	if err != nil {
		return nil, s.refuse(err)
	}
	var wanted []wantedSeats
	for _, h := range targets {
		v := h.row()
		res, err := s.compute.resolve(ctx, rs, v)
		if err != nil {
			return nil, s.refuse(err)
		}
		if needs := res.Needs(); len(needs) > 0 {
			wanted = append(wanted, wantedSeats{v, needs})
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	plan, byHand, err := s.plan(ctx, wanted)
	if err != nil {
		return nil, s.refuse(err)
	}
	var missing []error
	for _, x := range plan.Short {
		missing = append(missing, &huma.ErrorDetail{Message: fmt.Sprintf("%s: %d of %d seats are missing, so %s would go without: %s", x.Group, x.Short, x.Needed, strings.Join(x.Hosts, ", "), x.Why), Location: x.Group, Value: x.Account})
	}
	for _, n := range byHand {
		short, _, _ := strings.Cut(n.Host, ".")
		missing = append(missing, &huma.ErrorDetail{Message: fmt.Sprintf("%s needs a seat in the account %s: lantern seat take %s", n.Host, n.Account, short), Location: n.Host, Value: n.Account})
	}
	if len(missing) > 0 {
		return nil, huma.NewError(http.StatusConflict, "seats are missing, so nothing was begun", missing...)
	}
	return s.takeAll(ctx, plan.Take)
}

// atOnce is how many calls go to desks at a time.
const atOnce = 8

// takeAll takes seats, and returns those that are new. When one cannot be had, those that
// were taken are given back.
func (s *Service) takeAll(ctx context.Context, list []subscription.Taking) ([]subscription.Taking, error) {
	by := operatorFrom(ctx).Name
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
			if _, fresh[i], err = s.keeper.take(ctx, t.Need, t.Contract, t.Why, by, true); err != nil {
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
	s.giveBack(ctx, taken)
	return nil, s.refuseSeat(fmt.Errorf("%w; nothing was begun, and the seats that were taken on the way are given back", err))
}

// giveBack gives seats back that were taken for something that does not come.
func (s *Service) giveBack(ctx context.Context, taken []subscription.Taking) {
	ctx = context.WithoutCancel(ctx)
	for _, t := range taken {
		if _, err := s.keeper.release(ctx, t.Need.Host, t.Need.Account, operatorFrom(ctx).Name); err != nil {
			s.log.Error("giving a seat back", "host", t.Need.Host, "error", err)
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
func (s *Service) seatsChanged(ctx context.Context, command string, hosts []string) {
	for _, name := range hosts {
		if h, err := s.fleet.find(name); err == nil {
			if _, err := s.again(ctx, h, command); err != nil {
				s.log.Error("working out how a host stands", "host", name, "error", err)
			}
		}
	}
	s.countSeats(ctx)
}

// refuseSeat turns what a desk says into problem details.
func (s *Service) refuseSeat(err error) error {
	var no *desk.Refusal
	var none *subscription.NoContract
	var account errNoAccount
	switch {
	case errors.As(err, &none), errors.As(err, &no), errors.As(err, &account):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, desk.ErrAway):
		return huma.Error503ServiceUnavailable(err.Error() + "; try again when it does, nothing was changed")
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	}
	return s.refuse(err)
}

type seatIn struct {
	Body api.SeatOrder
}

// takeSeat takes a seat for one host. Two operators who do it at the same moment
// get one seat.
func (s *Service) takeSeat(ctx context.Context, in *seatIn) (*body[api.Seat], error) {
	h, err := s.findHost(in.Body.Host)
	if err != nil {
		return nil, err
	}
	v := h.row()
	if v.Traits == "" {
		return nil, huma.Error409Conflict(fmt.Sprintf("%s has sent no survey yet, so nobody can tell which contract fits it", v.Name))
	}
	needs, err := s.needsAhead(ctx, v)
	if err != nil {
		return nil, s.refuse(err)
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
		return nil, huma.Error409Conflict(fmt.Sprintf("the sheet of %s needs nothing of the account %s; name the contract with --contract to take a seat all the same", v.Name, in.Body.Account))
	case len(needs) == 0:
		return nil, huma.Error409Conflict(fmt.Sprintf("nothing on the sheet of %s needs a contract; name one with --account and --contract to take a seat all the same", v.Name))
	default:
		return nil, huma.Error409Conflict(fmt.Sprintf("%s needs seats in several accounts: %s; say which with --account", v.Name, strings.Join(accounts, ", ")))
	}
	need, err := s.need(ctx, v, n)
	if err != nil {
		return nil, s.refuse(err)
	}
	why := ""
	if in.Body.Contract != "" {
		why = "asked for by " + operatorFrom(ctx).Name
	}
	seat, _, err := s.keeper.take(ctx, need, in.Body.Contract, why, operatorFrom(ctx).Name, false)
	if err != nil {
		return nil, s.refuseSeat(err)
	}
	s.seatsChanged(ctx, "take-seat", []string{v.Name})
	return &body[api.Seat]{s.seat(seat)}, nil
}

// needsAhead is what a host needs: under the revision that was carried to it, and
// under the newest.
func (s *Service) needsAhead(ctx context.Context, v *hostView) ([]resolve.Needs, error) {
	out := slices.Clone(v.needs)
	revs, err := s.store.Revisions(ctx)
	if err != nil || len(revs) == 0 || revs[0].Number == v.Revision {
		return out, err
	}
	rs, err := s.compute.revision(ctx, revs[0].Number)
	if err != nil {
		return nil, err
	}
	res, err := s.compute.resolve(ctx, rs, v)
	if err != nil {
		return nil, err
	}
	for _, n := range res.Needs() {
		if i := slices.IndexFunc(out, func(x resolve.Needs) bool { return x.Account == n.Account }); i >= 0 {
			out[i] = n
		} else {
			out = append(out, n)
		}
	}
	return out, nil
}

type seatPath struct {
	Host    string `path:"host"`
	Account string `path:"account"`
}

type releasedOut struct {
	Body api.Seat
}

func (s *Service) releaseSeat(ctx context.Context, in *seatPath) (*releasedOut, error) {
	name := in.Host
	if h, err := s.fleet.find(name); err == nil {
		name = h.row().Name
	} else if len(s.keeper.of(name)) == 0 {
		_, err := s.findHost(name)
		return nil, err
	}
	old, ok := s.keeper.seat(name, in.Account)
	if !ok {
		msg := fmt.Sprintf("%s has no seat in an account %q", name, in.Account)
		var have []string
		for _, x := range s.keeper.of(name) {
			have = append(have, x.Account)
		}
		if near := names.Nearest(in.Account, have); near != "" {
			msg += fmt.Sprintf("; did you mean %q?", near)
		}
		return nil, huma.Error404NotFound(msg)
	}
	done, err := s.keeper.release(ctx, name, in.Account, operatorFrom(ctx).Name)
	if err != nil {
		return nil, s.refuseSeat(err)
	}
	s.seatsChanged(ctx, "release-seat", []string{name})
	out := s.seat(old)
	out.Leaving = !done
	return &releasedOut{out}, nil
}

// seat describes a seat; never what opens the sources.
func (s *Service) seat(x store.Seat) api.Seat {
	out := api.Seat{Seat: x.Seat, Automatic: x.Automatic, Leaving: x.Leaving, Kind: x.Kind, Renewal: s.keeper.refusals(x.Host)[x.Account]}
	out.Taken = out.Taken.UTC()
	if !x.Expires.IsZero() {
		out.Expires = &x.Expires
	}
	if h, err := s.fleet.find(x.Host); err == nil {
		out.State = h.state(s.now())
		out.Needed = slices.ContainsFunc(h.row().needs, func(n resolve.Needs) bool { return n.Account == x.Account })
	}
	return out
}

type seatQuery struct {
	Paging
	Q        string `query:"q" doc:"Part of the host's name or the contract's number"`
	Account  string `query:"account"`
	Contract string `query:"contract"`
	Sort     string `query:"sort" enum:"host,contract,taken,expires,-host,-contract,-taken,-expires" default:"host"`
}

func (s *Service) listSeats(_ context.Context, in *seatQuery) (*body[api.SeatPage], error) {
	var rows []store.Seat
	for _, x := range s.keeper.every() {
		if in.Account != "" && x.Account != in.Account || in.Contract != "" && x.Contract != in.Contract || in.Q != "" && !strings.Contains(x.Host, strings.ToLower(in.Q)) && !strings.Contains(x.Contract, in.Q) {
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
	from, to := in.cut(len(rows))
	for _, x := range rows[from:to] {
		page.Seats = append(page.Seats, s.seat(x))
	}
	return &body[api.SeatPage]{page}, nil
}

type contractQuery struct {
	Paging
	Q       string   `query:"q" doc:"Part of the number or the title"`
	Account string   `query:"account"`
	State   []string `query:"state" doc:"Only contracts in these states"`
	Sort    string   `query:"sort" enum:"account,end,used,-end,-used" default:"account"`
}

func (s *Service) listContracts(_ context.Context, in *contractQuery) (*body[api.ContractPage], error) {
	books := s.keeper.current()
	var rows []api.HeldContract
	q := strings.ToLower(in.Q)
	for i := range books.Contracts {
		c := contractOf(books, &books.Contracts[i])
		if in.Account != "" && c.Account != in.Account || len(in.State) > 0 && !slices.Contains(in.State, c.State) || q != "" && !strings.Contains(strings.ToLower(c.Number+" "+c.Title), q) {
			continue
		}
		rows = append(rows, c)
	}
	order, turned := strings.CutPrefix(in.Sort, "-")
	slices.SortStableFunc(rows, func(a, b api.HeldContract) int {
		n := 0
		switch order {
		case "end":
			n = a.End.Compare(b.End)
		case "used":
			n = cmp.Compare(a.Used, b.Used)
		}
		if turned {
			n = -n
		}
		return n
	})
	page := api.ContractPage{Contracts: []api.HeldContract{}, Total: len(rows)}
	from, to := in.cut(len(rows))
	page.Contracts = append(page.Contracts, rows[from:to]...)
	return &body[api.ContractPage]{page}, nil
}

func contractOf(b *subscription.Books, c *subscription.Contract) api.HeldContract {
	out := api.HeldContract{Contract: *c, State: "good", Used: b.Used(c.Account, c.Number), Free: b.Free(c), Over: b.Over(c)}
	if out.Opens == nil {
		out.Opens = []subscription.Opening{}
	}
	out.Opens = slices.Clone(out.Opens) // the books are everybody's
	for i := range out.Opens {
		o := &out.Opens[i]
		o.Releases, o.Archs = source.Strings(o.Releases), source.Strings(o.Archs)
	}
	switch good, _ := c.Good(b.Now); {
	case c.Withdrawn:
		out.State = "withdrawn"
	case !good && b.Now.Before(c.Start):
		out.State = "to-come"
	case !good:
		out.State = "ended"
	case out.Over > 0:
		out.State = "over"
	case c.End.Sub(b.Now) < endingSoon:
		out.State = "ending"
	}
	return out
}

type accountIn struct {
	Body api.AccountOrder
}

// addAccount keeps an account, and asks its desk at once: a wrong login is said now
// and not in the night.
func (s *Service) addAccount(ctx context.Context, in *accountIn) (*body[api.Account], error) {
	o := in.Body
	if !strings.HasPrefix(o.Desk, "https://") && !strings.HasPrefix(o.Desk, "http://") {
		return nil, huma.Error422UnprocessableEntity("the address of the desk must begin with https:// (or http:// on this machine)")
	}
	if strings.Contains(o.Desk, "@") {
		return nil, huma.Error422UnprocessableEntity("no login stands in the address of the desk: give it with login and password")
	}
	plain, err := json.Marshal(login{o.Login, o.Password})
	if err != nil {
		return nil, s.refuse(err)
	}
	defer clear(plain)
	sealed, err := s.opts.Vault.Seal(plain)
	if err != nil {
		return nil, s.refuse(err)
	}
	a := &account{Account: store.Account{Name: o.Name, Title: o.Title, Desk: strings.TrimRight(o.Desk, "/"), Login: sealed, Author: operatorFrom(ctx).Name, Created: s.now().UTC()}}
	if err := s.keeper.addAccount(ctx, a); err != nil {
		return nil, s.refuseSeat(err)
	}
	s.log.Info("account added", "name", o.Name, "desk", a.Desk, "author", a.Author)
	out, there := s.accountOf(o.Name)
	if !there {
		return nil, huma.Error409Conflict(fmt.Sprintf("somebody has removed the account %s at this moment", o.Name))
	}
	return &body[api.Account]{out}, nil
}

// accountOf describes an account; false where there is none (any more).
func (s *Service) accountOf(name string) (out api.Account, there bool) {
	k := s.keeper
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

func (s *Service) listAccounts(context.Context, *struct{}) (*body[api.AccountList], error) {
	out := api.AccountList{Accounts: []api.Account{}}
	for _, n := range s.keeper.names() {
		if a, there := s.accountOf(n); there {
			out.Accounts = append(out.Accounts, a)
		}
	}
	return &body[api.AccountList]{out}, nil
}

type accountPath struct {
	Name string `path:"name"`
}

func (s *Service) removeAccount(ctx context.Context, in *accountPath) (*struct{}, error) {
	a, there := s.accountOf(in.Name)
	if !there {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no account %q", in.Name))
	}
	if n := a.Seats; n > 0 {
		return nil, huma.Error409Conflict(fmt.Sprintf("%d seats are taken in the account %s; release them first, or the vendor goes on counting them", n, in.Name))
	}
	if err := s.keeper.removeAccount(ctx, in.Name); err != nil {
		return nil, s.refuse(err)
	}
	s.log.Info("account removed", "name", in.Name, "author", operatorFrom(ctx).Name)
	return nil, nil
}

type rotatedOut struct {
	Body struct {
		Secrets int `json:"secrets" doc:"How many were encrypted anew"`
	}
}

func (s *Service) rotateSecrets(ctx context.Context, _ *struct{}) (*rotatedOut, error) {
	n, err := s.keeper.rotate(ctx)
	if err != nil {
		return nil, huma.Error409Conflict(err.Error())
	}
	s.log.Info("secrets encrypted with a new key", "secrets", n, "author", operatorFrom(ctx).Name)
	out := &rotatedOut{}
	out.Body.Secrets = n
	return out, nil
}

type channelQuery struct {
	Paging
	Q        string `query:"q" doc:"Part of the channel's name or title"`
	Variants bool   `query:"variants" doc:"Debug and source variants as well"`
}

// listChannels shows the channels of the newest revision.
func (s *Service) listChannels(ctx context.Context, in *channelQuery) (*body[api.ChannelPage], error) {
	out := api.ChannelPage{Channels: []api.Channel{}}
	revs, err := s.store.Revisions(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	if len(revs) == 0 {
		return &body[api.ChannelPage]{out}, nil
	}
	out.Revision = revs[0].Number
	rs, err := s.compute.revision(ctx, out.Revision)
	if err != nil {
		return nil, s.refuse(err)
	}
	p := rs.Policy()
	using := map[string]int{}
	for _, h := range s.fleet.all() {
		for _, f := range h.row().follows {
			using[f.Channel+"\x00"+f.Choice]++
			for _, v := range f.Variants {
				using[f.Channel+"\x00"+f.Choice+"\x00"+v]++
			}
		}
	}
	q := strings.ToLower(in.Q)
	var list []api.Channel
	for _, c := range p.Channels {
		if q == "" || strings.Contains(strings.ToLower(c.Name+" "+c.Title), q) {
			list = append(list, s.channelOf(p, c, using, in.Variants))
		}
	}
	slices.SortFunc(list, func(a, b api.Channel) int { return strings.Compare(a.Name, b.Name) })
	out.Total = len(list)
	from, to := in.cut(len(list))
	out.Channels = append(out.Channels, list[from:to]...)
	return &body[api.ChannelPage]{out}, nil
}

func (s *Service) channelOf(p *policy.Policy, c *policy.Channel, using map[string]int, variants bool) api.Channel {
	books := s.keeper.current()
	out := api.Channel{Name: c.Name, Title: c.Title, At: c.Pos, Choices: []api.ChannelChoice{}}
	for _, choice := range c.Choices {
		x := api.ChannelChoice{
			Name: choice.Name, Repository: choice.Repository.Value, Pinned: choice.Pinned, At: choice.Pos, Hosts: using[c.Name+"\x00"+choice.Name],
			Contracts: []string{}, Groups: []string{}, Decision: []api.ChannelDecided{},
		}
		if r := p.Repositories[x.Repository]; r != nil {
			x.Support = r.Support
		}
		if choice.Contract != nil {
			contract := p.Contracts[choice.Contract.Value]
			x.Licensed, x.Contract, x.Opens = true, contract.Name, choice.Opens.Value
			for i := range books.Contracts {
				k := &books.Contracts[i]
				good, _ := k.Good(books.Now)
				opens := slices.ContainsFunc(k.Opens, func(o subscription.Opening) bool { return o.Name == x.Opens })
				named := len(contract.Numbers) == 0 || slices.ContainsFunc(contract.Numbers, func(t policy.Text) bool { return t.Value == k.Number })
				if k.Account == contract.Account.Value && good && opens && named {
					x.Contracts = append(x.Contracts, k.Number)
				}
			}
		}
		for _, a := range p.Assignments {
			if f, ok := a.Channels[c.Name]; ok && f.Choice.Value == choice.Name {
				var to []string
				for _, t := range a.To {
					to = append(to, t.Value)
				}
				x.Groups = append(x.Groups, strings.Join(to, ", "))
				if d := a.Without; d != nil && choice.Contract == nil {
					x.Decision = append(x.Decision, decided(strings.Join(to, ", "), d, s.now()))
				}
			}
		}
		out.Choices = append(out.Choices, x)
		if !variants {
			continue
		}
		for _, kind := range []string{policy.VariantDebug, policy.VariantSource} {
			t, ok := choice.Variants[kind]
			if !ok {
				continue
			}
			v := x
			v.Variant, v.Repository, v.At, v.Groups, v.Decision = kind, t.Value, t.Pos, []string{}, []api.ChannelDecided{}
			v.Hosts = using[c.Name+"\x00"+choice.Name+"\x00"+kind]
			if r := p.Repositories[t.Value]; r != nil {
				v.Support = r.Support
			}
			for _, a := range p.Assignments {
				if f, ok := a.Channels[c.Name]; ok && f.Choice.Value == choice.Name && slices.ContainsFunc(f.Variants, func(t policy.Text) bool { return t.Value == kind }) {
					for _, t := range a.To {
						v.Groups = append(v.Groups, t.Value)
					}
				}
			}
			out.Choices = append(out.Choices, v)
		}
	}
	return out
}

func decided(group string, d *policy.Decision, now time.Time) api.ChannelDecided {
	return api.ChannelDecided{Group: group, Because: d.Because, Author: d.Author, Review: d.Review.Format(time.DateOnly), Due: !now.Before(d.Review), At: d.Pos}
}

// showStanding adds what is known of a host's channels and seats.
func (s *Service) showStanding(v *hostView, d *api.HostDetail) error {
	d.Access, d.Channels, d.Seats = []source.Access{}, []api.HostChannel{}, []api.Seat{}
	access, err := accessOf(v)
	if err != nil {
		return err
	}
	d.Access = append(d.Access, access.Others...)
	for _, f := range v.follows {
		c := api.HostChannel{Channel: f.Channel, Choice: f.Choice, Pinned: f.Pinned, Group: f.Group, Contract: f.Contract, Open: f.Contract == "" && f.Licensed, At: f.At}
		if f.Decision != nil && c.Open {
			x := decided(f.Group, f.Decision, s.now())
			c.Decision = &x
		}
		d.Channels = append(d.Channels, c)
	}
	for _, x := range s.keeper.of(v.Name) {
		d.Seats = append(d.Seats, s.seat(x))
	}
	return nil
}

// outlook is what the buyer wants to know.
func (s *Service) outlook(ctx context.Context, _ *struct{}) (*body[api.Outlook], error) {
	out := api.Outlook{Silent: []api.SilentSeat{}, Idle: []api.SilentSeat{}, Usage: []api.SeatUsage{}}
	books := s.keeper.current()
	var needs []subscription.Need
	for _, h := range s.fleet.all() {
		v := h.row()
		for _, n := range v.needs {
			need, err := s.need(ctx, v, n)
			if err != nil {
				return nil, s.refuse(err)
			}
			needs = append(needs, need)
		}
	}
	out.Ending, out.Twice = books.Ends(endingSoon, needs), books.Twice(needs)
	for i := range out.Ending {
		out.Ending[i].Contract = contractOf(books, &out.Ending[i].Contract).Contract
	}
	for _, x := range s.keeper.every() {
		h, err := s.fleet.find(x.Host)
		if err != nil || x.Leaving {
			continue
		}
		row := api.SilentSeat{Host: x.Host, Account: x.Account, Contract: x.Contract}
		if t := h.seenAt(); !t.IsZero() {
			row.LastSeen = &t
		}
		if h.state(s.now()) == api.StateSilent {
			out.Silent = append(out.Silent, row)
		}
		if v := h.row(); v.Task == 0 && !slices.ContainsFunc(v.needs, func(n resolve.Needs) bool { return n.Account == x.Account }) {
			out.Idle = append(out.Idle, row)
		}
	}
	counts, err := s.store.SeatCounts(ctx, s.now().AddDate(-1, 0, 0))
	if err != nil {
		return nil, s.refuse(err)
	}
	for _, c := range counts {
		out.Usage = append(out.Usage, api.SeatUsage(c))
	}
	return &body[api.Outlook]{out}, nil
}

// watchDesks looks at vendors' desks now and then.
func (s *Service) watchDesks(ctx context.Context) {
	s.Tend(ctx)
	every(ctx, s.opts.Tend, func() { s.Tend(ctx) })
}

// Tend does what is due for seats: it asks the desks, renews access, gives back what
// is no longer needed, and works out again how hosts stand.
func (s *Service) Tend(ctx context.Context) {
	s.keeper.tend(ctx)
	s.settleSeats(ctx)
	s.countSeats(ctx)
	s.restand(ctx)
}

func (s *Service) countSeats(ctx context.Context) {
	if err := s.keeper.count(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("noting how many seats are used", "error", err)
	}
}

// settleSeats gives back seats that the policy took and needs no more, and moves
// hosts on whose contract is good no more.
func (s *Service) settleSeats(ctx context.Context) {
	books := s.keeper.current()
	for _, x := range s.keeper.every() {
		if x.Leaving || !x.Automatic || ctx.Err() != nil {
			continue
		}
		h, err := s.fleet.find(x.Host)
		if err != nil {
			continue
		}
		v := h.row()
		i := slices.IndexFunc(v.needs, func(n resolve.Needs) bool { return n.Account == x.Account })
		if i < 0 {
			// A rollout that has not begun yet may need it.
			if v.Task == 0 && v.Carried.At.After(x.Taken) {
				if _, err := s.keeper.release(ctx, x.Host, x.Account, "the policy"); err != nil {
					s.log.Warn("a seat that is no longer needed stays", "host", x.Host, "error", err)
				}
			}
			continue
		}
		c := books.Contract(x.Account, x.Contract)
		if c == nil {
			continue
		}
		if good, why := c.Good(books.Now); !good {
			need, err := s.need(ctx, v, v.needs[i])
			if err != nil {
				continue
			}
			if _, _, err := s.keeper.take(ctx, need, "", "", "the policy", true); err != nil {
				s.log.Warn("no other contract takes a host whose own is good no more", "host", x.Host, "contract", x.Contract, "because", why, "error", err)
			}
		}
	}
}

// restand works out again how hosts stand with their contracts, and stores what
// has changed.
func (s *Service) restand(ctx context.Context) {
	for _, h := range s.fleet.all() {
		v := h.row()
		if len(v.follows) == 0 || v.Sheet == "" || v.Survey == "" || ctx.Err() != nil {
			continue
		}
		now, err := s.compute.standing(ctx, v)
		if err != nil {
			s.log.Error("working out how a host stands", "host", v.Name, "error", err)
			continue
		}
		rest := slices.DeleteFunc(slices.Clone(v.findings[v.judged:]), func(f drift.Finding) bool { return f.Class == drift.KeyEnded })
		if slices.Equal(now, rest) {
			continue
		}
		if _, err := s.again(ctx, h, commandSeats); err != nil {
			s.log.Error("working out how a host stands", "host", v.Name, "error", err)
		}
	}
}
