package contracts

import (
	"context"
	"slices"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/store"
)

// Outlook is what the buyer wants to know.
func (s *Contracts) Outlook(ctx context.Context, _ *struct{}) (*api.Outlook, error) {
	out := api.Outlook{Silent: []api.SilentSeat{}, Idle: []api.SilentSeat{}, Usage: []api.SeatUsage{}}
	books := s.Keeper.Current()
	var needs []subscription.Need
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if v.Broken != "" || v.Survey == "" || v.Revision == 0 {
			out.Unknown++
		}
		for _, n := range v.Needs {
			need, err := s.need(ctx, v, n)
			if err != nil {
				return nil, err
			}
			needs = append(needs, need)
		}
	}
	out.Ending, out.Twice = books.Ends(endingSoon, needs), books.Twice(needs)
	for i := range out.Ending {
		out.Ending[i].Contract = contractOf(books, &out.Ending[i].Contract).Contract
	}
	s.spared(&out)
	counts, err := s.Store.SeatCounts(ctx, s.Now().AddDate(-1, 0, 0))
	if err != nil {
		return nil, err
	}
	for _, c := range counts {
		out.Usage = append(out.Usage, api.SeatUsage(c))
	}
	s.forecast(&out, books, needs, counts)
	return &out, nil
}

// spared adds the seats that may be paid for nothing.
func (s *Contracts) spared(out *api.Outlook) {
	for _, x := range s.Keeper.Every() {
		h, err := s.Fleet.Find(x.Host)
		if err != nil || x.Leaving {
			continue
		}
		row := api.SilentSeat{Host: x.Host, Account: x.Account, Contract: x.Contract}
		if t := h.SeenAt(); !t.IsZero() {
			row.LastSeen = &t
		}
		if h.State(s.Now()) == api.StateSilent {
			out.Silent = append(out.Silent, row)
		}
		if v := h.Row(); v.Task == 0 && !slices.ContainsFunc(v.Needs, func(n resolve.Needs) bool { return n.Account == x.Account }) {
			out.Idle = append(out.Idle, row)
		}
	}
}

// forecast adds the year ahead of each account, and of those that hosts need and that the
// service was never given.
func (s *Contracts) forecast(out *api.Outlook, books *subscription.Books, needs []subscription.Need, counts []store.SeatCount) {
	names := s.Keeper.Names()
	out.Accounts = len(names)
	out.Away = s.Keeper.Away()
	for _, n := range needs {
		if !slices.Contains(names, n.Account) {
			names = append(names, n.Account)
		}
	}
	slices.Sort(names)
	out.Forecast = make([]subscription.Forecast, 0, len(names))
	for _, name := range names {
		var used []subscription.Count
		for _, c := range counts {
			if c.Account == name {
				used = append(used, subscription.Count{Contract: c.Contract, At: c.At, Used: c.Used})
			}
		}
		out.Forecast = append(out.Forecast, books.Forecast(name, needs, used))
	}
}
