package demo

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheDemoRefusesToDeleteWhatItDidNotMake(t *testing.T) {
	dir := t.TempDir()
	mine := filepath.Join(dir, "demo-hosts")
	require.NoError(t, os.MkdirAll(mine, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(mine, "precious"), nil, 0o644))
	assert.ErrorContains(t, fresh(mine), "was not made by the demo; move it away")
	assert.FileExists(t, filepath.Join(mine, "precious"))
	made := filepath.Join(dir, "demo-state")
	require.NoError(t, fresh(made))
	require.NoError(t, os.WriteFile(filepath.Join(made, "old"), nil, 0o644))
	require.NoError(t, fresh(made))
	assert.NoFileExists(t, filepath.Join(made, "old"))
}

func TestAnAddressThatIsTakenIsNamed(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer ln.Close()
	_, err = listen(ln.Addr().String(), "upstream")
	assert.ErrorContains(t, err, "something listens on "+ln.Addr().String()+" already (another demo?)")
	err = Run(context.Background(), Options{Dir: t.TempDir(), Agent: "/nowhere/lantern-agent"})
	assert.ErrorContains(t, err, "the agent's binary /nowhere/lantern-agent is not there; run make build")
}

func TestThePolicyFollowsTheUpstreamsAddress(t *testing.T) {
	files, err := Policy("127.0.0.1:9", "127.0.0.1:2")
	require.NoError(t, err)
	for name, data := range files {
		assert.NotContains(t, string(data), Address, name)
		if strings.HasSuffix(name, "policy.yaml") {
			assert.Contains(t, string(data), "http://127.0.0.1:9/packages.saltmarsh.example")
		}
	}
}
