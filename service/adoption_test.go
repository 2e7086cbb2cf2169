package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/rig"
)

// What has to be added for a source is worked out and published by nobody; what cannot be taken in
// is refused in words.
func TestAnAdoptionIsWorkedOutAndNotPublished(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Up("gw-02")
	_, err := r.Operator.Adoption(ctx, api.AdoptionOrder{To: []string{"gw-01"}, File: "/etc/apt/sources.list.d/own.list"})
	require.ErrorContains(t, err, "nothing is published yet")
	r.Publish()
	r.Carry()
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"),
		[]byte("deb http://"+r.World.Plain+"/metrics.plover.example/apt rolling main\n"), 0o644))
	r.Until("the finding is there", func() bool { return len(r.Findings("gw-01")) > 0 })
	got, err := r.Operator.Adoption(ctx, api.AdoptionOrder{To: []string{"gw-01"}, File: "/etc/apt/sources.list.d/own.list"})
	require.NoError(t, err)
	assert.EqualValues(t, 1, got.Revision)
	require.NotEmpty(t, got.Files)
	folder := r.Policy()
	for name, text := range got.Files {
		assert.NotContains(t, folder, name, "nothing that is there is touched")
		folder[name] = text
	}
	checked, err := r.Operator.Check(ctx, api.Publication{Files: folder})
	require.NoError(t, err)
	for _, d := range checked.Diagnostics {
		assert.NotEqual(t, "error", string(d.Severity), d.String())
	}
	page, err := r.Operator.Revisions(ctx, client.List{})
	require.NoError(t, err)
	assert.Equal(t, 1, page.Total)

	for _, c := range []struct {
		to, file, says string
	}{
		{"gw-01", "/etc/apt/sources.list.d/gone.list", "nothing that the policy does not list stands there"},
		{"gw-02", "/etc/apt/sources.list.d/own.list", "nothing that the policy does not list stands there"},
		{"gw-99", "/etc/apt/sources.list.d/own.list", "gw-99"},
		{"gw-01", "etc/apt/sources.list.d/own.list", "file: expected string to match pattern ^/"},
	} {
		_, err := r.Operator.Adoption(ctx, api.AdoptionOrder{To: []string{c.to}, File: c.file})
		require.Error(t, err, c.file)
		assert.Contains(t, err.Error(), c.says)
	}
}

// Settings say what is not looked at where something is switched off, and no path of the machine.
func TestSettingsSayWhatIsNotLookedAt(t *testing.T) {
	t.Parallel()
	off := rig.New(t, func(o *datafolder.Options) { o.Watch, o.Probe, o.Tend = 0, 0, 0 })
	on := rig.New(t, func(o *datafolder.Options) { o.Watch, o.Probe, o.Tend = 6*time.Hour, 90*time.Second, 5*time.Minute })
	said := func(r *rig.Rig) map[string]api.ServiceSetting {
		page, err := r.Operator.Settings(ctx, client.List{})
		require.NoError(t, err)
		require.Equal(t, len(page.Settings), page.Total)
		out := map[string]api.ServiceSetting{}
		for _, s := range page.Settings {
			assert.NotContains(t, s.Value+s.Says, r.Dir)
			out[s.Name] = s
		}
		return out
	}
	for name, s := range said(off) {
		switch name {
		case "watch", "probe", "tend":
			assert.Equal(t, "0", s.Value)
			assert.Regexp(t, `^(No host|The service looks at repositories only|Vendors' desks are asked only)`, s.Says)
		}
	}
	got := said(on)
	assert.Equal(t, []string{"6h", "1m30s", "5m"}, []string{got["watch"].Value, got["probe"].Value, got["tend"].Value})
	assert.True(t, strings.Contains(got["tls-cert"].Says, "does not speak TLS itself"))
	page, err := on.Operator.Settings(ctx, client.List{Page: 2, PerPage: 3})
	require.NoError(t, err)
	assert.Len(t, page.Settings, 3)
	assert.Equal(t, 3, page.Next)
}
