package cli_test

import (
	"context"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// modes are those of all files and folders that a change may make.
func modes(t *testing.T, root string) map[string]fs.FileMode {
	t.Helper()
	out := map[string]fs.FileMode{}
	for _, dir := range []string{"etc", "var/lib/flatpak", "var/lib/apt", "var/lib/pacman"} {
		err := filepath.WalkDir(filepath.Join(root, dir), func(name string, d fs.DirEntry, err error) error {
			if os.IsNotExist(err) {
				return nil
			}
			if err != nil {
				return err
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			rel, err := filepath.Rel(root, name)
			out[rel] = info.Mode()
			return err
		})
		require.NoError(t, err)
	}
	return out
}

// What an agent makes is as others may read it, whatever the umask of whoever started it: apt reads keys as a user of its own,
// and a folder that only root may enter would have every refresh fail.
func TestAnAgentIsNotLedByAUmask(t *testing.T) {
	binary := agentBinary(t)
	for _, name := range []string{"gw-01", "arc-2"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx := context.Background()
			r := rig.New(t)
			r.Accounts()
			root, h := r.Enrol(name)
			stop := r.Start(h)
			r.Surveyed(name)
			r.Publish()
			require.Zero(t, r.Carry().Counts["failed"])
			stop()
			want := modes(t, root)
			require.Eventually(t, func() bool { return os.RemoveAll(root) == nil }, 10*time.Second, 50*time.Millisecond)

			root, h = r.Enrol(name)
			require.NoError(t, h.Close())
			cmd := exec.Command("sh", "-c", `umask 077; exec "$0" run --root "$1"`, binary, root)
			require.NoError(t, cmd.Start())
			defer func() {
				_ = cmd.Process.Signal(os.Interrupt)
				_ = cmd.Wait() // it was interrupted
			}()
			r.Until(name+" is known to be as it was", func() bool {
				d, err := r.Operator.Host(ctx, name)
				return err == nil && d.Findings > 0 && d.State != api.StateChanging
			})
			require.Zero(t, r.Carry().Counts["failed"])
			for path, is := range modes(t, root) {
				if was, there := want[path]; there {
					require.Equal(t, was.String(), is.String(), path)
				}
			}
		})
	}
}
