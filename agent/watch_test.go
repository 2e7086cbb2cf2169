package agent

import (
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/cell"
)

// A hidden file can hold a key that apt believes; only the agent's own temporary files are
// passed over.
func TestOwnFilesAreToldFromHiddenOnes(t *testing.T) {
	a := &Agent{}
	for name, own := range map[string]bool{
		"/etc/apt/sources.list.d/.tern.list4711234": true, "/etc/apt/trusted.gpg.d/.hidden.gpg": false, "/etc/apt/trusted.gpg.d/.hidden.asc": false,
		"/etc/apt/sources.list": false, "/etc/apt/.": false, "/etc/yum.repos.d/tern7": false,
	} {
		assert.Equal(t, own, a.own(name), name)
	}
}

// Configuration can move what is read, and sources name files anywhere: those folders are
// watched too.
func TestWhatIsReadElsewhereIsWatched(t *testing.T) {
	root := t.TempDir()
	for name, text := range map[string]string{
		"etc/apt/apt.conf.d/50x":    "Dir::Etc::sourceparts \"/srv/sources\";\nDir::Etc::preferencesparts \"/srv/pins\";\n",
		"srv/sources/tern.list":     "deb [signed-by=/srv/keys/tern.asc] mirror+file:/srv/mirrors/tern mussel main\n",
		"srv/keys/tern.asc":         "no key\n",
		"srv/pins/tern":             "Package: *\nPin: release o=Saltmarsh\nPin-Priority: 900\n",
		"etc/yum.repos.d/gull.repo": "[gull]\nmirrorlist=file:///srv/lists/gull\n",

		"etc/systemd/system/apt-daily.service.d/own.conf": "[Service]\nEnvironment=http_proxy=http://proxy.brinewick.test:3128\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	h, err := OpenHost(root)
	require.NoError(t, err)
	defer h.Close()
	a := &Agent{host: h}
	assert.Empty(t, a.readFrom(), "before anything was read")
	a.last, err = h.look()
	require.NoError(t, err)
	for _, dir := range []string{"/srv/sources", "/srv/keys", "/srv/mirrors", "/srv/pins", "/srv/lists", "/etc/systemd/system/apt-daily.service.d"} {
		assert.Contains(t, a.readFrom(), dir)
	}
}

// A file that is written in place is empty for a moment. What is told of a host is what stood when
// nothing was being written; where that does not end, it is told all the same.
func TestAFileThatIsBeingWrittenIsReadAgain(t *testing.T) {
	const text = "deb http://packages.saltmarsh.example/apt stable main\n"
	for _, c := range []struct {
		name    string
		changes int // of the file while the host is surveyed
		looks   int
	}{{"left alone", 0, 1}, {"written once", 1, 2}, {"written for ever", mostLooks + 5, mostLooks}} {
		t.Run(c.name, func(t *testing.T) {
			root := t.TempDir()
			file := filepath.Join(root, "etc/apt/sources.list")
			require.NoError(t, cell.Write(root, map[string]string{"etc/apt/sources.list": ""}))
			h, err := OpenHost(root)
			require.NoError(t, err)
			defer h.Close()
			w, err := fsnotify.NewWatcher()
			require.NoError(t, err)
			defer w.Close()
			events := make(chan fsnotify.Event, 1)
			w.Events = events
			a := &Agent{host: h, watched: w, log: slog.New(slog.DiscardHandler)}
			looks := 0
			a.now = func() time.Time { // after each
				if looks++; looks <= c.changes {
					require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
					events <- fsnotify.Event{Name: file, Op: fsnotify.Write}
				}
				return time.Now()
			}
			require.NoError(t, a.look(t.Context()))
			assert.Equal(t, c.looks, looks)
			if c.changes > 0 {
				assert.Len(t, a.last.result.Survey.Sources, 1)
			}
		})
	}
}
