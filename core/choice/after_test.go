package choice_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/standin"
)

// What would decide on a host after its files are edited is what does decide once they are: on
// every host of the scenario, whatever package manager it has.
func TestWhatWouldDecideIsWhatDecides(t *testing.T) {
	keys, err := standin.Keys()
	require.NoError(t, err)
	edits := map[string]string{
		"/etc/apt/sources.list.d/more.list":       "deb http://127.0.0.1:7801/packages.saltmarsh.example/apt/9.x stable main\n",
		"/etc/apt/preferences.d/more":             "Package: *\nPin: origin 127.0.0.1\nPin-Priority: 700\n",
		"/etc/yum.repos.d/more.repo":              "[more]\nname=More $releasever\nbaseurl=http://127.0.0.1:7801/more/$releasever/$basearch\npriority=7\nexcludepkgs=tide-*\n",
		"/etc/zypp/repos.d/more.repo":             "[more]\nname=More\nenabled=1\nbaseurl=http://127.0.0.1:7801/more/$releasever_major\npriority=7\n",
		"/etc/pacman.conf":                        "[options]\nArchitecture = auto\nIgnorePkg = tide-model\n[more]\nServer = http://127.0.0.1:7801/more/$arch\n",
		"/etc/flatpak/remotes.d/more.flatpakrepo": "[Flatpak Repo]\nUrl=http://127.0.0.1:7801/more/\nGPGKey=\n",
	}
	known := map[string]bool{}
	for _, m := range standin.Fleet() {
		root := t.TempDir()
		require.NoError(t, m.Write(root, "http://127.0.0.1:7801", keys))
		dir, err := os.OpenRoot(root)
		require.NoError(t, err)
		defer dir.Close()
		read := func() survey.Result {
			return survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()})
		}
		before := read()
		edited := map[string][]byte{}
		for name, text := range edits {
			if _, err := os.Stat(filepath.Join(root, filepath.Dir(name))); err == nil {
				edited[name] = []byte(text)
			}
		}
		require.NotEmpty(t, edited, m.Name)
		after, ok := choice.After(&before.Survey, before.Texts, edited)
		if !assert.True(t, ok, "%s: read again from its files it is another host", m.Name) {
			continue
		}
		known[before.Survey.Traits.Family] = true
		for name, text := range edited {
			require.NoError(t, os.WriteFile(filepath.Join(root, name), text, 0o644))
		}
		now := read()
		want := choice.Of(&now.Survey)
		assert.Equal(t, want.Weighs(), after.Weighs(), m.Name)
		assert.NotEqual(t, choice.Of(&before.Survey).Weighs(), after.Weighs(), m.Name)
	}
	assert.Len(t, known, 4)
}
