package standin_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/standin"
)

// update runs the real apt-get update on a root, with that root's configuration
// and not the machine's.
func update(root string) (string, error) {
	conf := filepath.Join(root, "apt-config")
	if err := os.WriteFile(conf, []byte(fmt.Sprintf("Dir %q;\n", root)), 0o644); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "apt-get", "-o", "Dir="+root, "-o", "APT::Update::Error-Mode=any", "-o", "APT::Sandbox::User=root", "update")
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C", "APT_CONFIG=" + conf}
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func TestTheRealAptTakesTheRepositoriesAndNamesTheirFaults(t *testing.T) {
	up, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	srv := httptest.NewServer(up)
	defer srv.Close()
	key, err := up.Keys()["plover-2024"].Public()
	require.NoError(t, err)
	for _, c := range []struct{ fault, want string }{
		{"", ""}, {standin.FaultExpired, `is expired \(invalid since`}, {standin.FaultWrongKey, "couldn't be verified|Missing key"}, {standin.Fault401, "401"},
		{standin.FaultMissing, "404"}, // a cut connection apt tries again without end; see docs/fidelity.md
	} {
		t.Run("fault "+c.fault, func(t *testing.T) {
			require.NoError(t, up.SetFault("metrics.plover.example", c.fault))
			root := filepath.Join(t.TempDir(), "root")
			require.NoError(t, standin.DebHosts[0].Write(root, srv.URL, up.Keys()))
			block := " " + strings.ReplaceAll(strings.ReplaceAll(strings.TrimSpace(key), "\n\n", "\n.\n"), "\n", "\n ")
			text := "Types: deb\nURIs: " + srv.URL + "/metrics.plover.example/apt\nSuites: rolling\nComponents: main\nSigned-By:\n" + block + "\n"
			require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/plover.sources"), []byte(text), 0o644))
			out, err := update(root)
			if c.want == "" {
				require.NoError(t, err, out)
				index, err := filepath.Glob(filepath.Join(root, "var/lib/apt/lists/*plover*Packages*"))
				require.NoError(t, err)
				assert.NotEmpty(t, index, "the index was fetched")
				return
			}
			require.Error(t, err, out)
			assert.Regexp(t, c.want, out)
		})
	}
	assert.ErrorContains(t, up.SetFault("metrics.plover.example", "tired"), `there is no fault "tired"`)
}

func TestEveryHostOfTheScenarioIsTakenByItsApt(t *testing.T) {
	up, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	srv := httptest.NewServer(up)
	defer srv.Close()
	for _, h := range standin.DebHosts {
		root := filepath.Join(t.TempDir(), h.Name)
		require.NoError(t, h.Write(root, srv.URL, up.Keys()))
		out, err := update(root)
		assert.NoError(t, err, "%s\n%s", h.Name, out)
	}
}

func TestKeysFollowFromTheirNames(t *testing.T) {
	at := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	text := func(name string) string {
		k, err := standin.NewKey(name, "Saltmarsh <x@saltmarsh.example>", at, 2)
		require.NoError(t, err)
		pub, err := k.Public()
		require.NoError(t, err)
		return pub
	}
	assert.Equal(t, text("one"), text("one"))
	assert.NotEqual(t, text("one"), text("two"))
}
