package contracts

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// endingSoon is how long before its end a contract is shown as ending.
const endingSoon = 90 * 24 * time.Hour

// ContractQuery says which contracts are asked for.
type ContractQuery struct {
	ground.Paging
	Q       string   `query:"q" doc:"Part of the number or the title"`
	Account string   `query:"account" doc:"Only those of this account"`
	State   []string `query:"state" enum:"good,ending,over,ended,withdrawn,to-come" doc:"Only contracts in these states"`
	Sort    string   `query:"sort" enum:"account,end,used,-end,-used" default:"account"`
}

// ListContracts lists contracts and how they stand, page by page.
func (s *Contracts) ListContracts(_ context.Context, in *ContractQuery) (*api.ContractPage, error) {
	if err := s.known(in.Account, ""); err != nil {
		return nil, err
	}
	books := s.Keeper.Current()
	var rows []api.HeldContract
	q := strings.ToLower(in.Q)
	for i := range books.Contracts {
		c := contractOf(books, &books.Contracts[i])
		if in.Account != "" && c.Account != in.Account || len(in.State) > 0 && !slices.Contains(in.State, c.State) ||
			q != "" && !strings.Contains(strings.ToLower(c.Number+" "+c.Title), q) {
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
	from, to := in.Cut(len(rows))
	page.Next = in.Next(len(rows))
	page.Contracts = append(page.Contracts, rows[from:to]...)
	return &page, nil
}

// known refuses an account or a number of a contract that stands nowhere: whoever asks for its seats would
// take an empty list for none taken.
func (s *Contracts) known(account, number string) error {
	seats := s.Keeper.Every()
	if account != "" && !slices.Contains(s.Keeper.Names(), account) &&
		!slices.ContainsFunc(seats, func(x store.Seat) bool { return x.Account == account }) {
		return refusal.NotFound(fmt.Sprintf("there is no account %q; `lantern account list` lists them", refusal.Short(account)))
	}
	if number == "" || slices.ContainsFunc(seats, func(x store.Seat) bool { return x.Contract == number }) ||
		slices.ContainsFunc(s.Keeper.Current().Contracts, func(c subscription.Contract) bool { return c.Number == number }) {
		return nil
	}
	return refusal.NotFound(fmt.Sprintf("there is no contract %q; `lantern contract list` lists them", refusal.Short(number)))
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

// ShowStanding adds what is known of a host's channels and seats.
func (s *Contracts) ShowStanding(v *fleet.View, d *api.HostDetail) error {
	d.Access, d.Channels, d.Seats = []source.Access{}, []api.HostChannel{}, []api.Seat{}
	access, err := compute.AccessOf(v)
	if err != nil {
		return err
	}
	d.Access = append(d.Access, access.Others...)
	for _, f := range v.Follows {
		c := api.HostChannel{
			Channel:  f.Channel,
			Choice:   f.Choice,
			Pinned:   f.Pinned,
			Group:    f.Group,
			Contract: f.Contract,
			Open:     f.Contract == "" && f.Licensed,
			At:       f.At,
		}
		if f.Decision != nil && c.Open {
			x := decided(f.Group, f.Decision, s.Now())
			c.Decision = &x
		}
		d.Channels = append(d.Channels, c)
	}
	for _, x := range s.Keeper.Of(v.Name) {
		d.Seats = append(d.Seats, s.seat(x))
	}
	return nil
}

// TendSeats does what is due for seats: it asks the desks, renews access, gives back what
// is no longer needed, and works out again how hosts stand.
func (s *Contracts) TendSeats(ctx context.Context) {
	s.Keeper.Tend(ctx)
	s.settleSeats(ctx)
	s.countSeats(ctx)
	s.restand(ctx)
}

func (s *Contracts) countSeats(ctx context.Context) {
	if err := s.Keeper.Count(ctx); err != nil && ctx.Err() == nil {
		s.Log.Error("noting how many seats are used", "error", err)
	}
}

// settleSeats gives back seats that the policy took and needs no more, and moves
// hosts on whose contract is good no more.
func (s *Contracts) settleSeats(ctx context.Context) {
	books := s.Keeper.Current()
	for _, x := range s.Keeper.Every() {
		if x.Leaving || !x.Automatic || ctx.Err() != nil {
			continue
		}
		h, err := s.Fleet.Find(x.Host)
		if err != nil {
			continue
		}
		v := h.Row()
		i := slices.IndexFunc(v.Needs, func(n resolve.Needs) bool { return n.Account == x.Account })
		if i < 0 {
			// A rollout that has not begun yet may need it, and so may a host that tells less of itself than it did.
			if v.Task == 0 && v.Carried.At.After(x.Taken) && s.Compute.Told(ctx, v) {
				if _, err := s.Keeper.Release(ctx, x.Host, x.Account, "the policy"); err != nil {
					s.Log.Warn("a seat that is no longer needed stays", "host", x.Host, "error", err)
				}
			}
			continue
		}
		c := books.Contract(x.Account, x.Contract)
		if c == nil {
			continue
		}
		if good, why := c.Good(books.Now); !good {
			need, err := s.need(ctx, v, v.Needs[i])
			if err != nil {
				continue
			}
			if _, _, err := s.Keeper.Take(ctx, need, "", "", "the policy", true); err != nil {
				s.Log.Warn(
					"no other contract takes a host whose own is good no more",
					"host",
					x.Host,
					"contract",
					x.Contract,
					"because",
					why,
					"error",
					err,
				)
			}
		}
	}
}

// restand works out again how hosts stand with their contracts, and stores what
// has changed.
func (s *Contracts) restand(ctx context.Context) {
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if len(v.Follows) == 0 || v.Sheet == "" || v.Survey == "" || ctx.Err() != nil {
			continue
		}
		now, err := s.Compute.Standing(ctx, v)
		if err != nil {
			s.Log.Error("working out how a host stands", "host", v.Name, "error", err)
			continue
		}
		rest := slices.Clone(v.Everything()[len(v.Judged.Findings):])
		rest = slices.DeleteFunc(rest, func(f drift.Finding) bool { // of no contract
			return f.Class == drift.KeyEnded || f.Class == drift.RefreshFails || f.Class == drift.NotRead
		})
		if slices.Equal(now, rest) {
			continue
		}
		if _, err := s.Again(ctx, h, journal.CommandSeats); err != nil {
			s.Log.Error("working out how a host stands", "host", v.Name, "error", err)
		}
	}
}
