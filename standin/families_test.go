package standin_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/standin"
)

// TestTheHostsOfAllFamiliesAreSound asks each host's own package manager, and
// reads the host.
func TestTheHostsOfAllFamiliesAreSound(t *testing.T) {
	keys, err := standin.Keys()
	require.NoError(t, err)
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	questions := map[string][]string{
		"arc-1":   {"/usr/bin/dnf", "-C", "--releasever", "9", "repolist", "--all"},
		"chart-1": {"/usr/bin/zypper", "lr"},
		"model-1": {"/usr/bin/pacman-conf"},
		"desk-2":  {"/usr/bin/flatpak", "--system", "remotes", "--show-disabled"},
	}
	families := map[string]string{"arc-1": "rpm", "chart-1": "zypp", "model-1": "arch", "desk-2": "deb"}
	for _, h := range standin.FamilyHosts {
		t.Run(h.Name, func(t *testing.T) {
			root := filepath.Join(t.TempDir(), h.Name)
			require.NoError(t, h.Write(root, "http://127.0.0.1:7801", keys))
			dir, err := os.OpenRoot(root)
			require.NoError(t, err)
			defer dir.Close()
			s := survey.Read(rootfs.New(dir.FS()), survey.Machine{}).Survey
			assert.Empty(t, s.Problems)
			assert.Equal(t, families[h.Name], s.Traits.Family)
			assert.Equal(t, "x86_64", s.Traits.Arch)
			assert.Equal(t, 3, s.Traits.CPU.Level)
			assert.NotEmpty(t, s.Keys)
			on, position := 0, map[string]int{}
			for _, src := range s.Sources {
				if src.Enabled {
					on++
					position[src.Family] = max(position[src.Family], src.Position)
				} else {
					assert.NotEmpty(t, src.DisabledBy)
				}
			}
			total := 0
			for _, n := range position {
				total += n
			}
			assert.Equal(t, on, total, "positions count the sources that are on")
			for _, a := range s.Access {
				assert.NotEmpty(t, a.Identity)
			}
			text, err := source.Canonical(s)
			require.NoError(t, err)
			assert.NotContains(t, string(text), "not-a-real-one", "a password")
			a, err := c.Run(root, questions[h.Name]...)
			require.NoError(t, err)
			assert.Zero(t, a.Code, "%s%s", a.Out, a.Err)
		})
	}
}
