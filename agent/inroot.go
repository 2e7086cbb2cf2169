package agent

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"time"

	"golang.org/x/sys/unix"
)

// inRoot opens files as if the process had changed its root: the kernel resolves
// links inside the folder, in one call, openat2(2). Access times are left alone
// where the system lets it.
type inRoot struct {
	fs.ReadLinkFS     // for what is asked without following links
	dir           int // descriptor of the root folder
}

var _ interface {
	OpenInRoot(string) (fs.File, error)
	StatInRoot(string) (fs.FileInfo, error)
	ListInRoot(string) ([]fs.DirEntry, error)
	LinkInRoot(string) string
} = (*inRoot)(nil)

// openInRoot returns nil where the kernel cannot do it.
func openInRoot(dir *os.Root, root string) (*inRoot, error) {
	fd, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	r := &inRoot{dir.FS().(fs.ReadLinkFS), fd}
	probe, err := r.open(".", unix.O_PATH)
	if err != nil {
		unix.Close(fd)
		return nil, nil //nolint:nilnil // an older kernel, or one that is not allowed to
	}
	unix.Close(probe)
	return r, nil
}

func (r *inRoot) open(name string, flags uint64) (int, error) {
	how := unix.OpenHow{Flags: flags | unix.O_CLOEXEC, Resolve: unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_MAGICLINKS}
	for {
		fd, err := unix.Openat2(r.dir, name, &how)
		switch {
		case errors.Is(err, unix.EINTR), errors.Is(err, unix.EAGAIN):
		case errors.Is(err, unix.EPERM) && how.Flags&unix.O_NOATIME != 0:
			how.Flags &^= unix.O_NOATIME // not the owner
		default:
			return fd, err
		}
	}
}

func wrap(op, name string, err error) error {
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// OpenInRoot opens a file for reading; a pipe does not hold it up.
func (r *inRoot) OpenInRoot(name string) (fs.File, error) {
	fd, err := r.open(name, unix.O_RDONLY|unix.O_NOATIME|unix.O_NONBLOCK|unix.O_NOCTTY)
	if err != nil {
		return nil, wrap("open", name, err)
	}
	return &rootFile{fd, path.Base(name)}, nil
}

// StatInRoot describes the file that a path leads to.
func (r *inRoot) StatInRoot(name string) (fs.FileInfo, error) {
	fd, err := r.open(name, unix.O_PATH)
	if err != nil {
		return nil, wrap("stat", name, err)
	}
	defer unix.Close(fd)
	return stat(fd, name)
}

// ListInRoot lists a folder in the order in which it is kept.
func (r *inRoot) ListInRoot(name string) ([]fs.DirEntry, error) {
	fd, err := r.open(name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOATIME)
	if err != nil {
		return nil, wrap("open", name, err)
	}
	d := os.NewFile(uintptr(fd), name)
	defer d.Close()
	return d.ReadDir(-1)
}

// LinkInRoot tells where a path itself leads, if it is a link; empty where it is none.
func (r *inRoot) LinkInRoot(name string) string {
	fd, err := r.open(name, unix.O_PATH|unix.O_NOFOLLOW)
	if err != nil {
		return ""
	}
	defer unix.Close(fd)
	target := make([]byte, 4096)
	n, err := unix.Readlinkat(fd, "", target)
	switch {
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.EINVAL):
		return "" // it is no link
	case err != nil:
		return "?"
	}
	return string(target[:n])
}

func stat(fd int, name string) (fs.FileInfo, error) {
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return nil, wrap("stat", name, err)
	}
	return info{path.Base(name), st}, nil
}

// rootFile is an open file, without the machinery for waiting that os.File has.
type rootFile struct {
	fd   int
	name string
}

func (f *rootFile) Stat() (fs.FileInfo, error) { return stat(f.fd, f.name) }

func (f *rootFile) Read(b []byte) (int, error) {
	for {
		n, err := unix.Read(f.fd, b)
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil:
			return 0, wrap("read", f.name, err)
		case n == 0 && len(b) > 0:
			return 0, io.EOF
		default:
			return n, nil
		}
	}
}

func (f *rootFile) ReadAt(b []byte, at int64) (int, error) {
	done := 0
	for done < len(b) {
		n, err := unix.Pread(f.fd, b[done:], at+int64(done))
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil:
			return done, wrap("read", f.name, err)
		case n == 0:
			return done, io.EOF
		default:
			done += n
		}
	}
	return done, nil
}

func (f *rootFile) Close() error { return unix.Close(f.fd) }

// info describes a file from what the kernel says.
type info struct {
	name string
	st   unix.Stat_t
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.st.Size }
func (i info) ModTime() time.Time { return time.Unix(i.st.Mtim.Unix()) }
func (i info) IsDir() bool        { return i.st.Mode&unix.S_IFMT == unix.S_IFDIR }
func (i info) Sys() any           { return &i.st }

// Owner tells the user and the group.
func (i info) Owner() (uid, gid uint32) { return i.st.Uid, i.st.Gid }

func (i info) Mode() fs.FileMode {
	mode := fs.FileMode(i.st.Mode & 0o777)
	if i.st.Mode&unix.S_ISUID != 0 {
		mode |= fs.ModeSetuid
	}
	if i.st.Mode&unix.S_ISGID != 0 {
		mode |= fs.ModeSetgid
	}
	if i.st.Mode&unix.S_ISVTX != 0 {
		mode |= fs.ModeSticky
	}
	switch i.st.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		mode |= fs.ModeDir
	case unix.S_IFLNK:
		mode |= fs.ModeSymlink
	case unix.S_IFIFO:
		mode |= fs.ModeNamedPipe
	case unix.S_IFSOCK:
		mode |= fs.ModeSocket
	case unix.S_IFCHR:
		mode |= fs.ModeDevice | fs.ModeCharDevice
	case unix.S_IFBLK:
		mode |= fs.ModeDevice
	}
	return mode
}
