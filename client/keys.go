package client

import (
	"context"
	"net/url"

	"patientlantern.example/lantern/api"
)

// Keys returns a page of the signing keys that the fleet believes. idle asks also for those
// that nothing uses.
func (c *Client) Keys(ctx context.Context, idle bool, l List) (api.KeyPage, error) {
	v := l.values()
	if idle {
		v.Set("idle", "true")
	}
	return get[api.KeyPage](ctx, c, "/api/keys", v)
}

// Key returns a signing key, and a page of the hosts that believe it.
func (c *Client) Key(ctx context.Context, key string, idle bool, l List) (api.KeyDetail, error) {
	v := l.values()
	if idle {
		v.Set("idle", "true")
	}
	return get[api.KeyDetail](ctx, c, "/api/keys/"+url.PathEscape(key), v)
}
