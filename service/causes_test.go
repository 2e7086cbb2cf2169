package service_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// seenAlike holds the service's own look at a vendor against what a package manager said.
func seenAlike(t *testing.T, r *rig.Rig, vendor, fault string, want cause.Kind) {
	t.Helper()
	page, err := r.Operator.Probe(ctx, nil)
	require.NoError(t, err)
	n := 0
	for _, p := range page.Repositories {
		if !strings.Contains(p.Address, vendor) {
			continue
		}
		n++
		switch fault {
		case standin.FaultCut: // apt says that it could not connect
			want = cause.Cut
		case standin.FaultPage: // flatpak says that a page is not signed
			want = cause.NotMetadata
		}
		assert.Equal(t, []any{api.PlaceTrouble, want}, []any{p.Look.State, p.Look.Kind}, "%s %s: %s", p.Address, fault, p.Look.Why)
	}
	assert.Positive(t, n, vendor)
}

// Each package manager is led into each fault, and what it says is understood. Where a
// family has no such thing (dnf and zypper look at no end of metadata), there is no row.
func TestWhatPackageManagersSayIsUnderstood(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	for _, n := range []string{"desk-1", "arc-2", "chart-2", "model-2", "desk-3"} {
		r.Up(n)
	}
	_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": "model"})
	require.NoError(t, err)
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	const plover, saltmarsh, curlew = "metrics.plover.example", "packages.saltmarsh.example", "apps.curlew.example"
	north, south := "north.fulmar.example", "south.fulmar.example"
	asked := cell.Share(3)
	for _, x := range []struct {
		host    string
		vendors []string
		fault   string
		want    cause.Kind
	}{
		{"desk-1", []string{plover}, standin.FaultExpired, cause.Expired},
		{"desk-1", []string{plover}, standin.FaultWrongKey, cause.UnknownKey},
		{"desk-1", []string{plover}, standin.Fault401, cause.Unauthorised},
		{"desk-1", []string{plover}, standin.FaultCut, cause.Unreachable},
		{"desk-1", []string{plover}, standin.FaultPage, cause.NotMetadata},
		{"arc-2", []string{saltmarsh}, standin.FaultPage, cause.NotMetadata},
		{"chart-2", []string{saltmarsh}, standin.FaultPage, cause.NotMetadata},
		{"model-2", []string{north, south}, standin.FaultPage, cause.NotMetadata},
		{"desk-3", []string{curlew}, standin.FaultPage, cause.Unsigned},
		{"arc-2", []string{saltmarsh}, standin.FaultWrongKey, cause.UnknownKey},
		{"arc-2", []string{saltmarsh}, standin.Fault401, cause.Unauthorised},
		{"arc-2", []string{saltmarsh}, standin.FaultCut, cause.Cut},
		{"arc-2", []string{saltmarsh}, standin.FaultMissing, cause.Missing},
		{"chart-2", []string{saltmarsh}, standin.FaultWrongKey, cause.UnknownKey},
		{"chart-2", []string{saltmarsh}, standin.Fault401, cause.Unauthorised},
		{"chart-2", []string{saltmarsh}, standin.FaultCut, cause.Cut},
		{"chart-2", []string{saltmarsh}, standin.FaultMissing, cause.Missing},
		{"model-2", []string{north, south}, standin.FaultWrongKey, cause.UnknownKey},
		{"model-2", []string{north, south}, standin.Fault401, cause.Unauthorised},
		{"model-2", []string{north, south}, standin.FaultCut, cause.Cut},
		{"desk-3", []string{curlew}, standin.FaultWrongKey, cause.UnknownKey},
		{"desk-3", []string{curlew}, standin.Fault401, cause.Unauthorised},
		{"desk-3", []string{curlew}, standin.FaultCut, cause.Cut},
	} {
		if !asked() {
			continue
		}
		for _, v := range x.vendors {
			require.NoError(t, r.Upstreams.SetFault(v, x.fault))
		}
		ro, err := r.Operator.Heal(ctx, x.host)
		require.NoError(t, err)
		ro = r.Ended(ro.ID)
		found := ""
		for _, o := range ro.Hosts[0].Report.Sources {
			if !o.OK {
				found = o.Message
				if assert.NotNil(t, o.Cause, "%s %s: %s", x.host, x.fault, o.Message) {
					assert.Equal(t, x.want, o.Cause.Kind, "%s %s: %s", x.host, x.fault, o.Message)
				}
			}
		}
		assert.NotEmpty(t, found, "%s %s: every source was refreshed", x.host, x.fault)
		seenAlike(t, r, x.vendors[0], x.fault, x.want)
		for _, v := range x.vendors {
			require.NoError(t, r.Upstreams.SetFault(v, ""))
		}
	}
}
