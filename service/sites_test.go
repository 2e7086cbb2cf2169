package service_test

import (
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/internal/rig"
)

// A site's mirror takes the place of upstream in every family's own way, is refreshed for
// real, is no drift, and goes again without a trace. With fall-back, upstream is tried where
// the mirror does not answer.
func TestASiteHasMirrorsOfItsOwn(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	roots := map[string]string{}
	for _, n := range []string{"gw-01", "arc-2", "chart-2", "desk-3"} {
		roots[n] = r.Up(n)
	}
	r.Accounts()
	with := func(fallBack string) map[string][]byte {
		files := r.Policy()
		text := string(files["policy.yaml"])
		from := regexp.MustCompile(`http://127\.0\.0\.1:[0-9]+/`).FindString(text)
		files["sites.yaml"] = []byte("format: patient-lantern/1\nsites:\n  reef:\n    mirrors: { \"" + from + "\": \"" +
			strings.Replace(from, "127.0.0.1", "localhost", 1) + "\" }\n    fall-back: " + fallBack + "\nassign: [{ to: everyone, site: reef }]\n")
		return files
	}
	for _, c := range []struct {
		fallBack string
		want     map[string]string // file of a host: what stands in it
	}{
		{"false", map[string]string{
			"gw-01/etc/apt/sources.list.d/saltmarsh.sources":   "URIs: http://localhost:",
			"arc-2/etc/yum.repos.d/saltmarsh.repo":             "baseurl=http://localhost:",
			"chart-2/etc/zypp/repos.d/saltmarsh.repo":          "baseurl=http://localhost:",
			"desk-3/var/lib/flatpak/repo/config":               "url=http://localhost:",
			"gw-01/etc/apt/sources.list.d/gannet-open.sources": "URIs: http://localhost:",
		}},
		{"true", map[string]string{
			"gw-01/etc/apt/mirrors/saltmarsh.list":    "\tpriority:1\nhttp://127.0.0.1:",
			"arc-2/etc/dnf/mirrors/saltmarsh.list":    "http://localhost:",
			"chart-2/etc/zypp/mirrors/saltmarsh.list": "http://localhost:",
			"desk-3/var/lib/flatpak/repo/config":      "url=http://localhost:",
		}},
	} {
		checked, err := r.Operator.Check(ctx, api.Publication{Files: with(c.fallBack)})
		require.NoError(t, err)
		require.False(t, diag.HasErrors(checked.Diagnostics), "%v", checked.Diagnostics)
		publish(t, r, with(c.fallBack))
		ro := r.Carry()
		for _, h := range ro.Hosts {
			require.Equal(t, "done", string(h.State), "%s: %+v", h.Host, h.Report)
		}
		for name, want := range c.want {
			host, file, _ := strings.Cut(name, "/")
			assert.Contains(t, read(t, filepath.Join(roots[host], file)), want, name)
		}
		for n := range roots {
			r.Until(n+" is steady", func() bool { return len(r.Findings(n)) == 0 })
		}
		assert.Contains(t, read(t, filepath.Join(roots["arc-2"], "etc/yum.repos.d/gannet-licensed.repo")), "https://127.0.0.1:", "a login goes to its vendor alone")
	}
	publish(t, r, r.Policy())
	ro := r.Carry()
	for _, h := range ro.Hosts {
		require.Equal(t, "done", string(h.State), "%s: %+v", h.Host, h.Report)
	}
	for n := range roots {
		r.Until(n+" is steady again", func() bool { return len(r.Findings(n)) == 0 })
	}
	assert.NoFileExists(t, filepath.Join(roots["gw-01"], "etc/apt/mirrors/saltmarsh.list"))
	assert.NotContains(t, read(t, filepath.Join(roots["desk-3"], "var/lib/flatpak/repo/config")), "localhost")
}
