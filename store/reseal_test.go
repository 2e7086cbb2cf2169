package store_test

import (
	"bytes"
	"context"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/store"
)

// Secrets are encrypted anew while others commit; one that goes meanwhile is gone.
func TestOthersCommitWhileSecretsAreEncryptedAnew(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	defer s.Close()
	for _, name := range []string{"gannet", "plover"} {
		require.NoError(t, s.PutAccount(ctx, store.Account{Name: name, Login: []byte("old " + name), Created: now}, store.Change{}))
	}
	require.NoError(t, s.AddHosts(ctx, []*store.Host{{Name: "gw-01", Key: make([]byte, 32)}}))
	seat := store.Seat{Seat: subscription.Seat{Host: "gw-01", Account: "gannet", Contract: "GN-2026-014", Taken: now}, Access: []byte("old access")}
	require.NoError(t, s.PutSeats(ctx, []store.Seat{seat}, nil, store.Change{}))
	w := store.Webhook{URL: "https://alerts.brinewick.test/", Secret: []byte("old hook"), Created: now}
	require.NoError(t, s.AddWebhook(ctx, &w, store.Change{}))
	n, err := s.Reseal(ctx, func(old []byte) ([]byte, error) {
		soon, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		if string(old) == "old plover" {
			assert.NoError(t, s.RemoveAccount(soon, "plover", store.Change{}), "nobody holds the database meanwhile")
		}
		return append([]byte("new "), bytes.TrimPrefix(old, []byte("old "))...), nil
	}, store.Change{})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	accounts, err := s.Accounts(ctx)
	require.NoError(t, err)
	require.Len(t, accounts, 1)
	assert.Equal(t, "new gannet", string(accounts[0].Login))
	seats, err := s.Seats(ctx)
	require.NoError(t, err)
	require.Len(t, seats, 1)
	assert.Equal(t, "new access", string(seats[0].Access))
	hooks, err := s.Webhooks(ctx)
	require.NoError(t, err)
	require.Len(t, hooks, 1)
	assert.Equal(t, "new hook", string(hooks[0].Secret))

	_, err = s.Reseal(ctx, func(old []byte) ([]byte, error) {
		if string(old) == "new hook" {
			return nil, errors.New("none of the keys opens it")
		}
		return []byte("x"), nil
	}, store.Change{})
	require.Error(t, err)
	accounts, err = s.Accounts(ctx)
	require.NoError(t, err)
	assert.Equal(t, "new gannet", string(accounts[0].Login), "all or nothing")
}
