package service_test

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// A service that moves takes its hosts along: they are told its new address, and keep all else. On the host it can be seen how
// its agent stands.
func TestAServiceThatMovesTakesItsHostsAlong(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	_, h := r.Enrol("gw-01")
	_, err := h.Status(ctx)
	require.NoError(t, err)
	stop := r.Start(h)
	r.Surveyed("gw-01")
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	s, err := h.Status(ctx)
	require.NoError(t, err)
	require.NoError(t, s.Answer)
	assert.Equal(t, "gw-01.brinewick.test", s.Host)
	assert.Equal(t, r.Server.URL, s.Service)
	assert.True(t, s.Works)
	assert.False(t, s.Open)
	assert.False(t, s.Waits)
	assert.EqualValues(t, 1, s.Revision)

	at, err := url.Parse(r.Server.URL)
	require.NoError(t, err)
	var calls atomic.Int64
	proxy := httputil.NewSingleHostReverseProxy(at)
	next := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		calls.Add(1)
		proxy.ServeHTTP(w, req)
	}))
	defer next.Close()
	_, err = h.Move(ctx, next.URL)
	require.ErrorContains(t, err, "another agent is at work on")
	stop()
	other := rig.New(t)
	for _, wrong := range []string{other.Server.URL, "http://127.0.0.1:1"} {
		_, err = h.Move(ctx, wrong)
		require.ErrorContains(t, err, "does not answer as the service that this host has joined, so nothing was changed")
	}
	name, err := h.Move(ctx, next.URL+"/")
	require.NoError(t, err)
	assert.Equal(t, "gw-01.brinewick.test", name)
	before := calls.Load()
	r.Start(h)
	r.Until("it checks in there", func() bool { return calls.Load() > before+2 })
	s, err = h.Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, next.URL, s.Service)
	assert.EqualValues(t, 1, s.Revision)

	key := filepath.Join(h.State, "key.pem")
	require.NoError(t, os.Rename(key, key+".away"))
	_, err = h.Status(ctx)
	require.ErrorContains(t, err, "is missing, and "+next.URL+" knows this host by it")
	require.NoFileExists(t, key, "to look makes no other")
	require.NoError(t, os.Rename(key+".away", key))
	r.Away(true)
	s, err = h.Status(ctx)
	require.NoError(t, err)
	assert.Error(t, s.Answer)
	r.Away(false)
}
