package service_test

import (
	"compress/gzip"
	"fmt"
	"io"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"patientlantern.example/lantern/datafolder"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
)

// written unpacks a data folder that an earlier version wrote: twelve hosts of the demo,
// a rollout, a healing, a finding, seats, an invitation.
func written(t *testing.T, name string) (dir, token string) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "data")
	require.NoError(t, os.Mkdir(dir, 0o700))
	for _, file := range []string{"signing-key.pem", "secrets-key.txt"} {
		b, err := os.ReadFile(filepath.Join("testdata", name, file))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), b, 0o600))
	}
	f, err := os.Open(filepath.Join("testdata", name, "lantern.db.gz"))
	require.NoError(t, err)
	defer f.Close()
	unpacked, err := gzip.NewReader(f)
	require.NoError(t, err)
	b, err := io.ReadAll(unpacked)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lantern.db"), b, 0o600))
	secret, err := os.ReadFile(filepath.Join("testdata", name, "token.txt"))
	require.NoError(t, err)
	return dir, strings.TrimSpace(string(secret))
}

// Every later version opens what an earlier one wrote, and says the same of it.
func TestADataFolderOfAnEarlierVersionIsUnderstood(t *testing.T) {
	t.Parallel()
	dir, token := written(t, "data-4")
	for range 2 { // and once more, as this version left it
		begun := time.Date(2026, 11, 25, 15, 29, 0, 0, time.UTC)
		svc, err := datafolder.Open(ctx, datafolder.Options{Data: dir, Log: slog.New(slog.DiscardHandler), Interval: time.Hour, Now: func() time.Time { return begun }})
		require.NoError(t, err)
		srv := httptest.NewServer(svc.Handler())
		c := client.New(srv.URL, token)
		hosts, err := c.Hosts(ctx, client.List{})
		require.NoError(t, err)
		assert.Equal(t, 12, hosts.All)
		assert.Equal(t, 11, hosts.Standing.Steady)
		assert.Equal(t, 1, hosts.Standing.Unfetched)
		assert.Equal(t, 1, hosts.Standing.Invited)
		found, err := c.Drift(ctx, client.List{})
		require.NoError(t, err)
		var list []string
		for _, f := range found.Findings {
			list = append(list, fmt.Sprintf("%s %s %s %s", f.Host, f.Class, f.Severity, f.Since.Format("15:04:05")))
		}
		assert.Equal(t, []string{
			"gw-02.brinewick.test unlisted-source danger 15:28:13",
			"gw-05.brinewick.test seat-ends note 15:28:13",
		}, list)
		rollouts, err := c.Rollouts(ctx, client.List{})
		require.NoError(t, err)
		require.Len(t, rollouts.Rollouts, 2)
		assert.Equal(t, 1, rollouts.Rollouts[0].Counts[rollout.Unchanged])
		assert.Equal(t, 11, rollouts.Rollouts[1].Counts[rollout.Done])
		one, err := c.Rollout(ctx, 1, client.List{PerPage: 1000})
		require.NoError(t, err)
		assert.Equal(t, 12, one.Total)
		for _, h := range one.Hosts {
			require.NotNil(t, h.Report, h.Host)
			assert.NotEmpty(t, h.Report.Took, h.Host)
		}
		seats, err := c.Seats(ctx, client.List{})
		require.NoError(t, err)
		assert.Len(t, seats.Seats, 4)
		d, err := c.Host(ctx, "gw-01")
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"site": "north"}, d.Labels)
		assert.Equal(t, api.StateSteady, d.State)
		srv.Close()
		require.NoError(t, svc.Close())
	}
}
