package contracts

import (
	"context"
	"fmt"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// AccountIn is an account as it is sent.
type AccountIn struct {
	Body api.AccountOrder
}

// AddAccount keeps an account, and asks its desk at once: a wrong login is said now
// and not in the night.
func (s *Contracts) AddAccount(ctx context.Context, in *AccountIn) (*api.Account, error) {
	o := in.Body
	if !strings.HasPrefix(o.Desk, "https://") && !strings.HasPrefix(o.Desk, "http://") {
		return nil, refusal.Wrong("the address of the desk must begin with https:// (or http:// on this machine)")
	}
	if strings.Contains(o.Desk, "@") {
		return nil, refusal.Wrong("no login stands in the address of the desk: give it with login and password")
	}
	row := store.Account{
		Name:    o.Name,
		Title:   o.Title,
		Desk:    strings.TrimRight(o.Desk, "/"),
		Author:  identity.Operator(ctx).Name,
		Created: s.Now().UTC(),
	}
	if err := s.Keeper.AddAccount(ctx, row, o.Login, o.Password); err != nil {
		return nil, s.refuseSeat(err)
	}
	s.Log.Info("account added", "name", o.Name, "desk", row.Desk, "author", row.Author)
	out, there := s.Keeper.Describe(o.Name)
	if !there {
		return nil, refusal.Conflict(fmt.Sprintf("somebody has removed the account %s at this moment", o.Name))
	}
	return &out, nil
}

// ListAccounts lists accounts at vendors' desks.
func (s *Contracts) ListAccounts(context.Context, *struct{}) (*api.AccountList, error) {
	out := api.AccountList{Accounts: []api.Account{}}
	for _, n := range s.Keeper.Names() {
		if a, there := s.Keeper.Describe(n); there {
			out.Accounts = append(out.Accounts, a)
		}
	}
	out.Total = len(out.Accounts)
	return &out, nil
}

// AccountPath names an account.
type AccountPath struct {
	Name string `path:"name"`
}

// RemoveAccount forgets an account that has no seats.
func (s *Contracts) RemoveAccount(ctx context.Context, in *AccountPath) error {
	a, there := s.Keeper.Describe(in.Name)
	if !there {
		return refusal.NotFound(fmt.Sprintf("there is no account %q", in.Name))
	}
	if n := a.Seats; n > 0 {
		return refusal.Conflict(
			fmt.Sprintf("%d seats are taken in the account %s; release them first, or the vendor goes on counting them", n, in.Name),
		)
	}
	if err := s.Keeper.RemoveAccount(ctx, in.Name); err != nil {
		return err
	}
	s.Log.Info("account removed", "name", in.Name, "author", identity.Operator(ctx).Name)
	return nil
}

// RotateSecrets encrypts all secrets with a new key.
func (s *Contracts) RotateSecrets(ctx context.Context, _ *struct{}) (*api.Rotated, error) {
	n, err := s.Keeper.Rotate(ctx)
	if err != nil {
		return nil, refusal.Conflict(err.Error())
	}
	s.Log.Info("secrets encrypted with a new key", "secrets", n, "author", identity.Operator(ctx).Name)
	return &api.Rotated{Secrets: n}, nil
}
