package service_test

import (
	"bytes"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// What a policy would swap is said before it is carried, and comes true: faster builds stand
// above the distribution's on model nodes, and gateways of the reef get the next series.
func TestWhatAChangeWouldSwap(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	for _, n := range []string{"gw-01", "gw-05", "model-1", "model-2", "arc-2", "chart-2"} {
		r.Up(n)
	}
	_, err := r.Operator.Label(ctx, "gw-05", map[string]string{"site": "reef"})
	require.NoError(t, err)
	for _, n := range []string{"model-1", "model-2"} {
		_, err := r.Operator.Label(ctx, n, map[string]string{"duty": "model"})
		require.NoError(t, err)
	}
	// Somebody has put one of the faster builds there by hand.
	desc := filepath.Join(r.Root("model-1"), "var/lib/pacman/local/fulmar-kernel-6.12.4-1/desc")
	require.NoError(t, os.MkdirAll(filepath.Dir(desc), 0o755))
	require.NoError(t, os.WriteFile(desc, []byte("%NAME%\nfulmar-kernel\n\n%VERSION%\n6.12.4-1\n\n"), 0o644))
	r.Publish()
	p, err := r.Operator.Preview(ctx, 0)
	require.NoError(t, err)
	assert.NotEmpty(t, p.Unforeseen, "nothing was looked at yet, and the hosts have not been asked")
	assert.Empty(t, p.Swaps)

	probe(t, r)
	said := func() map[string]preview.Swap {
		p, err = r.Operator.Preview(ctx, 0)
		require.NoError(t, err)
		out := map[string]preview.Swap{}
		for _, x := range p.Swaps {
			out[x.Package+" "+x.Becomes] = x
		}
		return out
	}
	var found map[string]preview.Swap
	// What only hosts with a seat may see is not known before they have one, and is said so.
	r.Until("everything is known that can be", func() bool {
		found = said()
		return found["driftwood-base 2026.11-1.1"].Hosts == 2 && found["saltmarsh-server 9.2.1-1"].Hosts == 1 &&
			!slices.ContainsFunc(p.Unforeseen, func(u preview.Unforeseen) bool { return strings.Contains(u.Why, "asked") })
	})
	base := found["driftwood-base 2026.11-1.1"]
	assert.Equal(t, "driftwood-base 2026.11-1 from base becomes 2026.11-1.1 from fulmar on 2 hosts", base.Says)
	assert.Equal(t, []string{"model-1.brinewick.test", "model-2.brinewick.test"}, base.Names)
	assert.Equal(t, "saltmarsh-server 8.2.1-1 becomes 9.2.1-1 from saltmarsh on 1 host", found["saltmarsh-server 9.2.1-1"].Says)
	for _, x := range found {
		assert.NotEqual(t, "8.2.1-1", x.Becomes, "what stays as it is, is no swap")
	}
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.FaultExpired))
	probe(t, r)
	said()
	require.NotEmpty(t, p.Refused, "a rollout would stumble over it")
	for _, x := range p.Refused {
		assert.Contains(t, x.Address, "packages.saltmarsh.example")
		assert.Positive(t, x.Hosts)
	}
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", ""))
	probe(t, r)
	said()
	assert.Empty(t, p.Refused)
	before := maps.Clone(found)

	require.Zero(t, r.Carry().Counts["failed"])
	assert.Empty(t, said(), "carried, nothing more would be swapped")
	for key, x := range before {
		w, err := r.Operator.Whence(ctx, x.Package, client.List{To: x.Names})
		require.NoError(t, err)
		for _, row := range w.Rows {
			require.NotNil(t, row.Taken, key)
			assert.Equal(t, x.Becomes, row.Taken.Version, "what was said came true")
		}
	}

	// Faster builds go again: what came from there is said to get no more.
	files := r.Policy()
	for name, text := range files {
		files[name] = bytes.ReplaceAll(text, []byte("    repositories: [fulmar]\n"), nil)
	}
	publish(t, r, files)
	r.Until("the host has told of the kernel", func() bool {
		found = said()
		return len(found) == 1
	})
	assert.Equal(t, "fulmar-kernel 6.12.4-1 from fulmar would get no more updates on 1 host", found["fulmar-kernel "].Says)
}
