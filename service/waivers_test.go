package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

const ownPin = "Package: *\nPin: origin elsewhere.example\nPin-Priority: 1001\n"

// A waiver holds for the finding that it is about, until its end, and for nothing else.
func TestAWaiverEndsAndIsAboutOneFinding(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	one, two := r.Up("gw-01"), r.Up("gw-02")
	r.Publish()
	require.Equal(t, 2, r.Carry().Counts["done"])
	for _, root := range []string{one, two} {
		put(t, root, "etc/apt/preferences.d/own", ownPin)
	}
	const pin = "pin-changed fault /etc/apt/preferences.d/own"
	found(t, r, "gw-01", pin)
	found(t, r, "gw-02", pin)
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	order := api.WaiverOrder{Host: "gw-01", Finding: api.Difference(d.Drift[0].Finding), Because: "a trial", Ends: r.Clock.Now().Add(30 * 24 * time.Hour)}
	for _, c := range []struct {
		says string
		edit func(o *api.WaiverOrder)
	}{
		{"a waiver ends at a moment to come", func(o *api.WaiverOrder) { o.Ends = r.Clock.Now().Add(-time.Hour) }},
		{"a waiver ends within a year", func(o *api.WaiverOrder) { o.Ends = r.Clock.Now().AddDate(2, 0, 0) }},
		{"no host has that finding", func(o *api.WaiverOrder) { o.Finding.Have = "another" }},
		{"there is no host", func(o *api.WaiverOrder) { o.Host = "gw-99" }},
	} {
		bad := order
		c.edit(&bad)
		_, err := r.Operator.Waive(ctx, bad)
		require.ErrorContains(t, err, c.says)
	}
	_, err = r.Operator.Waive(ctx, order)
	require.NoError(t, err)
	found(t, r, "gw-01")
	found(t, r, "gw-02", pin)
	page, err := r.Operator.Drift(ctx, client.List{})
	require.NoError(t, err)
	assert.Equal(t, 1, page.Total)
	assert.Equal(t, 1, page.Standing.Waived)

	// Everywhere, then the finding changes on one host.
	order.Host = ""
	w, err := r.Operator.Waive(ctx, order)
	require.NoError(t, err)
	assert.Equal(t, 2, w.Hosts)
	found(t, r, "gw-02")
	put(t, two, "etc/apt/preferences.d/own", "Package: *\nPin: origin elsewhere.example\nPin-Priority: 1002\n")
	found(t, r, "gw-02", pin)
	put(t, two, "etc/apt/preferences.d/own", ownPin)
	found(t, r, "gw-02")

	r.Clock.Forward(31 * 24 * time.Hour)
	found(t, r, "gw-01", pin)
	found(t, r, "gw-02", pin)
	left, err := r.Operator.Waivers(ctx, false, client.List{})
	require.NoError(t, err)
	assert.Zero(t, left.Total)
	over, err := r.Operator.Waivers(ctx, true, client.List{})
	require.NoError(t, err)
	assert.Equal(t, 2, over.Total)
}

// The same finding on many hosts is one row, and hosts that are alike are one cohort.
func TestTheSameOnManyHostsIsOneRow(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	roots := map[string]string{}
	for _, n := range []string{"gw-01", "gw-02", "desk-1"} {
		roots[n] = r.Up(n)
	}
	r.Publish()
	require.Equal(t, 3, r.Carry().Counts["done"])
	put(t, roots["gw-01"], "etc/apt/preferences.d/own", ownPin)
	found(t, r, "gw-01", "pin-changed fault /etc/apt/preferences.d/own")
	put(t, roots["desk-1"], "etc/apt/preferences.d/own", ownPin)
	found(t, r, "desk-1", "pin-changed fault /etc/apt/preferences.d/own")
	page, err := r.Operator.GroupedDrift(ctx, client.List{Filter: map[string][]string{"class": {"pin-changed"}}})
	require.NoError(t, err)
	require.Len(t, page.Groups, 1)
	g := page.Groups[0]
	assert.Equal(t, []any{2, "gw-01.brinewick.test", []string{"desk-1.brinewick.test", "gw-01.brinewick.test"}}, []any{g.Hosts, g.First, g.Names})
	assert.Equal(t, []int{1, 2, 2}, []int{page.Total, page.Findings, page.Hosts})
	assert.True(t, g.Last.After(g.Since))
	alike, err := r.Operator.Cohorts(ctx, "skerry", true, client.List{})
	require.NoError(t, err)
	assert.Equal(t, []int{3, 3}, []int{alike.Total, alike.Hosts})
	assert.Empty(t, alike.Cohorts[0].Like)
	assert.Equal(t, alike.Cohorts[0].Survey, alike.Cohorts[1].Like)
}
