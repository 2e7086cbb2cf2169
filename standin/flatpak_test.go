package standin_test

import (
	"context"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/standin"
)

// TestFlatpakAcceptsTheRemote adds the remote as people do and lists what it offers,
// with the vendor's key and with another's.
func TestFlatpakAcceptsTheRemote(t *testing.T) {
	ups, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	server := httptest.NewServer(ups)
	defer server.Close()
	for key, works := range map[string]bool{"curlew-2025": true, "gannet-2025": false} {
		dir := t.TempDir()
		public, err := ups.Keys()[key].Public()
		require.NoError(t, err)
		file := filepath.Join(dir, "key.asc")
		require.NoError(t, os.WriteFile(file, []byte(public), 0o600))
		flatpak := func(args ...string) (string, error) {
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			cmd := exec.CommandContext(ctx, "flatpak", append([]string{"--system"}, args...)...)
			cmd.Env = []string{"PATH=/usr/bin:/bin", "HOME=" + dir, "LC_ALL=C", "FLATPAK_SYSTEM_DIR=" + dir + "/system", "FLATPAK_CONFIG_DIR=" +
				dir + "/etc", "FLATPAK_USER_DIR=" + dir + "/user"}
			out, err := cmd.CombinedOutput()
			return string(out), err
		}
		out, err := flatpak("remote-add", "--gpg-import="+file, "curlew", server.URL+"/apps.curlew.example/repo")
		if works {
			require.NoError(t, err, out)
		}
		out, err = flatpak("remote-ls", "curlew")
		assert.Equal(t, works, err == nil, "%s: %s", key, out)
	}
}
