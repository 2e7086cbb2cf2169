package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// Between changes, hosts look whether their sources can be refreshed: a vendor's fault is one
// finding with all hosts that have it, with its cause, and goes with the fault.
func TestAVendorsFaultIsOneFindingBetweenChanges(t *testing.T) {
	t.Parallel()
	r := rig.New(t, func(o *datafolder.Options) { o.Watch = 2 * time.Second })
	root := r.Up("desk-1")
	r.Up("desk-3")
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	before := tree(t, root)
	require.NoError(t, r.Upstreams.SetFault("metrics.plover.example", standin.FaultWrongKey))
	var group api.FindingGroup
	find := func() bool {
		groups, err := r.Operator.GroupedDrift(ctx, client.List{Filter: map[string][]string{"class": {"refresh-fails"}}})
		if err != nil || len(groups.Groups) != 1 {
			return false
		}
		group = groups.Groups[0]
		return true
	}
	r.Until("both see it", func() bool { return find() && group.Hosts == 2 })
	assert.Equal(t, "unknown-key", group.Field)
	assert.Regexp(t, `it is signed by a key that the policy does not name for it \(([0-9A-F]{24})?0749F720CB2DE5D9\)`, group.Message)
	assert.Equal(t, before, tree(t, root), "nothing of the host changes for a look")
	require.NoError(t, r.Upstreams.SetFault("metrics.plover.example", ""))
	r.Until("it is gone", func() bool {
		groups, err := r.Operator.GroupedDrift(ctx, client.List{Filter: map[string][]string{"class": {"refresh-fails"}}})
		return err == nil && len(groups.Groups) == 0
	})
}
