package client

import (
	"context"
	"net/http"
	"net/url"

	"patientlantern.example/lantern/api"
)

// AddAccount gives the service an account at a vendor's desk.
func (c *Client) AddAccount(ctx context.Context, o api.AccountOrder) (api.Account, error) {
	return send[api.Account](ctx, c, http.MethodPost, "/api/accounts", o)
}

// Accounts lists the accounts at vendors' desks.
func (c *Client) Accounts(ctx context.Context) (api.AccountList, error) {
	return get[api.AccountList](ctx, c, "/api/accounts", nil)
}

// RemoveAccount forgets an account that has no seats.
func (c *Client) RemoveAccount(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/accounts/"+url.PathEscape(name), nil, nil)
}

// Contracts returns a page of contracts.
func (c *Client) Contracts(ctx context.Context, l List) (api.ContractPage, error) {
	return get[api.ContractPage](ctx, c, "/api/contracts", l.values())
}

// Seats returns a page of seats.
func (c *Client) Seats(ctx context.Context, l List) (api.SeatPage, error) {
	return get[api.SeatPage](ctx, c, "/api/seats", l.values())
}

// TakeSeat takes a seat for a host.
func (c *Client) TakeSeat(ctx context.Context, o api.SeatOrder) (api.Seat, error) {
	return send[api.Seat](ctx, c, http.MethodPost, "/api/seats", o)
}

// ReleaseSeat gives a host's seat back.
func (c *Client) ReleaseSeat(ctx context.Context, host, account string) (api.Seat, error) {
	return send[api.Seat](ctx, c, http.MethodDelete, "/api/seats/"+url.PathEscape(host)+"/"+url.PathEscape(account), nil)
}

// Channels returns a page of channels.
func (c *Client) Channels(ctx context.Context, l List) (api.ChannelPage, error) {
	return get[api.ChannelPage](ctx, c, "/api/channels", l.values())
}

// Outlook returns what contracts and seats are coming to.
func (c *Client) Outlook(ctx context.Context) (api.Outlook, error) {
	return get[api.Outlook](ctx, c, "/api/outlook", nil)
}

// RotateSecrets encrypts every secret with a new key, and tells how many there were.
func (c *Client) RotateSecrets(ctx context.Context) (int, error) {
	out, err := send[api.Rotated](ctx, c, http.MethodPost, "/api/secrets/rotate", nil)
	return out.Secrets, err
}
