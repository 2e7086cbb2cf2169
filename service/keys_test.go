package service_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/trust"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// From "which hosts trust this key?" to the answer in one call.
func TestWhoBelievesAKey(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	root := r.Up("gw-02")
	page, err := r.Operator.Keys(ctx, false, client.List{})
	require.NoError(t, err)
	require.Len(t, page.Keys, 1, "the archive's, which both trust for everything")
	assert.Equal(t, []any{trust.Unknown, 2, 2, int64(0)}, []any{page.Keys[0].State, page.Keys[0].Hosts, page.Keys[0].Wide, page.Revision})

	publish(t, r, r.Policy())
	require.Equal(t, 2, r.Carry().Counts["done"])
	foreign, err := standin.NewKey("elsewhere", "Elsewhere <x@elsewhere.example>", time.Now().Add(-time.Hour), 1)
	require.NoError(t, err)
	ring, err := foreign.Binary()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/trusted.gpg.d/own.gpg"), ring, 0o644))
	r.Until("the host has told of the key", func() bool {
		page, err = r.Operator.Keys(ctx, false, client.List{Query: "elsewhere"})
		return err == nil && page.Total == 1
	})
	assert.Equal(t, []any{1, 1, ""}, []any{page.Keys[0].Hosts, page.Keys[0].Wide, page.Keys[0].Policy})

	d, err := r.Operator.Key(ctx, foreign.Fingerprint(), false, client.List{})
	require.NoError(t, err)
	require.Len(t, d.On, 1)
	assert.Equal(t, []any{"gw-02.brinewick.test", "any", []string{"/etc/apt/trusted.gpg.d/own.gpg"}}, []any{d.On[0].Host, d.On[0].Scope, d.On[0].Where})
	d, err = r.Operator.Key(ctx, "saltmarsh-2026", false, client.List{})
	require.NoError(t, err)
	assert.Equal(t, 2, d.Total)
	assert.Equal(t, "named", d.On[0].Scope)
	assert.Equal(t, []string{"/etc/apt/sources.list.d/saltmarsh.sources:5"}, d.On[0].Sources)
	assert.Equal(t, "saltmarsh-2029 is on every host that believes this one; which of them the vendor signs with was not seen", d.Replacement)
	for q, want := range map[string]int{"": 2, "gw-02": 1, "SKERRY 12": 2, "sources.list.d": 2, "trusted.gpg.d": 0} {
		d, err = r.Operator.Key(ctx, "saltmarsh-2026", false, client.List{Query: q, Filter: map[string][]string{"scope": {"named"}}})
		require.NoError(t, err)
		assert.Equal(t, want, d.Total, q)
		d, err = r.Operator.Key(ctx, "saltmarsh-2026", false, client.List{Query: q, Filter: map[string][]string{"scope": {"any"}}})
		require.NoError(t, err)
		assert.Zero(t, d.Total, "no host believes it for every source")
	}
	_, err = r.Operator.Probe(ctx, nil)
	require.NoError(t, err)
	d, err = r.Operator.Key(ctx, "saltmarsh-2026", false, client.List{})
	require.NoError(t, err)
	assert.Equal(t, "saltmarsh-2029 is on every host that believes this one; the vendor still signs with this one (seen at 1 place)", d.Replacement)
	assert.False(t, d.MayGo)
	require.NoError(t, r.Upstreams.Resign("packages.saltmarsh.example", "saltmarsh-2029"))
	_, err = r.Operator.Probe(ctx, nil)
	require.NoError(t, err)
	d, err = r.Operator.Key(ctx, "saltmarsh-2026", false, client.List{})
	require.NoError(t, err)
	assert.Equal(t, "saltmarsh-2029 is on every host that believes this one; the vendor signs with it (seen at 1 place): this one can go", d.Replacement)
	assert.True(t, d.MayGo)
	without, err := r.Operator.Retirement(ctx, "saltmarsh-2026")
	require.NoError(t, err)
	assert.Equal(t, int64(1), without.Revision)
	assert.Equal(t, []string{"keys/saltmarsh-2026.asc"}, without.Gone)
	assert.NotContains(t, string(without.Files["keys.yaml"]), "succeeds")
	_, err = r.Operator.Retirement(ctx, "gannet-2025")
	assert.ErrorContains(t, err, "it is the only key of a repository: gannet-licensed at policy.yaml:34:3")
	_, err = r.Operator.Retirement(ctx, "saltmrsh-2026")
	assert.ErrorContains(t, err, `there is no such key "saltmrsh-2026" in the folder; did you mean "saltmarsh-2026"?`)
	page, err = r.Operator.Keys(ctx, false, client.List{Filter: map[string][]string{"state": {trust.Unknown}}, Sort: "hosts", PerPage: 1})
	require.NoError(t, err)
	assert.Equal(t, []any{2, 1}, []any{page.Total, len(page.Keys)}, "the archive's and the foreign one")
	assert.Equal(t, 2, page.States[trust.Unknown], "counted whatever page is shown")
	assert.Positive(t, page.States[trust.Good], "and whatever state is asked for")
	_, err = r.Operator.Key(ctx, "nobody-2026", false, client.List{})
	assert.ErrorContains(t, err, `no host has the key "nobody-2026"`)
}
