package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// AccountIn is an account as it is sent.
type AccountIn struct {
	Body api.AccountOrder
}

// AddAccount keeps an account, and asks its desk at once: a wrong login is said now
// and not in the night.
func (s *Service) AddAccount(ctx context.Context, in *AccountIn) (*api.Account, error) {
	o := in.Body
	if !strings.HasPrefix(o.Desk, "https://") && !strings.HasPrefix(o.Desk, "http://") {
		return nil, refusal.Wrong("the address of the desk must begin with https:// (or http:// on this machine)")
	}
	if strings.Contains(o.Desk, "@") {
		return nil, refusal.Wrong("no login stands in the address of the desk: give it with login and password")
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
	a := &account{
		Account: store.Account{
			Name:    o.Name,
			Title:   o.Title,
			Desk:    strings.TrimRight(o.Desk, "/"),
			Login:   sealed,
			Author:  operatorFrom(ctx).Name,
			Created: s.now().UTC(),
		},
	}
	if err := s.keeper.addAccount(ctx, a); err != nil {
		return nil, s.refuseSeat(err)
	}
	s.log.Info("account added", "name", o.Name, "desk", a.Desk, "author", a.Author)
	out, there := s.accountOf(o.Name)
	if !there {
		return nil, refusal.Conflict(fmt.Sprintf("somebody has removed the account %s at this moment", o.Name))
	}
	return &out, nil
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

// ListAccounts lists accounts at vendors' desks.
func (s *Service) ListAccounts(context.Context, *struct{}) (*api.AccountList, error) {
	out := api.AccountList{Accounts: []api.Account{}}
	for _, n := range s.keeper.names() {
		if a, there := s.accountOf(n); there {
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
func (s *Service) RemoveAccount(ctx context.Context, in *AccountPath) error {
	a, there := s.accountOf(in.Name)
	if !there {
		return refusal.NotFound(fmt.Sprintf("there is no account %q", in.Name))
	}
	if n := a.Seats; n > 0 {
		return refusal.Conflict(
			fmt.Sprintf("%d seats are taken in the account %s; release them first, or the vendor goes on counting them", n, in.Name),
		)
	}
	if err := s.keeper.removeAccount(ctx, in.Name); err != nil {
		return s.refuse(err)
	}
	s.log.Info("account removed", "name", in.Name, "author", operatorFrom(ctx).Name)
	return nil
}

// RotateSecrets encrypts all secrets with a new key.
func (s *Service) RotateSecrets(ctx context.Context, _ *struct{}) (*api.Rotated, error) {
	n, err := s.keeper.rotate(ctx)
	if err != nil {
		return nil, refusal.Conflict(err.Error())
	}
	s.log.Info("secrets encrypted with a new key", "secrets", n, "author", operatorFrom(ctx).Name)
	return &api.Rotated{Secrets: n}, nil
}
