package service_test

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/trust"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
	"patientlantern.example/lantern/store"
)

// places are the places of a repository of the policy, or of all.
func places(t *testing.T, r *rig.Rig, l client.List) api.RepositoryPage {
	t.Helper()
	l.PerPage = 500
	page, err := r.Operator.Repositories(ctx, l)
	require.NoError(t, err)
	return page
}

func probe(t *testing.T, r *rig.Rig, which ...string) map[string]api.Repository {
	t.Helper()
	page, err := r.Operator.Probe(ctx, which)
	require.NoError(t, err)
	out := map[string]api.Repository{}
	for _, p := range page.Repositories {
		name := p.Address
		if len(p.Names) > 0 {
			name = p.Names[0]
		}
		out[name+" "+p.Family+" "+p.Suite] = p
	}
	return out
}

// The service looks for itself at what hosts use, and says nothing of what it did not look at.
func TestTheServiceLooksUpstream(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	for _, n := range []string{"gw-01", "desk-1", "arc-2", "chart-2", "model-2", "desk-3"} {
		r.Up(n)
	}
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	page := places(t, r, client.List{})
	require.Positive(t, page.Total)
	assert.Equal(t, page.Total, page.States[api.PlaceUnknown], "nothing was looked at yet, and nothing is called good")

	got := probe(t, r)
	families := map[string]bool{}
	for name, p := range got {
		families[p.Family] = true
		assert.NotNil(t, p.Look.Checked, name)
		switch p.Look.State {
		case api.PlaceGood:
			assert.NotEmpty(t, p.Look.Found.Signer, name)
			assert.Empty(t, p.Look.Why, name)
		default:
			assert.NotEmpty(t, p.Look.Why, name)
		}
	}
	assert.Len(t, families, 5)
	salt := got["saltmarsh deb stable"]
	assert.Equal(t, api.PlaceGood, salt.Look.State, salt.Look.Why)
	assert.Positive(t, salt.Look.Packages)
	require.NotEmpty(t, salt.Witnesses)
	assert.True(t, salt.Witnesses[0].OK, salt.Witnesses[0])
	for _, k := range salt.Keys {
		assert.Equal(t, k.Policy == "saltmarsh-2026", k.Signs, k.Policy)
	}

	// A fault upstream is seen before any host stumbles over it, and what was known stays.
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.FaultWrongKey))
	salt = probe(t, r, "saltmarsh")["saltmarsh deb stable"]
	assert.Equal(t, []any{api.PlaceTrouble, cause.UnknownKey}, []any{salt.Look.State, salt.Look.Kind})
	assert.Positive(t, salt.Look.Packages, "what was offered when it was believed last")
	assert.NotEmpty(t, salt.Look.By)
	one, err := r.Operator.Repository(ctx, salt.Key, client.List{})
	require.NoError(t, err)
	assert.Equal(t, one.Hosts, one.OnTotal)
	page = places(t, r, client.List{Filter: map[string][]string{"state": {api.PlaceTrouble}}})
	assert.Equal(t, page.States[api.PlaceTrouble], page.Total)
	r.Restart()
	salt, err = r.Operator.Repository(ctx, salt.Key, client.List{})
	require.NoError(t, err)
	assert.Equal(t, api.PlaceTrouble, salt.Look.State, "the service remembers it")

	// Older metadata than was seen is a replay; and the other key of the vendor is named.
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", ""))
	require.NoError(t, r.Upstreams.Resign("packages.saltmarsh.example", "saltmarsh-2029"))
	salt = probe(t, r, "saltmarsh")["saltmarsh deb stable"]
	require.Equal(t, api.PlaceGood, salt.Look.State, salt.Look.Why)
	for _, k := range salt.Keys {
		assert.Equal(t, k.Policy == "saltmarsh-2029", k.Signs, k.Policy)
	}
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.FaultExpired))
	for name, p := range probe(t, r, "saltmarsh") {
		if p.Family == "rpm" || p.Family == "zypp" {
			assert.Equal(t, cause.Replayed, p.Look.Kind, name)
		} else {
			assert.Equal(t, cause.Expired, p.Look.Kind, name)
		}
	}
	_, err = r.Operator.Probe(ctx, []string{"nowhere"})
	assert.ErrorContains(t, err, `no host gets packages from "nowhere"`)
}

// What only entitled hosts may have is looked at as they do it.
func TestLicensedPlacesAreLookedAtAsHostsDo(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	for _, n := range []string{"gw-01", "arc-1", "chart-1", "model-1"} {
		r.Up(n)
	}
	r.Publish()
	r.Carry()
	for name, p := range probe(t, r) {
		if len(p.Contracts) == 0 {
			continue
		}
		assert.Equal(t, api.PlaceGood, p.Look.State, "%s %s: %s", name, p.Address, p.Look.Why)
	}
	assert.NotContains(t, r.Log.String(), standin.DeskPassword)
}

// By itself the service looks now and then, and a look that ends otherwise is told.
func TestLooksAreToldWhenTheyChange(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	r.Carry()
	probe(t, r)
	seq := func() int {
		list, err := r.Service.Store.Journal(ctx, store.JournalQuery{Kind: "repository", Limit: 10_000})
		require.NoError(t, err)
		return len(list)
	}
	before := seq()
	require.Positive(t, before)
	r.Clock.Forward(time.Minute)
	probe(t, r)
	assert.Equal(t, before, seq(), "the same as before is not told again")
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.Fault401))
	probe(t, r)
	assert.Equal(t, before+1, seq())
}

// A folder that is only looked at sends the service nowhere: a reader could have it ask any
// address with a host's access. Nor does it matter that nothing is published yet.
func TestALookAtAFolderAsksNobody(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	r.Up("gw-01")
	var asked atomic.Int64
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		http.NotFound(w, nil)
	}))
	defer srv.Close()
	files := r.Policy()
	for name, text := range files {
		files[name] = bytes.ReplaceAll(text, []byte(r.Upstream+"/packages.saltmarsh.example"), []byte(srv.URL))
	}
	_, err := r.Operator.PreviewFolder(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	page := places(t, r, client.List{})
	for _, p := range page.Repositories {
		assert.NotContains(t, p.Address, srv.URL)
	}
	probe(t, r)
	assert.Zero(t, asked.Load(), "nobody has approved of that address")

	publish(t, r, files)
	_, err = r.Operator.Preview(ctx, 0)
	require.NoError(t, err)
	r.Until("what is published is looked at", func() bool { return asked.Load() > 0 })
}

// What a withdrawn key signs is not good, though hosts believe it still; and the key says so.
func TestAWithdrawnKeyVouchesForNothing(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	require.Equal(t, api.PlaceGood, probe(t, r, "saltmarsh")["saltmarsh deb stable"].Look.State)
	files := r.Policy()
	files["withdrawn.yaml"] = []byte(
		"format: patient-lantern/1\nwithdrawn: { saltmarsh-2026: { because: they lost it }, saltmarsh-2029: { because: as well } }\n",
	)
	publish(t, r, files)
	salt := probe(t, r, "saltmarsh")["saltmarsh deb stable"]
	assert.Equal(t, []any{api.PlaceTrouble, cause.UnknownKey}, []any{salt.Look.State, salt.Look.Kind}, salt.Look.Why)
	d, err := r.Operator.Key(ctx, "saltmarsh-2026", false, client.List{})
	require.NoError(t, err)
	assert.Equal(t, []any{trust.Withdrawn, "they lost it", 1}, []any{d.State, d.Withdrawn, d.Hosts})
	require.Equal(t, 1, r.Carry().Counts["done"])
	d, err = r.Operator.Key(ctx, "saltmarsh-2026", false, client.List{})
	require.NoError(t, err)
	assert.Zero(t, d.Hosts)
}
