package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

func shortName(host string) string {
	s, _, _ := strings.Cut(host, ".")
	return s
}

func (a *app) seat() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "seat",
		Short:   "Take, release and list the seats of hosts in contracts",
		GroupID: "contracts",
		Example: "  lantern seat take gw-05\n  lantern seat list",
	}
	lists(cmd, a.seatList())
	cmd.AddCommand(a.seatTake(), a.seatRelease())
	return cmd
}

func (a *app) seatTake() *cobra.Command {
	var o api.SeatOrder
	var m meant
	var yes bool
	cmd := &cobra.Command{
		Use:               "take HOST...",
		Short:             "Take a seat for a host in the contract that fits it best",
		ValidArgsFunction: a.completeEveryHost,
		Long: "Take a seat. Of the contracts that open everything which the host's sheet needs, one that\nis no evaluation " +
			"is taken if there is any; of those the cheapest; of those the one that ends\nlast. The answer says why this one.",
		Example: "  lantern seat take gw-05\n  lantern seat take arc-1 arc-2 --account gannet\n  lantern seat take gw-01 " +
			"--account gannet --contract GN-2026-031",
		RunE: func(cmd *cobra.Command, args []string) error {
			hosts, err := m.agreed(cmd.Context(), a, args, yes, "would take a seat")
			if err != nil {
				return err
			}
			return everyOf(cmd.Context(), a, hosts, !m.several(args), func(host string) (api.Seat, error) {
				o.Host = host
				return a.client().TakeSeat(cmd.Context(), o)
			}, func(s *api.Seat) { a.out.Printf("%s has a seat in %s: %s", s.Host, s.Contract, s.Why) })
		},
	}
	m.add(a, cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "for all hosts that a range, a group or a condition means")
	cmd.Flags().StringVar(&o.Account, "account", "", "which account; needed where the host needs several")
	cmd.Flags().StringVar(&o.Contract, "contract", "", "this contract, and not the one that fits best")
	return cmd
}

func (a *app) seatRelease() *cobra.Command {
	var account string
	var m meant
	var yes bool
	cmd := &cobra.Command{
		Use:               "release HOST...",
		Short:             "Give a host's seat back; what it opened is closed",
		ValidArgsFunction: a.completeEveryHost,
		Example:           "  lantern seat release gw-05\n  lantern seat release arc-1 --account gannet",
		RunE: func(cmd *cobra.Command, args []string) error {
			hosts, err := m.agreed(cmd.Context(), a, args, yes, "would give a seat back")
			if err != nil {
				return err
			}
			return everyOf(cmd.Context(), a, hosts, !m.several(args), func(host string) (api.Seat, error) {
				of, err := a.seatOf(cmd.Context(), host, account)
				if err != nil {
					return api.Seat{}, err
				}
				return a.client().ReleaseSeat(cmd.Context(), host, of)
			}, func(s *api.Seat) {
				if s.Leaving {
					a.out.Printf("%s has its seat in %s no more; the vendor hears of it as soon as its desk answers.", s.Host, s.Contract)
				} else {
					a.out.Printf("%s gave its seat in %s back.", s.Host, s.Contract)
				}
			})
		},
	}
	m.add(a, cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "for all hosts that a range, a group or a condition means")
	cmd.Flags().StringVar(&account, "account", "", "which account; needed where the host has seats in several")
	return cmd
}

// seatOf is the account in which a host has the seat that is meant: the one that was named, or its only one.
func (a *app) seatOf(ctx context.Context, host, account string) (string, error) {
	if account != "" {
		return account, nil
	}
	d, err := a.client().Host(ctx, host)
	if err != nil {
		return "", err
	}
	var have []string
	for _, s := range d.Seats {
		if !s.Leaving {
			have = append(have, s.Account)
		}
	}
	switch len(have) {
	case 0:
		return "", no("%s has no seat", d.Name)
	case 1:
		return have[0], nil
	}
	return "", wrong("%s has seats in the accounts %s; say which with --account", d.Name, strings.Join(have, ", "))
}

func (a *app) seatList() *cobra.Command {
	var l listFlags
	var q, account, contract string
	cmd := &cobra.Command{
		Use:         "list",
		Short:       "List seats: who has them, why, and when the access is renewed",
		Args:        cobra.NoArgs,
		Annotations: map[string]string{moreFormats: "csv"},
		Example: "  lantern seat list\n  lantern seat list --contract GN-2026-014 --sort expires\n  lantern seat list --format csv > " +
			"seats.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().
				Seats(
					cmd.Context(),
					client.List{
						Query:   q,
						Filter:  map[string][]string{"account": {account}, "contract": {contract}},
						Sort:    l.sort(),
						Page:    l.page,
						PerPage: l.perPage,
					},
				)
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			var cells [][]view.Cell
			for _, s := range page.Seats {
				expires := ""
				if s.Expires != nil {
					expires = s.Expires.Format(time.RFC3339)
				}
				rows = append(
					rows,
					[]string{
						s.Host,
						s.Account,
						s.Contract,
						s.Taken.Format(time.RFC3339),
						s.By,
						fmt.Sprint(s.Automatic),
						fmt.Sprint(s.Needed),
						s.Kind,
						expires,
						s.Renewal,
						s.Why,
					},
				)
				cells = append(
					cells,
					[]view.Cell{
						view.T(s.Host),
						view.T(s.Contract),
						a.accessCell(s),
						view.T(s.By),
						view.T(view.Ago(time.Since(s.Taken))),
						view.T(s.Why),
					},
				)
			}
			if done, err := a.csv(
				[]string{"host", "account", "contract", "taken", "by", "automatic", "needed", "kind", "expires", "renewal", "why"},
				rows,
			); done {
				return err
			}
			if len(cells) == 0 {
				a.none(q+account+contract != "", "seat",
					"No seat is taken. A rollout takes those that the policy wants taken; lantern seat take HOST takes one by hand.")
				return nil
			}
			a.out.Table(
				[]view.Column{
					{Name: "HOST"},
					{Name: "CONTRACT"},
					{Name: "ACCESS"},
					{Name: "BY"},
					{Name: "TAKEN"},
					{Name: "WHY THIS ONE", Gives: true},
				},
				cells,
			)
			l.more(a, len(page.Seats), page.Total)
			return nil
		},
	}
	l.add(cmd, turned("host", "contract", "taken", "expires")...)
	cmd.Flags().StringVar(&q, "match", "", "part of the host's name or the contract's number")
	cmd.Flags().StringVar(&account, "account", "", "only seats in this account")
	cmd.Flags().StringVar(&contract, "contract", "", "only seats in this contract")
	return cmd
}

// left says how long something lasts, in one unit.
func left(d time.Duration) string {
	return strings.TrimSuffix(view.Ago(d), " ago")
}

// accessCell says how the access of a seat stands.
func (a *app) accessCell(s api.Seat) view.Cell {
	kind := map[string]string{"basic": "login", "client-certificate": "certificate", "token-url": "token"}[s.Kind]
	switch {
	case s.Leaving:
		return view.Cell{Text: "→ leaving, the desk is away", Style: view.Yellow}
	case s.Renewal != "":
		return view.Cell{Text: "✗ " + s.Renewal, Style: view.Red}
	case s.Expires == nil:
		return view.T("· not fetched yet")
	case s.Expires.Before(time.Now()):
		return view.Cell{Text: "✗ " + kind + " ended", Style: view.Red}
	}
	return view.Cell{Text: fmt.Sprintf("= %s, %s left", kind, left(time.Until(*s.Expires))), Style: view.Green}
}
