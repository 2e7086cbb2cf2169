package datafolder_test

import (
	"context"
	"log/slog"
	"net/http/httptest"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/store"
)

// Where everybody's token is lost, who may write into the data folder lets somebody in again.
func TestALostTokenLocksNobodyOutForEver(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700))
	open := func() *datafolder.Running {
		r, err := datafolder.Open(ctx, datafolder.Options{Data: dir, Log: slog.New(slog.DiscardHandler), Interval: time.Minute})
		require.NoError(t, err)
		return r
	}
	r := open()
	require.NotEmpty(t, r.FirstToken)
	_, err := datafolder.AddOperator(ctx, dir, api.OperatorOrder{Name: "mira", Role: store.RoleOperator})
	require.ErrorContains(t, err, "another service is at work")
	require.NoError(t, r.Close())

	_, err = datafolder.AddOperator(ctx, dir, api.OperatorOrder{Name: "first", Role: store.RoleReader})
	require.ErrorContains(t, err, "first is the last who may change anything: nothing was done")
	o, err := datafolder.AddOperator(ctx, dir, api.OperatorOrder{Name: "mira", Role: store.RoleOperator})
	require.NoError(t, err)

	r = open()
	defer func() { require.NoError(t, r.Close()) }()
	assert.Empty(t, r.FirstToken)
	server := httptest.NewServer(r.Handler())
	defer server.Close()
	c := client.New(server.URL, o.Token)
	l, err := c.Operators(ctx)
	require.NoError(t, err)
	assert.Len(t, l.Operators, 2)
	require.NoError(t, c.RemoveOperator(ctx, "first"))
	a, err := c.Audit(ctx, client.List{})
	require.NoError(t, err)
	require.NotEmpty(t, a.Entries)
	assert.Equal(t, "remove-operator", a.Entries[0].What)
	assert.Equal(t, "add-operator", a.Entries[1].What)
	assert.Contains(t, string(a.Entries[1].Detail), "somebody at the data folder")
	v, err := c.AuditChain(ctx, "")
	require.NoError(t, err)
	assert.True(t, v.Whole)
}
