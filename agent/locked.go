package agent

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// locked says why root itself may not put a file at a path, where that is so: what stands there or the folder is immutable, or the
// file system is read-only, or something is mounted at the very file. Nothing is begun then that would have to be put back.
func (h *Host) locked(real string) error {
	inside := func(name string) string {
		rel, err := filepath.Rel(h.Root, name)
		if err != nil {
			return name
		}
		return filepath.Join("/", rel)
	}
	for name, up := real, 0; ; name, up = filepath.Dir(name), up+1 {
		err := unix.Access(name, unix.W_OK)
		switch {
		case errors.Is(err, unix.EROFS):
			return obstacle(fmt.Sprintf("%s stands on a file system that is mounted read-only: mount it so that it can be written, "+
				"and heal the host then", inside(name)))
		case up == 0 && attribute(name, unix.STATX_ATTR_MOUNT_ROOT):
			return obstacle(fmt.Sprintf("%[1]s is a mount point (findmnt %[1]s), and such a file cannot be replaced: unmount it, and heal "+
				"the host then", inside(name)))
		case attribute(name, unix.STATX_ATTR_IMMUTABLE|unix.STATX_ATTR_APPEND):
			return obstacle(fmt.Sprintf("%[1]s has an attribute (lsattr) that keeps anybody from changing it: chattr -i -a %[1]s, "+
				"and heal the host then", inside(name)))
		case up > 0 && !errors.Is(err, unix.ENOENT): // the folder, or the first of those above that is there
			return nil
		case name == filepath.Dir(name):
			return nil
		}
	}
}

// attribute reports whether a file or folder has one of some attributes.
func attribute(name string, attributes uint64) bool {
	var st unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, name, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_TYPE, &st)
	return err == nil && st.Attributes&attributes != 0
}

// plain is an error without the name of a temporary file of the agent's own, which is hidden: whoever says it has named the file.
func plain(err error) error {
	hidden := func(name string) bool { return filepath.Base(name)[0] == '.' }
	var path *fs.PathError
	var link *os.LinkError
	switch {
	case errors.As(err, &path) && hidden(path.Path):
		return path.Err
	case errors.As(err, &link) && hidden(link.Old):
		return link.Err
	}
	return err
}
