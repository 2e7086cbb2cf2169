package agent

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"patientlantern.example/lantern/api"
)

// keptAsItIs gives a file or folder an attribute, until the test has ended. Whether the file system has such attributes is told.
func keptAsItIs(t *testing.T, name string, attribute int) bool {
	t.Helper()
	set := func(attributes int) error {
		f, err := os.Open(name)
		require.NoError(t, err)
		defer f.Close()
		return unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, attributes)
	}
	if err := set(attribute); err != nil {
		require.Contains(t, []error{unix.ENOTTY, unix.EOPNOTSUPP, unix.EPERM}, err)
		return false
	}
	t.Cleanup(func() { require.NoError(t, set(0)) })
	return true
}

// What keeps even root from writing is found before anything is begun, and named with what to do.
func TestWhatKeepsRootFromWritingIsNamed(t *testing.T) {
	const file, folder = "/etc/apt/sources.list.d/saltmarsh.sources", "/etc/apt/sources.list.d"
	mounted := func(t *testing.T, name string) bool {
		require.NoError(t, syscall.Mount(name, name, "", syscall.MS_BIND, ""))
		t.Cleanup(func() { require.NoError(t, syscall.Unmount(name, syscall.MNT_DETACH)) })
		return true
	}
	readOnly := func(t *testing.T, name string) bool {
		mounted(t, name)
		require.NoError(t, syscall.Mount("", name, "", syscall.MS_REMOUNT|syscall.MS_BIND|syscall.MS_RDONLY, ""))
		return true
	}
	attribute := func(attribute int) func(t *testing.T, name string) bool {
		return func(t *testing.T, name string) bool { return keptAsItIs(t, name, attribute) }
	}
	for _, c := range []struct {
		name, at string
		lock     func(t *testing.T, name string) bool
		says     string
	}{
		{"a file system that is read-only", folder, readOnly, " stands on a file system that is mounted read-only"},
		{"a file that is read-only", file, readOnly, file + " stands on a file system that is mounted read-only"},
		{"a file that is mounted there", file, mounted, file + " is a mount point (findmnt " + file + "), and such a file cannot be replaced"},
		{"an immutable file", file, attribute(0x10), file + " has an attribute (lsattr) that keeps anybody from changing it: chattr -i -a " + file},
		{"one that can be added to alone", file, attribute(0x20), file + " has an attribute (lsattr)"},
		{"an immutable folder", folder, attribute(0x10), folder + " has an attribute (lsattr)"},
		{"a folder above those that are made", "/etc/apt", attribute(0x10), "/etc/apt has an attribute (lsattr)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := t.TempDir()
			mount(t, root, "size=4m")
			h, _ := host(t, root)
			if c.at == "/etc/apt" {
				require.NoError(t, os.RemoveAll(filepath.Join(root, folder)))
			} else {
				require.NoError(t, os.MkdirAll(filepath.Join(root, folder), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(root, file), []byte("# by hand\n"), 0o644))
			}
			before := tree(t, root)
			if !c.lock(t, filepath.Join(root, c.at)) {
				return // tmpfs has no such attributes here, or root may not set them: nobody can keep a file so
			}
			rep := carried(t, h, saltmarsh(0))
			assert.Equal(t, api.StepJournal, rep.Step)
			assert.Contains(t, rep.Message, "nothing was changed: ")
			assert.Contains(t, rep.Message, c.says)
			assert.Equal(t, before, tree(t, root))
			open, err := h.journalOpen()
			require.NoError(t, err)
			assert.False(t, open)
		})
	}
}
