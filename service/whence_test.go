package service_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// From a name to every version that hosts would get, why, and what is not known of it.
func TestWhenceAPackageComes(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	for _, n := range []string{"gw-01", "gw-05", "arc-2", "model-2", "desk-1"} {
		r.Up(n)
	}
	r.Publish()
	r.Carry()
	whence := func(name string, to ...string) api.Whence {
		w, err := r.Operator.Whence(ctx, name, client.List{To: to})
		require.NoError(t, err)
		return w
	}
	w := whence("saltmarsh-server")
	assert.Equal(t, 5, w.Hosts)
	assert.Equal(t, 5, w.Unsure, "nothing was looked at upstream yet, and that is said of each")
	for _, row := range w.Rows {
		assert.Contains(t, row.Why, "no source that was looked at offers it", "that there is none is not known")
	}
	probe(t, r)
	w = whence("saltmarsh-server")
	by := map[string]api.WhenceRow{}
	for _, row := range w.Rows {
		for _, n := range row.Names {
			by[n] = row
		}
	}
	assert.Equal(t, "8.2.1-1", by["gw-01.brinewick.test"].Taken.Version)
	assert.Equal(t, "rpm", by["arc-2.brinewick.test"].Family)
	assert.Nil(t, by["model-2.brinewick.test"].Taken)
	assert.Equal(t, "no source that counts offers it", by["model-2.brinewick.test"].Why)
	assert.Equal(t, []any{2, 0}, []any{w.Nowhere, w.Unsure})

	w = whence("saltmarsh-server", "gw-{01,05}")
	assert.Equal(t, 2, w.Hosts)
	w = whence("saltmarsh-server", "gateways")
	assert.Equal(t, 2, w.Hosts)
	_, err := r.Operator.Whence(ctx, "saltmarsh-server", client.List{To: []string{"nobody"}})
	assert.ErrorContains(t, err, `"nobody" is neither a host nor a group`)

	// What is installed is asked for, and a pin on one host is seen there alone.
	pin := filepath.Join(r.Root("gw-01"), "etc/apt/preferences.d/own.pref")
	require.NoError(t, os.WriteFile(pin, []byte("Package: saltmarsh-server\nPin: version 8.*\nPin-Priority: -1\n"), 0o644))
	r.Until("the host has told of the pin and of the package", func() bool {
		w = whence("saltmarsh-server", "gw-01")
		return len(w.Rows) == 1 && w.Rows[0].Asked && w.Rows[0].Taken == nil
	})
	assert.Equal(t, "no version has a priority above 0", w.Rows[0].Why)
	require.Len(t, w.Rows[0].Offers, 1)
	assert.Equal(t, -1, *w.Rows[0].Offers[0].Priority)
}
