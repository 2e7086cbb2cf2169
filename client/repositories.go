package client

import (
	"context"
	"net/http"
	"net/url"

	"patientlantern.example/lantern/api"
)

// Repositories returns a page of the places that the fleet gets packages from.
func (c *Client) Repositories(ctx context.Context, l List) (api.RepositoryPage, error) {
	return get[api.RepositoryPage](ctx, c, "/api/repositories", l.values())
}

// Repository returns one of them, with a page of its hosts.
func (c *Client) Repository(ctx context.Context, key string, l List) (api.Repository, error) {
	return get[api.Repository](ctx, c, "/api/repositories/"+url.PathEscape(key), l.values())
}

// Probe has the service look at places now: which are keys, addresses or names of
// repositories, and none of them means all. What takes longer is counted as pending.
func (c *Client) Probe(ctx context.Context, which []string) (api.RepositoryPage, error) {
	return send[api.RepositoryPage](ctx, c, http.MethodPost, "/api/repositories/probe", api.ProbeOrder{Which: which})
}
