package service_test

import (
	"fmt"
	"log/slog"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"patientlantern.example/lantern/datafolder"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/demo"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/store"
)

// fleetOf is a service with so many hosts, each of which has a label of its own.
func fleetOf(t *testing.T, count int) *client.Client {
	dir := filepath.Join(t.TempDir(), "data")
	open := func() *datafolder.Running {
		r, err := datafolder.Open(ctx, datafolder.Options{Data: dir, Log: slog.New(slog.DiscardHandler), Interval: time.Hour})
		require.NoError(t, err)
		return r
	}
	first := open()
	require.NoError(t, first.Close())
	st, err := store.Open(ctx, filepath.Join(dir, "lantern.db"))
	require.NoError(t, err)
	traits, err := source.Canonical(source.Traits{OS: source.OS{ID: "skerry", Version: "12", Codename: "mussel"}, Family: "deb", Arch: "x86_64", Architectures: []string{"amd64"}})
	require.NoError(t, err)
	survey, err := source.Canonical(source.Survey{})
	require.NoError(t, err)
	require.NoError(t, st.PutDocuments(ctx, time.Now(),
		store.Document{Kind: store.KindTraits, Digest: source.Digest(traits), Body: traits},
		store.Document{Kind: store.KindSurvey, Digest: source.Digest(survey), Body: survey}))
	var hosts []*store.Host
	for i := range count {
		hosts = append(hosts, &store.Host{
			Name: fmt.Sprintf("node-%04d.brinewick.test", i), Key: make([]byte, 32), Joined: time.Now(), LastSeen: time.Now(),
			Labels: map[string]string{"n": fmt.Sprint(i)}, Traits: source.Digest(traits), Survey: source.Digest(survey), Agent: "test",
		})
	}
	require.NoError(t, st.AddHosts(ctx, hosts))
	require.NoError(t, st.Close())
	svc := open()
	srv := httptest.NewServer(svc.Handler())
	t.Cleanup(func() {
		srv.Close()
		assert.NoError(t, svc.Close())
	})
	return client.New(srv.URL, first.FirstToken)
}

// However many sheets a fleet has, beyond what is remembered of them too, each is looked at.
func TestAFleetOfMoreSheetsThanAreRemembered(t *testing.T) {
	t.Parallel()
	const count = 1300
	c := fleetOf(t, count)
	all, err := demo.Policy(demo.Address, demo.Secure)
	require.NoError(t, err)
	files := policy.Folder{"all.yaml": []byte(`format: patient-lantern/1
repositories:
  own: { keys: [gannet-2025], deb: { url: "https://packages.brinewick.test/${label.n}", suites: [mussel], components: [main] } }
assign: [{ to: everyone, repositories: [own] }]
`)}
	for name, data := range all {
		if name == "keys.yaml" || strings.HasPrefix(name, "keys/") {
			files[name] = data
		}
	}
	p, err := c.PreviewFolder(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	assert.Equal(t, count, p.Changing)
	assert.Len(t, p.Groups, count)
	checked, err := c.Check(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	assert.Equal(t, count, checked.Looked.Hosts)
	_, err = c.Publish(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	ro, err := c.BeginRollout(ctx, rig.AtOnce)
	require.NoError(t, err)
	assert.Equal(t, count, ro.All())
	assert.Len(t, ro.Hosts, 50, "a page of them")
	assert.Equal(t, count, ro.Total)
	last, err := c.Rollout(ctx, ro.ID, client.List{Page: count / 50, PerPage: 50})
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("node-%04d.brinewick.test", count-1), last.Hosts[len(last.Hosts)-1].Host)
	stopped, err := c.StopRollout(ctx, ro.ID)
	require.NoError(t, err)
	assert.NotNil(t, stopped.Ended)
	assert.Equal(t, count, stopped.NotReached)
	assert.Equal(t, count, stopped.All())
	hosts, err := c.Hosts(ctx, client.List{})
	require.NoError(t, err)
	assert.Equal(t, count, hosts.Standing.NoRevision)
	assert.Zero(t, hosts.Standing.Steady, "nothing was carried to anybody")
	assert.True(t, hosts.Hosts[0].OldAgent, "its agent has not said which sheets it understands")
}
