package client

import (
	"context"

	"patientlantern.example/lantern/api"
)

// Whence tells from where, and in which version, hosts would get a package. to are hosts,
// ranges and groups; none means all.
func (c *Client) Whence(ctx context.Context, name string, to []string, l List) (api.Whence, error) {
	v := l.values()
	v.Set("package", name)
	for _, t := range to {
		v.Add("to", t)
	}
	return get[api.Whence](ctx, c, "/api/whence", v)
}
