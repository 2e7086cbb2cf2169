package service_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// A data folder that is put back to an earlier time knows less than its hosts have carried out: that is said of them, they are
// not healed back by what it knows, and the next revision is one that they take.
func TestAServiceThatIsPutBackToAnEarlierTimeIsTold(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	heals := r.Policy()
	heals["hosts.yaml"] = []byte(strings.Replace(string(heals["hosts.yaml"]), "    unlisted: report\n",
		"    unlisted: report\n    findings: { missing-source: heal, missing-file: heal }\n", 1))
	publish := func(files map[string][]byte) api.Revision {
		p, err := r.Operator.Publish(ctx, api.Publication{Files: files})
		require.NoError(t, err)
		return p
	}
	publish(heals)
	require.Equal(t, 1, r.Carry().Counts["done"])

	kept := filepath.Join(r.Dir, "kept")
	r.Reopen(func(data string) { require.NoError(t, os.CopyFS(kept, os.DirFS(data))) })
	later := map[string][]byte{}
	for name, text := range heals {
		later[name] = []byte(strings.Replace(string(text), "  - to: gateways\n    repositories: [saltmarsh]\n", "  - to: gateways\n", 1))
	}
	publish(later)
	later["more.yaml"] = []byte("format: patient-lantern/1\n")
	require.Equal(t, int64(3), publish(later).Number)
	require.Equal(t, 1, r.Carry().Counts["done"])
	saltmarsh := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
	require.NoFileExists(t, saltmarsh)

	r.Reopen(func(data string) { putBack(t, data, kept) })
	r.Until("it is said", func() bool {
		h, err := r.Operator.Host(ctx, "gw-01")
		return err == nil && h.State == api.StateFailed &&
			strings.Contains(h.Detail, "it has carried out revision 3, and the last that this service knows of it is revision 1")
	})
	assert.NoFileExists(t, saltmarsh, "it was healed back to what it had once")
	rollouts, err := r.Operator.Rollouts(ctx, client.List{})
	require.NoError(t, err)
	assert.Len(t, rollouts.Rollouts, 1)

	again := publish(heals)
	assert.Equal(t, int64(4), again.Number, "the same folder, under a number that hosts take")
	require.Equal(t, 1, r.Carry().Counts["done"])
	assert.FileExists(t, saltmarsh)
	r.Until("it is well", func() bool {
		h, err := r.Operator.Host(context.Background(), "gw-01")
		return err == nil && h.State == api.StateSteady
	})
	assert.Equal(t, int64(4), publish(heals).Number, "and once more it is the same one")
}

// putBack puts a data folder back to what was kept of it.
func putBack(t *testing.T, data, kept string) {
	require.NoError(t, os.RemoveAll(data))
	require.NoError(t, os.CopyFS(data, os.DirFS(kept)))
	require.NoError(t, os.Chmod(data, 0o700))
	require.NoError(t, filepath.Walk(data, func(p string, i os.FileInfo, err error) error {
		if err != nil || i.IsDir() {
			return err
		}
		return os.Chmod(p, 0o600)
	}))
}

// What opens licensed sources on a host stays there while the service does not know of the seat, and the desk gives the seat again.
func TestAServiceThatIsPutBackTakesNoAccessAway(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	root := r.Up("arc-1")
	kept := filepath.Join(r.Dir, "kept")
	r.Reopen(func(data string) { require.NoError(t, os.CopyFS(kept, os.DirFS(data))) })
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	certificate := filepath.Join(root, "etc/pki/lantern/gannet.crt")
	before, err := os.ReadFile(certificate)
	require.NoError(t, err)

	r.Reopen(func(data string) { putBack(t, data, kept) })
	r.Until("it is said", func() bool {
		h, err := r.Operator.Host(ctx, "arc-1")
		return err == nil && strings.Contains(h.Detail, "it has carried out revision 1, and the last that this service knows of it is none")
	})
	now, err := os.ReadFile(certificate)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(now))
	r.Publish()
	published := r.Clock.Now() // between publishing and carrying may be days
	r.Until("it has checked in since", func() bool {
		h, err := r.Operator.Host(ctx, "arc-1")
		return err == nil && h.LastSeen != nil && h.LastSeen.Sub(published) > 2*rig.Interval
	})
	now, err = os.ReadFile(certificate)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(now))
	require.Zero(t, r.Carry().Counts["failed"])
	r.Until("it is well, with its seat", func() bool {
		h, err := r.Operator.Host(ctx, "arc-1")
		seats, seatsErr := r.Operator.Seats(ctx, client.List{})
		return err == nil && seatsErr == nil && h.State == api.StateSteady && seats.Total == 1
	})
	r.Until("it has the access of that seat", func() bool {
		now, err := os.ReadFile(certificate)
		return err == nil && string(now) != string(before)
	})
}
