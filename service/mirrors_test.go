package service_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// faultyMirror has what stands upstream, with a fault of its own.
type faultyMirror struct {
	sync.Mutex
	*httptest.Server
	has   *standin.Upstreams
	fault string
}

func newFaultyMirror(t *testing.T, r *rig.Rig) *faultyMirror {
	has, err := standin.NewUpstreams(r.Clock.Now)
	require.NoError(t, err)
	m := &faultyMirror{has: has}
	m.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		m.Lock()
		fault := m.fault
		m.Unlock()
		if fault == "404" {
			http.NotFound(w, q)
			return
		}
		m.has.ServeHTTP(w, q)
	}))
	t.Cleanup(m.Close)
	return m
}

// have gives all vendors a fault before anything is asked: what one has is made anew by it, and is not to change in between.
func (m *faultyMirror) have(t *testing.T, fault string) {
	m.Lock()
	defer m.Unlock()
	if m.fault == fault {
		return
	}
	m.fault = fault
	for _, vendor := range strings.Fields("archive.skerry archive.foreland archive.halyard archive.driftwood packages.saltmarsh " +
		"apt.gannet rpm.gannet arch.gannet metrics.plover north.fulmar south.fulmar") {
		if fault != "404" {
			require.NoError(t, m.has.SetFault(vendor+".example", fault))
		}
	}
}

// Of two mirrors the first is asked. What is not there is had from the second, by every package manager. Who answers with what
// is not believed ends it, but for zypper: so the service's own look says as well, and does not call that good for which the
// second would do.
func TestWhatTheFirstOfTwoMirrorsAnswers(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	hosts := map[string]string{"gw-01": "deb", "arc-2": "rpm", "chart-2": "zypp", "model-2": "arch"}
	roots := map[string]string{}
	for n := range hosts {
		roots[n] = r.Up(n)
	}
	r.Accounts()
	_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": "model"})
	require.NoError(t, err)
	files := r.Policy()
	from := regexp.MustCompile(`http://127\.0\.0\.1:[0-9]+/`).FindString(string(files["policy.yaml"]))
	near := newFaultyMirror(t, r)
	files["sites.yaml"] = []byte("format: patient-lantern/1\nsites:\n  reef:\n    mirrors: { \"" + from + "\": \"" + near.URL +
		"/\" }\n    fall-back: true\nassign: [{ to: everyone, site: reef }]\n")
	publish(t, r, files)
	for _, h := range r.Carry().Hosts {
		require.Equal(t, "done", string(h.State), "%s: %+v", h.Host, h.Report)
	}
	asked := cell.Share(5)
	for fault, ends := range map[string]map[string]bool{ // by family: whether the first one ends it
		"404":                 {},
		standin.FaultWrongKey: {"deb": true, "rpm": true, "arch": true},
		standin.FaultExpired:  {"deb": true},
		standin.FaultPage:     {"deb": true, "rpm": true, "arch": true},
	} {
		looked := false
		for host, family := range hosts {
			if !asked() {
				continue
			}
			near.have(t, fault)
			// Of a database that it has, pacman keeps the signature at times, and holds it against another.
			require.NoError(t, os.RemoveAll(filepath.Join(roots[host], "var/lib/pacman/sync")))
			ro, err := r.Operator.Heal(ctx, host)
			require.NoError(t, err)
			failed := map[string]string{}
			for _, o := range r.Ended(ro.ID).Hosts[0].Report.Sources {
				if !o.OK {
					failed[o.File] = o.Message
				}
			}
			for _, file := range map[string][]string{
				"deb": {"/etc/apt/sources.list.d/saltmarsh.sources"}, "rpm": {"/etc/yum.repos.d/saltmarsh.repo"},
				"zypp": {"/etc/zypp/repos.d/saltmarsh.repo"}, "arch": {"/etc/pacman.d/lantern-fulmar.conf"},
			}[family] {
				assert.Equal(t, ends[family], failed[file] != "", "%s, %s: %v", fault, host, failed)
			}
			assert.NotContains(t, failed, "", "%s, %s: what fails is led back to its source", fault, host)
			looked = true
		}
		if !looked {
			continue
		}
		seen := map[string]int{}
		for name, p := range probe(t, r) {
			if len(p.URLs) != 2 || len(p.Names) == 0 || p.Names[0] == "base" { // nothing pinned signs what is the distribution's
				continue
			}
			seen[p.Family]++
			if ends[p.Family] {
				assert.Equal(t, api.PlaceTrouble, p.Look.State, "%s: %s", fault, name)
				assert.Contains(t, p.Look.Why, "which is asked before others", "%s: %s", fault, name)
				continue
			}
			assert.Equal(t, api.PlaceGood, p.Look.State, "%s: %s: %s", fault, name, p.Look.Why)
		}
		assert.Len(t, seen, 4, "of every family there are some")
		near.have(t, "")
	}
}
