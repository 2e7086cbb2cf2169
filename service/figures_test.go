package service_test

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// Every place that counts hosts tells the same of them, and beside those that are well stand those of which nothing is known.
func TestAllFiguresAreOfTheSameFleet(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	waived, pinned := r.Up("gw-01"), r.Up("gw-02")
	r.Up("gw-03")
	_, h := r.Enrol("gw-04")
	stop := r.Start(h)
	r.Surveyed("gw-04")
	r.Publish()
	require.Equal(t, 4, r.Carry().Counts["done"])
	r.Enrol("gw-06") // has joined, and sends nothing
	for _, root := range []string{waived, pinned} {
		put(t, root, "etc/apt/preferences.d/own", ownPin)
	}
	found(t, r, "gw-01", "pin-changed fault /etc/apt/preferences.d/own")
	found(t, r, "gw-02", "pin-changed fault /etc/apt/preferences.d/own")
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	_, err = r.Operator.Waive(ctx, api.WaiverOrder{
		Host: "gw-01", Finding: api.Difference(d.Drift[0].Finding), Because: "a trial", Ends: r.Clock.Now().Add(30 * 24 * time.Hour),
	})
	require.NoError(t, err)
	found(t, r, "gw-01")
	stop()
	r.Until("it is silent", func() bool {
		d, err := r.Operator.Host(ctx, "gw-04")
		return err == nil && d.State == api.StateSilent
	})

	want := map[string]int{api.StateSteady: 2, api.StateDrifted: 1, api.StateSilent: 1, api.StateNew: 1, api.StateFailed: 0, api.StateChanging: 0}
	stands := api.Standing{Hosts: 5, Steady: 2, Drifted: 1, Silent: 1, NoSurvey: 1, Waived: 1}
	hosts, err := r.Operator.Hosts(ctx, client.List{PerPage: 100})
	require.NoError(t, err)
	assert.Equal(t, want, hosts.States)
	assert.Equal(t, stands, hosts.Standing)
	for i := range hosts.Hosts {
		if hosts.Hosts[i].Name == "gw-01" {
			assert.Contains(t, hosts.Hosts[i].Detail, "1 fault waived until "+r.Clock.Now().Add(30*24*time.Hour).Format(time.DateOnly))
		}
	}
	metrics := scraped(t, r)
	for state, n := range want {
		page, err := r.Operator.Hosts(ctx, client.List{Filter: map[string][]string{"state": {state}}})
		require.NoError(t, err)
		assert.Equal(t, n, page.Total, state)
		assert.Contains(t, metrics, fmt.Sprintf("lantern_hosts{state=%q} %d\n", state, n))
	}
	for why, n := range map[string]int{"silent": 1, "no-survey": 1, "failed": 0, "changing": 0, "unread": 0, "older-revision": 0} {
		assert.Contains(t, metrics, fmt.Sprintf("lantern_hosts_not_known{why=%q} %d\n", why, n))
	}
	drift, err := r.Operator.Drift(ctx, client.List{})
	require.NoError(t, err)
	assert.Equal(t, stands, drift.Standing)
	assert.Equal(t, 1, drift.Total)
	groups, err := r.Operator.Groups(ctx, client.List{Query: "gateways"})
	require.NoError(t, err)
	require.Len(t, groups.Groups, 1)
	g := groups.Groups[0]
	inGroup := stands
	inGroup.Hosts, inGroup.NoSurvey = 4, 0 // of that one it is not known in which groups it is
	assert.Equal(t, 1, groups.Unknown)
	assert.Equal(t, inGroup, g.Standing)
	assert.Equal(t, g.Hosts, g.Standing.Steady+g.Drifted+g.Standing.NotKnown(), "each host is counted once")
	cohorts, err := r.Operator.Cohorts(ctx, "", false, client.List{PerPage: 100})
	require.NoError(t, err)
	silent := 0
	for _, c := range cohorts.Cohorts {
		silent += c.Silent
	}
	assert.Equal(t, stands.Hosts, cohorts.Hosts)
	assert.Equal(t, 1, silent)

	channels, err := r.Operator.Channels(ctx, client.List{})
	require.NoError(t, err)
	assert.Equal(t, 1, channels.Unknown)

	// What a silent host said last is told, and that it is that.
	keys, err := r.Operator.Keys(ctx, false, client.List{})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{keys.Unknown, keys.Silent})
	key, err := r.Operator.Key(ctx, "saltmarsh-2026", false, client.List{})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{key.Unknown, key.Silent})
	assert.Equal(t, []string{"gw-04.brinewick.test"}, key.Quiet)
	places, err := r.Operator.Repositories(ctx, client.List{})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{places.Unknown, places.Silent})
	whence, err := r.Operator.Whence(ctx, "saltmarsh-agent", client.List{})
	require.NoError(t, err)
	assert.Equal(t, []int{4, 1, 1}, []int{whence.Hosts, whence.Unknown, whence.Silent})

	// Those that a change would reach are counted as well.
	files := r.Policy()
	require.Contains(t, string(files["policy.yaml"]), "suites: [stable]")
	files["policy.yaml"] = []byte(strings.Replace(string(files["policy.yaml"]), "suites: [stable]", "suites: [testing]", 1))
	preview, err := r.Operator.PreviewFolder(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 4}, []int{preview.Silent, preview.Changing})
	assert.Equal(t, []string{"gw-04.brinewick.test"}, preview.Quiet)
	publish(t, r, files)
	tried, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{Try: true})
	require.NoError(t, err)
	assert.Equal(t, 1, tried.Silent)
	assert.Equal(t, []string{"gw-04.brinewick.test"}, tried.Quiet)
}

// scraped is what the service tells of itself in numbers.
func scraped(t *testing.T, r *rig.Rig) string {
	t.Helper()
	resp, err := http.Get(r.Server.URL + "/metrics")
	require.NoError(t, err)
	defer resp.Body.Close()
	text := new(strings.Builder)
	_, err = io.Copy(text, resp.Body)
	require.NoError(t, err)
	return text.String()
}
