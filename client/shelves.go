package client

import (
	"context"
	"net/http"
	"net/url"

	"patientlantern.example/lantern/api"
)

// Shelves lists the folders that the service serves to hosts.
func (c *Client) Shelves(ctx context.Context) (api.ShelfList, error) {
	return get[api.ShelfList](ctx, c, "/api/shelves", nil)
}

// AddShelf has the service serve a folder to hosts.
func (c *Client) AddShelf(ctx context.Context, o api.ShelfOrder) (api.Shelf, error) {
	return send[api.Shelf](ctx, c, http.MethodPost, "/api/shelves", o)
}

// RemoveShelf has the service serve a folder no more.
func (c *Client) RemoveShelf(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/shelves/"+url.PathEscape(name), nil, nil)
}
