package agent

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

// tree reads every file below /etc of a root: path → mode and text.
func tree(t testing.TB, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(filepath.Join(root, "etc"), func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		b, err := os.ReadFile(name)
		st, ok := info.Sys().(*syscall.Stat_t)
		require.True(t, ok)
		out[name[len(root):]] = info.Mode().String() + " " + strconv.Itoa(int(st.Uid)) + " " + string(b)
		return err
	}))
	return out
}

// host makes a root with one list to edit, one to remove and one to make.
func host(t testing.TB, root string) (*Host, []change.FileEdit) {
	t.Helper()
	for name, text := range map[string]string{
		"/etc/os-release": "ID=skerry\nID_LIKE=debian\n", "/etc/apt/sources.list": "# old\n", "/etc/apt/sources.list.d/gone.list": "# to go\n",
		"/var/lib/dpkg/status": "Package: dpkg\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1\n\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(root+name), 0o755))
		require.NoError(t, os.WriteFile(root+name, []byte(text), 0o644))
	}
	require.NoError(t, os.Chmod(root+"/etc/apt/sources.list", 0o640))
	h, err := OpenHost(root)
	require.NoError(t, err)
	t.Cleanup(func() { h.Close() })
	return h, []change.FileEdit{
		{Path: "/etc/apt/sources.list", Action: change.Edit, Mode: "0640", Old: []byte("# old\n"), New: []byte("# new\n")},
		{Path: "/etc/apt/sources.list.d/fresh.list", Action: change.Create, Mode: "0644", New: []byte("# fresh\n")},
		{Path: "/etc/apt/sources.list.d/gone.list", Action: change.Remove, Mode: "0644", Old: []byte("# to go\n")},
	}
}

// TestACrashAtAnyPointLeavesOldOrNew stops a change after each of its writes, as
// a crash would, and starts again.
func TestACrashAtAnyPointLeavesOldOrNew(t *testing.T) {
	base := t.TempDir()
	h, edits := host(t, filepath.Join(base, "whole"))
	old := tree(t, h.Root)
	steps := func(h *Host, stop int) (done bool) {
		n := 0
		crash := func() bool { n++; return n > stop }
		j, err := h.openJournal(1, edits)
		require.NoError(t, err)
		if crash() {
			return false
		}
		var files []*staged
		for i, e := range edits {
			s, err := h.stage(e, j.Files[i])
			require.NoError(t, err)
			files = append(files, s)
			if crash() {
				return false
			}
		}
		for _, s := range files {
			require.NoError(t, h.swapOut(s))
			if crash() {
				return false
			}
		}
		require.NoError(t, h.closeJournal())
		return true
	}
	require.True(t, steps(h, 100))
	made := tree(t, h.Root)
	assert.NotEqual(t, old, made)
	for stop := range 7 {
		h, _ := host(t, filepath.Join(base, strconv.Itoa(stop)))
		done := steps(h, stop)
		again, err := OpenHost(h.Root)
		require.NoError(t, err)
		undone, err := again.Recover()
		require.NoError(t, err)
		assert.Equal(t, !done, undone, "after step %d", stop)
		now := tree(t, h.Root)
		for name := range now { // a temporary file may stay behind, hidden from apt
			if filepath.Base(name)[0] == '.' {
				delete(now, name)
			}
		}
		if done {
			assert.Equal(t, made, now)
		} else {
			assert.Equal(t, old, now, "after step %d", stop)
		}
		undone, err = again.Recover()
		require.NoError(t, err)
		assert.False(t, undone, "a second start finds nothing to do")
	}
}

func TestAJournalWithoutItsLastWriteIsIgnored(t *testing.T) {
	h, _ := host(t, t.TempDir())
	require.NoError(t, h.save("journal/0", []byte("a copy that no journal names yet")))
	undone, err := h.Recover()
	require.NoError(t, err)
	assert.False(t, undone)
}

func TestALinkedFileIsEditedWhereItIs(t *testing.T) {
	root := t.TempDir()
	h, edits := host(t, root)
	require.NoError(t, os.MkdirAll(root+"/srv", 0o755))
	require.NoError(t, os.Rename(root+"/etc/apt/sources.list", root+"/srv/shared.list"))
	require.NoError(t, os.Symlink("/srv/shared.list", root+"/etc/apt/sources.list"))
	j, err := h.openJournal(1, edits[:1])
	require.NoError(t, err)
	s, err := h.stage(edits[0], j.Files[0])
	require.NoError(t, err)
	require.NoError(t, h.swapOut(s))
	target, err := os.Readlink(root + "/etc/apt/sources.list")
	require.NoError(t, err)
	assert.Equal(t, "/srv/shared.list", target)
	b, err := os.ReadFile(root + "/srv/shared.list")
	require.NoError(t, err)
	assert.Equal(t, "# new\n", string(b))
}

func TestAFileThatChangedMeanwhileIsNotOverwritten(t *testing.T) {
	h, edits := host(t, t.TempDir())
	require.NoError(t, os.WriteFile(h.Root+"/etc/apt/sources.list", []byte("# by hand\n"), 0o640))
	_, err := h.stage(edits[0], journalEntry{})
	assert.ErrorIs(t, err, errTouched)
}

// carried applies a sheet to a host and returns the report.
func carried(t *testing.T, h *Host, sheet *source.Sheet) api.Report {
	t.Helper()
	c := &carrier{host: h, log: slog.New(slog.DiscardHandler), now: time.Now, report: api.Report{Took: map[string]int64{}}}
	s := h.Survey()
	s.Masked()
	plan := change.Compute(change.Input{Sheet: sheet, Survey: &s.Survey, Texts: s.Texts})
	require.NotEmpty(t, plan.Edits)
	err := c.apply(context.Background(), sheet, &s, plan)
	require.Error(t, err)
	c.report.Message = oneLine(err.Error())
	return c.report
}

func saltmarsh(bytes int) *source.Sheet {
	files, src, keys := deb.Render(deb.Definition{Repository: "saltmarsh", Enabled: true, URL: "file:/srv/none", Suites: []string{"stable"}, Components: []string{"main"}, Signatures: source.CheckOff})
	if bytes > 0 {
		big := make([]byte, bytes)
		for i := range big {
			big[i] = '#'
		}
		files[0].Text = string(big) + "\n" + files[0].Text
	}
	return &source.Sheet{Format: source.FormName(1), Family: "deb", Files: files, Sources: []source.SheetSource{src}, Keys: keys, Unlisted: source.UnlistedReport}
}

// mount mounts a small file system for the test.
func mount(t *testing.T, dir, options string) {
	t.Helper()
	require.Equal(t, 0, os.Geteuid(), "this test mounts a file system and needs root, as .ci/run has")
	require.NoError(t, syscall.Mount("lantern-test", dir, "tmpfs", 0, options))
	t.Cleanup(func() { require.NoError(t, syscall.Unmount(dir, syscall.MNT_DETACH)) })
}

func TestAReadOnlyHostStaysAsItIs(t *testing.T) {
	root := t.TempDir()
	mount(t, root, "size=4m")
	h, _ := host(t, root)
	before := tree(t, root)
	require.NoError(t, syscall.Mount("", root, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	rep := carried(t, h, saltmarsh(0))
	assert.Equal(t, api.StepJournal, rep.Step)
	assert.Contains(t, rep.Message, "nothing was changed: /etc/apt/sources.list.d stands on a file system that is mounted read-only")
	assert.Equal(t, before, tree(t, root))
}

func TestAHostWithoutAJournalStaysAsItIs(t *testing.T) {
	root := t.TempDir()
	h, _ := host(t, root)
	before := tree(t, root)
	require.NoError(t, os.MkdirAll(h.State, 0o700))
	mount(t, h.State, "size=4m")
	require.NoError(t, syscall.Mount("", h.State, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	rep := carried(t, h, saltmarsh(0))
	assert.Equal(t, api.StepJournal, rep.Step)
	assert.Contains(t, rep.Message, "nothing was changed: the journal cannot be written: ")
	assert.Contains(t, rep.Message, "read-only file system")
	assert.Equal(t, before, tree(t, root))
}

func TestAFullHostStaysAsItIs(t *testing.T) {
	root := t.TempDir()
	mount(t, root, "size=512k")
	h, _ := host(t, root)
	before := tree(t, root)
	rep := carried(t, h, saltmarsh(700<<10))
	assert.Equal(t, api.StepStage, rep.Step)
	assert.Contains(t, rep.Message, "/etc/apt/sources.list.d/saltmarsh.sources cannot be written: ")
	assert.Contains(t, rep.Message, "no space left on device")
	assert.True(t, rep.Undone)
	assert.Equal(t, before, tree(t, root))
}

func TestADamagedMemoryIsSaidAndNotGuessed(t *testing.T) {
	h, _ := host(t, t.TempDir())
	require.NoError(t, h.save("memory.json", []byte("{")))
	var m memory
	err := h.loadJSON("memory.json", &m)
	assert.ErrorContains(t, err, "memory.json is damaged")
	assert.False(t, errors.Is(err, fs.ErrNotExist))
}

// A file that stands where a folder is to be is named, and nothing is changed.
func TestWhatIsInTheWayOfAFolderIsNamed(t *testing.T) {
	root := t.TempDir()
	h, _ := host(t, root)
	require.NoError(t, os.RemoveAll(filepath.Join(root, "etc/apt/sources.list.d")))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d"), []byte("x\n"), 0o644))
	before := tree(t, root)
	rep := carried(t, h, saltmarsh(0))
	assert.Equal(t, api.StepJournal, rep.Step)
	assert.Contains(t, rep.Message, "/etc/apt/sources.list.d is no folder, and /etc/apt/sources.list.d/saltmarsh.sources is to stand below it: take it away")
	assert.Equal(t, before, tree(t, root))
}

// What stands where a file is to stand, and is none, is named with what to do, and nothing is changed.
func TestWhatStandsInThePlaceOfAFileIsNamed(t *testing.T) {
	for says, put := range map[string]func(at string) error{
		"is a folder, and a file is to stand there: move it away":    func(at string) error { return os.Mkdir(at, 0o755) },
		"is no regular file, and a file is to stand there":           func(at string) error { return unix.Mkfifo(at, 0o644) },
		"is a device, and a file is to stand there":                  func(at string) error { return unix.Mknod(at, unix.S_IFCHR|0o644, int(unix.Mkdev(1, 3))) },
		"is a link in a circle, or stands behind one, and a file is": func(at string) error { return os.Symlink("saltmarsh.sources", at) },
	} {
		t.Run(says, func(t *testing.T) {
			root := t.TempDir()
			h, _ := host(t, root)
			at := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
			require.NoError(t, put(at))
			was, err := os.Lstat(at)
			require.NoError(t, err)
			rep := carried(t, h, saltmarsh(0))
			assert.Equal(t, api.StepJournal, rep.Step)
			assert.Contains(t, rep.Message, "nothing was changed: /etc/apt/sources.list.d/saltmarsh.sources "+says)
			is, err := os.Lstat(at)
			require.NoError(t, err)
			assert.Equal(t, was.Mode(), is.Mode())
			open, err := h.journalOpen()
			require.NoError(t, err)
			assert.False(t, open)
		})
	}
}

// Where a file system cannot exchange two files in one step, they change places by links: each keeps its bytes, its mode and its
// number, and what an interruption leaves is swept.
func TestFilesChangePlacesByLinks(t *testing.T) {
	dir := t.TempDir()
	from, to := filepath.Join(dir, ".a.list17"), filepath.Join(dir, "a.list")
	require.NoError(t, os.WriteFile(from, []byte("new"), 0o600))
	require.NoError(t, os.WriteFile(to, []byte("old"), 0o640))
	was := map[string]os.FileInfo{}
	for _, name := range []string{from, to} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		was[name] = info
	}
	require.NoError(t, exchange(from, to))
	for name, other := range map[string]string{from: to, to: from} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.True(t, os.SameFile(was[other], info), name)
		assert.Equal(t, was[other].Mode(), info.Mode())
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 2)
	require.ErrorIs(t, exchange(from, filepath.Join(dir, "gone")), fs.ErrNotExist)
	require.NoError(t, os.Link(to, from+"0")) // it was ended in between
	assert.Equal(t, []string{from, from + "0"}, besides(to))
}
