package service_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/rig"
)

// A host that says it is another now, and never tells what it is, is not as the policy says.
func TestAHostThatDoesNotTellWhatItIsNowIsNotWell(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	p := newPuppet(t, r, "gw-01.brinewick.test")
	p.surveyed("a")
	require.NotEqual(t, api.StateFailed, state(t, r, "gw-01"))
	checkIn := func(survey, unsent string) {
		require.Equal(t, http.StatusOK, p.post("/api/agent/check-in", api.CheckIn{
			Traits: source.Digest([]byte("none")), Survey: source.Digest([]byte(survey)), Agent: "test", Instance: "a", Unsent: unsent,
		}, new(api.CheckInAnswer)))
	}
	checkIn("another", "")
	assert.NotEqual(t, api.StateFailed, state(t, r, "gw-01"), "it is on its way")
	r.Clock.Forward(20 * time.Minute)
	checkIn("another", "")
	r.Clock.Forward(20 * time.Minute)
	checkIn("still another", "")
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.Equal(t, api.StateFailed, d.State)
	assert.Contains(t, d.Detail, "its survey of them has not come since")
	p.surveyed("a")
	assert.NotEqual(t, api.StateFailed, state(t, r, "gw-01"), "it has come")
	checkIn("another", "it is too large")
	d, err = r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.Equal(t, api.StateFailed, d.State)
	assert.Contains(t, d.Detail, ": it is too large")
}

// However many files somebody puts into a host's folders, it goes on saying how it stands; and where its survey is more than
// is taken, that is said.
func TestAHostWithACrowdOfFilesGoesOnSayingHowItStands(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	dir := filepath.Join(root, "etc/apt/sources.list.d")
	crowd := func(from, to int) {
		for i := from; i < to; i++ {
			require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("a%05d.list", i)), fmt.Appendf(nil, "# %d\n", i), 0o644))
		}
	}
	crowd(0, 5001)
	r.Until("what is not read is found", func() bool {
		return strings.Contains(strings.Join(r.Findings("gw-01"), "\n"), drift.NotRead+" fault /etc/apt/sources.list.d")
	})
	for n := 5001; n < 5002; n++ { // each time a survey of 5,000 files, of which the service has all
		digest := ""
		d, err := r.Operator.Host(ctx, "gw-01")
		require.NoError(t, err)
		digest = d.Document
		crowd(n, n+1)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a00000.list"), fmt.Appendf(nil, "# anew %d\n", n), 0o644))
		r.Until("it is surveyed again", func() bool {
			d, err := r.Operator.Host(ctx, "gw-01")
			return err == nil && d.Document != digest
		})
	}
	assert.NotContains(t, r.Log.String(), "the survey is not taken")

	var large strings.Builder
	for i := range 8000 {
		fmt.Fprintf(&large, "deb http://elsewhere.example/%s%d x y\n", strings.Repeat("x", 400), i)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a00000.list"), []byte(large.String()), 0o644))
	r.Until("it is said that the survey is not taken", func() bool {
		d, err := r.Operator.Host(ctx, "gw-01")
		return err == nil && d.State == api.StateFailed && strings.Contains(d.Detail, "a document of more than")
	})
	require.NoError(t, os.Remove(filepath.Join(dir, "a00000.list")))
	r.Until("it is well enough again", func() bool { return state(t, r, "gw-01") == api.StateDrifted })
}
