package service_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// What healing takes away of what the policy says nothing of does not come back where something else of the healing fails: an entry
// of the distribution that was led elsewhere, a key that somebody added, who may write a file.
func TestADangerThatWasHealedDoesNotComeBack(t *testing.T) {
	t.Parallel()
	const list, key = "etc/apt/sources.list", "etc/apt/trusted.gpg.d/own.gpg"
	for name, c := range map[string]struct {
		hand func(t *testing.T, root string)
		says string
		well func(t *testing.T, root, was string)
	}{
		"an entry": {
			func(t *testing.T, root string) {
				edited(t, filepath.Join(root, list), "archive.skerry.example", "metrics.plover.example")
			},
			"changed-source danger /" + list,
			func(t *testing.T, root, was string) { assert.Equal(t, was, read(t, filepath.Join(root, list))) },
		},
		"a mode": {
			func(t *testing.T, root string) { require.NoError(t, os.Chmod(filepath.Join(root, list), 0o666)) },
			"changed-mode danger /" + list,
			func(t *testing.T, root, _ string) {
				info, err := os.Stat(filepath.Join(root, list))
				require.NoError(t, err)
				assert.Equal(t, "-rw-r--r--", info.Mode().String())
			},
		},
		"a key": {
			func(t *testing.T, root string) {
				keys, err := standin.Keys()
				require.NoError(t, err)
				binary, err := keys["plover-2024"].Binary()
				require.NoError(t, err)
				put(t, root, key, string(binary))
			},
			"key-added danger /" + key,
			func(t *testing.T, root, _ string) {
				assert.NoFileExists(t, filepath.Join(root, key))
				assert.FileExists(t, filepath.Join(root, key+change.Aside), "what somebody wrote is kept")
			},
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := rig.New(t)
			root := r.Up("gw-01")
			r.Publish()
			require.Equal(t, 1, r.Carry().Counts["done"])
			was, own := read(t, filepath.Join(root, list)), filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
			c.hand(t, root)
			require.NoError(t, os.Remove(own))
			found(t, r, "gw-01", c.says, "missing-file fault /etc/apt/sources.list.d/saltmarsh.sources")
			require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", "wrong-key"))
			heal, err := r.Operator.Heal(ctx, "gw-01")
			require.NoError(t, err)
			ro := r.Ended(heal.ID)
			require.Equal(t, 1, ro.Counts["failed"], "%+v", ro.Hosts[0].Report)
			c.well(t, root, was)
			assert.Contains(t, ro.Hosts[0].Report.Message, "since going back would bring back: ")
			assert.NoFileExists(t, own, "what is no danger is put back")
		})
	}
}
