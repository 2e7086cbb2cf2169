package resolve_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/demo"
)

// TestTheFilesInTheReferenceAreWhatHostsGet resolves the examples of docs/policy.md, which
// are one policy, and holds each file that it shows against the sheet of that host.
func TestTheFilesInTheReferenceAreWhatHostsGet(t *testing.T) {
	b, err := os.ReadFile("../../docs/policy.md")
	require.NoError(t, err)
	var text strings.Builder
	for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(b), -1) {
		text.WriteString(m[1])
	}
	files, err := demo.Policy(demo.Address, demo.Secure)
	require.NoError(t, err)
	folder := policy.Folder{"p.yaml": []byte(text.String())}
	for name, data := range files {
		if !strings.HasSuffix(name, ".yaml") {
			folder[name] = data
		}
	}
	p, diags := policy.Load(folder, now)
	require.Empty(t, diags)
	r := resolve.New(p)
	hosts := map[string]resolve.Host{}
	for _, h := range demoHosts() {
		h.Labels = nil
		hosts[strings.TrimSuffix(h.Name, ".brinewick.test")] = h
	}
	shown := regexp.MustCompile("(?s)```file ([^ ]+) ([^\n]+)\n(.*?)```").FindAllStringSubmatch(string(b), -1)
	require.GreaterOrEqual(t, len(shown), 7)
	for _, m := range shown {
		h, ok := hosts[m[1]]
		require.True(t, ok, m[1])
		res := r.Resolve(h)
		require.Empty(t, res.Trouble, m[1])
		got := ""
		if m[2] == flatpak.Config { // which is edited, not written whole
			got = "[core]\nrepo_version=1\nmode=bare-user-only\n"
			for i := range res.Sheet.Sources {
				s := &res.Sheet.Sources[i]
				if s.Family != "" {
					text, err := flatpak.Set([]byte(got), s, []string{flatpak.KeyPath("curlew-2025")})
					require.NoError(t, err)
					got = string(text)
				}
			}
		} else {
			got = find(t, res.Sheet, m[2])
		}
		want, _, cut := strings.Cut(m[3], " …\n")
		if cut {
			assert.True(t, strings.HasPrefix(got, want), "%s on %s is\n%s", m[2], m[1], got)
		} else {
			assert.Equal(t, want, got, "%s on %s", m[2], m[1])
		}
	}
}
