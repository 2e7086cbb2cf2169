package service_test

import (
	"bytes"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/rig"
)

// Hosts refresh from a folder that the service serves, by their own package manager; while it is away that is
// said, and told to them.
func TestHostsAreServedAShelf(t *testing.T) {
	t.Parallel()
	all := t.TempDir()
	r := rig.New(t, func(o *datafolder.Options) { o.Shelves = all })
	root := r.Up("desk-2")
	x, err := r.Operator.AddShelf(ctx, api.ShelfOrder{Name: "brinewick", Folder: "srv/shelf"})
	require.NoError(t, err)
	assert.Equal(t, []string{"/shelf/brinewick/", api.ShelfAway, "the folder is not there"}, []string{x.Path, x.State, x.Why})
	require.NoError(t, r.Upstreams.AttachShelf(all))
	files := r.Policy()
	for name := range files {
		files[name] = bytes.ReplaceAll(files[name], []byte(r.Upstream+"/shelf.brinewick.test"), []byte(r.Server.URL+"/shelf/brinewick"))
	}
	_, err = r.Operator.Publish(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	assert.Contains(t, read(t, filepath.Join(root, "etc/apt/sources.list.d/brinewick-shelf.sources")), "\nURIs: "+r.Server.URL+"/shelf/brinewick/deb\n")
	refreshed := false
	for _, o := range ro.Hosts[0].Report.Sources {
		refreshed = refreshed || o.OK && o.URL == r.Server.URL+"/shelf/brinewick/deb/"
	}
	assert.True(t, refreshed, "%+v", ro.Hosts[0].Report.Sources)

	// The media go: that is a state, and hosts are told that nothing is there.
	require.NoError(t, os.Rename(filepath.Join(all, "srv"), filepath.Join(all, "gone")))
	list, err := r.Operator.Shelves(ctx)
	require.NoError(t, err)
	require.Len(t, list.Shelves, 1)
	assert.Equal(t, api.ShelfAway, list.Shelves[0].State)
	assert.Equal(t, http.StatusNotFound, fetched(t, r.Server.URL+"/shelf/brinewick/deb/dists/shelf/InRelease"))
	require.NoError(t, os.Rename(filepath.Join(all, "gone"), filepath.Join(all, "srv")))
	r.Restart()
	assert.Equal(t, http.StatusOK, fetched(t, r.Server.URL+"/shelf/brinewick/deb/dists/shelf/InRelease"))
	require.NoError(t, r.Operator.RemoveShelf(ctx, "brinewick"))
	assert.Equal(t, http.StatusNotFound, fetched(t, r.Server.URL+"/shelf/brinewick/deb/dists/shelf/InRelease"))
	assert.ErrorContains(t, r.Operator.RemoveShelf(ctx, "brinewick"), `there is no shelf "brinewick"`)
	assert.FileExists(t, filepath.Join(all, "srv/shelf/deb/dists/shelf/InRelease"), "the folder stays")
}

func fetched(t *testing.T, url string) int {
	t.Helper()
	resp, err := http.Get(url)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	return resp.StatusCode
}

// Only what stands below one folder is ever served, whoever asks and however it is written.
func TestNothingElseOfTheMachineIsServed(t *testing.T) {
	t.Parallel()
	all := t.TempDir()
	r := rig.New(t, func(o *datafolder.Options) { o.Shelves = all })
	require.NoError(t, os.Symlink("/etc", filepath.Join(all, "out")))
	for folder, want := range map[string]string{
		"/etc": "is not below", "..": "is not below", "../..": "is not below", "a/../../etc": "is not below", all + "/../x": "is not below",
		".ssh": "begins with a dot", "a/.b": "begins with a dot",
	} {
		_, err := r.Operator.AddShelf(ctx, api.ShelfOrder{Name: "x", Folder: folder})
		assert.ErrorContains(t, err, want, folder)
	}
	for _, name := range []string{"", "../x", "a b", "A"} {
		_, err := r.Operator.AddShelf(ctx, api.ShelfOrder{Name: name, Folder: "a"})
		assert.Error(t, err, name)
	}
	x, err := r.Operator.AddShelf(ctx, api.ShelfOrder{Name: "out", Folder: "out"})
	require.NoError(t, err)
	assert.Equal(t, "the folder cannot be opened", x.Why)
	assert.Equal(t, http.StatusNotFound, fetched(t, r.Server.URL+"/shelf/out/passwd"))
	x, err = r.Operator.AddShelf(ctx, api.ShelfOrder{Name: "whole", Folder: all + "/there"})
	require.NoError(t, err)
	assert.Equal(t, "there", x.Folder, "a name from the root on is understood where it is below")
}
