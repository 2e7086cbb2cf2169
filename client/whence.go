package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"patientlantern.example/lantern/api"
)

// Whence tells from where, and in which version, hosts would get a package. to are hosts,
// ranges and groups; none means all.
func (c *Client) Whence(ctx context.Context, name string, l List) (api.Whence, error) {
	v := l.values()
	v.Set("package", name)
	return get[api.Whence](ctx, c, "/api/whence", v)
}

// Groups lists the groups of the newest revision, a thousand at most.
func (c *Client) Groups(ctx context.Context, l List) (api.GroupPage, error) {
	return get[api.GroupPage](ctx, c, "/api/groups", l.values())
}

// Dates lists what falls due, the next first.
func (c *Client) Dates(ctx context.Context, l List) (api.DatePage, error) {
	return get[api.DatePage](ctx, c, "/api/dates", l.values())
}

// Calendar is what falls due as a calendar (iCalendar, RFC 5545).
func (c *Client) Calendar(ctx context.Context) ([]byte, error) {
	var out []byte
	return out, c.call(ctx, http.MethodGet, "/api/calendar", nil, &out)
}

// LabelHosts gives labels to many hosts, or says what would come of it.
func (c *Client) LabelHosts(ctx context.Context, o api.LabelOrder) (api.Labelled, error) {
	return send[api.Labelled](ctx, c, http.MethodPost, "/api/labels", o)
}

// Days tells how the fleet stood, day by day, the newest first.
func (c *Client) Days(ctx context.Context, days int, l List) (api.DayPage, error) {
	q := l.values()
	q.Set("days", strconv.Itoa(days))
	return get[api.DayPage](ctx, c, "/api/days", q)
}

// Between tells what of a host is another at one moment than at an earlier one; now, where to
// is zero.
func (c *Client) Between(ctx context.Context, name string, from, to time.Time, l List) (api.BetweenPage, error) {
	q := l.values()
	q.Set("from", from.UTC().Format(time.RFC3339Nano))
	if !to.IsZero() {
		q.Set("to", to.UTC().Format(time.RFC3339Nano))
	}
	return get[api.BetweenPage](ctx, c, "/api/hosts/"+url.PathEscape(name)+"/between", q)
}

// Settings are what the service runs with.
func (c *Client) Settings(ctx context.Context, l List) (api.SettingPage, error) {
	return get[api.SettingPage](ctx, c, "/api/settings", l.values())
}

// Adoption is what has to be added to the newest policy so that a source which it does not list is
// as it says. Nothing is changed.
func (c *Client) Adoption(ctx context.Context, o api.AdoptionOrder) (api.Adoption, error) {
	return send[api.Adoption](ctx, c, http.MethodPost, "/api/policy/adoption", o)
}

// Retirement is what the files of the newest policy are without a key. Nothing is changed.
func (c *Client) Retirement(ctx context.Context, key string) (api.Retirement, error) {
	return send[api.Retirement](ctx, c, http.MethodPost, "/api/policy/retirement", api.RetirementOrder{Key: key})
}
