package agent

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
)

// A folder of media on a network that does not answer is asked once and holds nobody up; what comes from it goes until it answers.
func TestMediaThatDoesNotAnswerHoldsNobodyUp(t *testing.T) {
	root := t.TempDir()
	h, err := OpenHost(root)
	require.NoError(t, err)
	defer func() { require.NoError(t, h.Close()) }()
	own := filepath.Join(root, "etc/yum.repos.d/shelf.repo")
	require.NoError(t, os.MkdirAll(filepath.Dir(own), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "srv/shelf"), 0o755))
	require.NoError(t, h.saveJSON("sheet.json", &source.Sheet{Files: []source.SheetFile{
		{Path: "/etc/yum.repos.d/shelf.repo", Mode: "0644", Text: "[shelf]\n", Repository: "shelf", While: "/srv/shelf"},
	}}))
	tended := func(want bool) {
		t.Helper()
		changed, err := h.tendMedia()
		require.NoError(t, err)
		assert.Equal(t, want, changed)
	}

	tended(false)
	require.NoFileExists(t, own, "nothing stands in the folder")
	require.NoError(t, os.WriteFile(filepath.Join(root, "srv/shelf/x"), nil, 0o644))
	tended(true)
	require.FileExists(t, own)
	assert.Equal(t, []string{"/srv", "/srv/shelf"}, h.watchMedia())

	answer, asked := make(chan bool), 0
	h.list = func(dir string) ([]fs.DirEntry, error) {
		asked++
		<-answer
		return h.fs.ReadDir(dir)
	}
	begun := time.Now()
	tended(true)
	require.NoFileExists(t, own)
	tended(false)
	tended(false)
	assert.Equal(t, []string{"/srv"}, h.watchMedia(), "what does not answer is not watched either")
	assert.Less(t, time.Since(begun), mediaPatience+2*time.Second, "it is waited for once")
	close(answer)
	require.Eventually(t, func() bool { holds, _ := h.holds("/srv/shelf"); return holds }, 10*time.Second, time.Millisecond)
	assert.LessOrEqual(t, asked, 2, "once while it hung, and once afterwards at most")
	tended(true)
	require.FileExists(t, own)
}
