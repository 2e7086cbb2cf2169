package agent

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"patientlantern.example/lantern/core/rootfs"
)

// TestBothWaysIntoARootAgree compares the kernel's resolution with our own.
func TestBothWaysIntoARootAgree(t *testing.T) {
	base := t.TempDir()
	root := filepath.Join(base, "root")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc/dir"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(base, "outside"), []byte("secret"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "outside"), []byte("inside"), 0o640))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/file"), []byte("text"), 0o600))
	require.NoError(t, unix.Mkfifo(filepath.Join(root, "etc/pipe"), 0o644))
	for link, target := range map[string]string{
		"etc/abs": "/etc/file", "etc/rel": "../etc/file", "etc/out": "../../outside", "etc/far": "../../../../../outside", "etc/real": base + "/outside",
		"etc/loop": "loop", "etc/a": "b", "etc/b": "a", "etc/linked": "/etc/dir/..", "etc/lost": "/nowhere", "top": "/",
	} {
		require.NoError(t, os.Symlink(target, filepath.Join(root, link)))
	}
	dir, err := os.OpenRoot(root)
	require.NoError(t, err)
	defer dir.Close()
	in, err := openInRoot(dir, root)
	require.NoError(t, err)
	if in == nil {
		t.Fatal("this kernel has no openat2")
	}
	defer unix.Close(in.dir)
	fast, slow := rootfs.New(in), rootfs.New(dir.FS())
	for _, name := range []string{
		"/etc/file", "/etc/abs", "/etc/rel", "/etc/out", "/etc/far", "/etc/real", "/etc/loop", "/etc/a", "/etc/linked/file", "/etc/lost", "/etc", "/etc/pipe", "/", "/top/etc/file", "/etc/../../../outside", "etc/file", "/etc/file/x", "/none/x",
	} {
		a, errA := fast.ReadText(name)
		b, errB := slow.ReadText(name)
		assert.Equal(t, string(b), string(a), name)
		assert.Equal(t, errB == nil, errA == nil, "%s: %v, %v", name, errB, errA)
		assert.Equal(t, errors.Is(errB, fs.ErrNotExist), errors.Is(errA, fs.ErrNotExist), "%s: %v, %v", name, errB, errA)
		i, errI := fast.Stat(name)
		j, errJ := slow.Stat(name)
		assert.Equal(t, errJ == nil, errI == nil, "%s: %v, %v", name, errJ, errI)
		if errI == nil && errJ == nil {
			assert.Equal(t, j.Mode(), i.Mode(), name)
			assert.Equal(t, j.IsDir(), i.IsDir(), name)
		}
		d, errD := fast.ReadDir(name)
		e, errE := slow.ReadDir(name)
		assert.Equal(t, errE == nil, errD == nil, "%s: %v, %v", name, errE, errD)
		assert.Len(t, d, len(e), name)
	}
}

func TestReadingLeavesAccessTimes(t *testing.T) {
	root := t.TempDir()
	name := filepath.Join(root, "file")
	require.NoError(t, os.WriteFile(name, []byte("0123456789"), 0o600))
	old := time.Unix(1_000_000, 0)
	require.NoError(t, os.Chtimes(name, old, time.Now()))
	h, err := OpenHost(root)
	require.NoError(t, err)
	defer h.Close()
	text, err := h.fs.ReadText("/file")
	require.NoError(t, err)
	assert.Equal(t, "0123456789", string(text))
	var st unix.Stat_t
	require.NoError(t, unix.Stat(name, &st))
	assert.Equal(t, old.Unix(), int64(st.Atim.Sec))
	f, err := h.fs.Open("/file")
	require.NoError(t, err)
	defer f.Close()
	part := make([]byte, 4)
	n, err := f.(io.ReaderAt).ReadAt(part, 8)
	assert.Equal(t, 2, n)
	assert.ErrorIs(t, err, io.EOF)
}
