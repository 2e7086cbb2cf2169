package service_test

import (
	"bytes"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// brokenEdits are edits of a policy after which hosts cannot refresh what they could before. Each
// names the hosts that it breaks; all others stay or are changed.
var brokenEdits = []struct {
	does, old, new string // of policy.yaml; PORT stands for that of the upstreams
	breaks         string
}{
	{"nobody answers there", `base: "http://127.0.0.1:PORT/packages`, `base: "http://127.0.0.1:1/packages`, "gw-01 arc-2 chart-2"},
	{"the name is not known", `base: "http://127.0.0.1:PORT/packages`, `base: "http://nowhere.invalid/packages`, "gw-01 arc-2 chart-2"},
	{"the path is wrong", `packages.saltmarsh.example" }`, `packages.saltmarsh.example/moved" }`, "gw-01 arc-2 chart-2"},
	{"another vendor's key", `keys: [saltmarsh-2026]`, `keys: [fulmar-2025]`, "gw-01 arc-2"}, // zypper takes what rpm's database has
	{"a suite that is not there", `suites: [stable], components`, `suites: [stabel], components`, "gw-01"},
	{"another authority", `authority: keys/gannet-authority.pem`, `authority: keys/other-authority.pem`, "arc-2"},
	{"no mirror answers", `http://127.0.0.1:PORT/north.fulmar.example/v${cpu.level}
        - http://127.0.0.1:PORT/south.fulmar.example/v${cpu.level}`, `http://127.0.0.1:1/north/v${cpu.level}`, "model-1"},
	{"a remote of flatpak", `http://127.0.0.1:PORT/apps.curlew.example/repo`, `http://127.0.0.1:1/apps.curlew.example/repo`, "desk-3"},
	{"flatpak's keys", `keys: [curlew-2025]`, `keys: [fulmar-2025]`, "desk-3"},
}

var upstreamPort = regexp.MustCompile(`base: "http://127\.0\.0\.1:([0-9]+)/`)

// What a policy's own edit breaks is the edit's fault on every host and under every package
// manager: the host is put back to the byte, and nobody calls it done.
func TestAnEditThatBreaksARefreshIsTakenBack(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	roots := map[string]string{}
	for _, n := range []string{"gw-01", "arc-2", "chart-2", "desk-3", "model-1"} {
		roots[n] = r.Up(n)
	}
	_, err := r.Operator.Label(ctx, "model-1", map[string]string{"duty": "model"})
	require.NoError(t, err)
	r.Accounts()
	r.Publish()
	r.Carry()
	stood := map[string]map[string]string{}
	for n, root := range roots {
		stood[n] = tree(t, root)
	}
	good := r.Policy()
	port := upstreamPort.FindSubmatch(good["policy.yaml"])[1]
	asked := cell.Share(3)
	for _, c := range brokenEdits {
		if !asked() {
			continue
		}
		files := r.Policy()
		old := []byte(strings.ReplaceAll(c.old, "PORT", string(port)))
		require.Contains(t, string(files["policy.yaml"]), string(old), c.does)
		files["policy.yaml"] = bytes.Replace(files["policy.yaml"], old, []byte(c.new), 1)
		files["keys/other-authority.pem"] = otherAuthority(t)
		publish(t, r, files)
		for _, h := range r.Carry().Hosts {
			name, _, _ := strings.Cut(h.Host, ".")
			broken := strings.Contains(c.breaks, name)
			says := ""
			if h.Report != nil {
				says = h.Report.Message
			}
			assert.Equal(t, broken, h.State == "failed", "%s: %s is %s: %s", c.does, name, h.State, says)
			if broken {
				assert.Empty(t, others(stood[name], tree(t, roots[name])), "%s: %s is not as it was", c.does, name)
			}
			stood[name] = tree(t, roots[name])
		}
	}
	publish(t, r, good)
	r.Carry()
	for n := range roots {
		r.Until(n+" is steady after all", func() bool { return len(r.Findings(n)) == 0 })
	}
}

// others names the files that are others in two trees.
func others(was, is map[string]string) (out []string) {
	for name := range was {
		if is[name] != was[name] {
			out = append(out, name)
		}
	}
	for name := range is {
		if _, had := was[name]; !had {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// otherAuthority are certificates that vouch for none of the stand-ins.
func otherAuthority(t *testing.T) []byte {
	t.Helper()
	a, err := standin.NewAuthority("somebody else")
	require.NoError(t, err)
	return []byte(a.PEM())
}
