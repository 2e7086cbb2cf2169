// Package rootfs reads files beneath a root folder as a process would that had
// changed its root into it: absolute symbolic links start at the root, and none
// leads out of it.
package rootfs

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
)

// MaxFile is the size in bytes beyond which ReadFile refuses a file. No source
// list, keyring or package database of a sane host comes near it.
const MaxFile = 256 << 20

// MaxText is the same for files that people write.
const MaxText = 8 << 20

// ErrLarge is returned for a file beyond the limit.
var ErrLarge = errors.New("file is too large to be read")

// ErrLoop is returned for symbolic links in a circle.
var ErrLoop = errors.New("too many levels of symbolic links")

// ErrNotRegular is returned where a file was wanted and something else stands.
var ErrNotRegular = errors.New("not a regular file")

// FS is a root folder. Paths inside it are absolute, with forward slashes.
type FS struct{ fsys fs.FS }

// New returns the root folder that fsys holds. fsys should implement
// fs.ReadLinkFS, as that of os.Root does; without it no link is followed.
func New(fsys fs.FS) *FS { return &FS{fsys} }

// Resolve returns the path of name, relative to the root and without symbolic
// links, as fs.FS wants it. The last element need not exist.
func (r *FS) Resolve(name string) (string, error) {
	links, ok := r.fsys.(fs.ReadLinkFS)
	rest := strings.Split(path.Clean("/" + name)[1:], "/")
	var at []string
	for hops := 0; len(rest) > 0; {
		part := rest[0]
		rest = rest[1:]
		switch part {
		case "", ".":
			continue
		case "..":
			if len(at) > 0 {
				at = at[:len(at)-1]
			}
			continue
		}
		here := strings.Join(append(at[:len(at):len(at)], part), "/")
		if ok {
			if info, err := links.Lstat(here); err == nil && info.Mode()&fs.ModeSymlink != 0 {
				if hops++; hops > 40 {
					return "", &fs.PathError{Op: "open", Path: name, Err: ErrLoop}
				}
				target, err := links.ReadLink(here)
				if err != nil {
					return "", err
				}
				if strings.HasPrefix(target, "/") {
					at = at[:0]
				}
				rest = append(strings.Split(target, "/"), rest...)
				continue
			}
		}
		at = append(at[:len(at):len(at)], part)
	}
	if len(at) == 0 {
		return ".", nil
	}
	return strings.Join(at, "/"), nil
}

// Stat describes the file that name leads to.
func (r *FS) Stat(name string) (fs.FileInfo, error) {
	p, err := r.Resolve(name)
	if err != nil {
		return nil, err
	}
	return fs.Stat(r.fsys, p)
}

// ReadDir lists a folder, sorted by name.
func (r *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	p, err := r.Resolve(name)
	if err != nil {
		return nil, err
	}
	return fs.ReadDir(r.fsys, p)
}

// Open opens a regular file of any size.
func (r *FS) Open(name string) (fs.File, error) {
	p, err := r.Resolve(name)
	if err != nil {
		return nil, err
	}
	info, err := fs.Stat(r.fsys, p)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrNotRegular}
	}
	return r.fsys.Open(p)
}

// ReadFile returns the content of a regular file of at most MaxFile bytes.
func (r *FS) ReadFile(name string) ([]byte, error) { return r.read(name, MaxFile) }

// ReadText is ReadFile for files that people write: at most MaxText bytes.
func (r *FS) ReadText(name string) ([]byte, error) { return r.read(name, MaxText) }

func (r *FS) read(name string, limit int64) ([]byte, error) {
	p, err := r.Resolve(name)
	if err != nil {
		return nil, err
	}
	info, err := fs.Stat(r.fsys, p) // before opening: a pipe would block
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: name, Err: ErrNotRegular}
	}
	if info.Size() > limit {
		return nil, &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("%w: %d MiB, the limit is %d MiB", ErrLarge, info.Size()>>20, limit>>20)}
	}
	f, err := r.fsys.Open(p)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	buf := make([]byte, 0, info.Size()+512)
	for {
		n, err := f.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if err == io.EOF {
			return buf, nil
		}
		if err != nil {
			return nil, err
		}
		if int64(len(buf)) > limit {
			return nil, &fs.PathError{Op: "read", Path: name, Err: ErrLarge}
		}
		if len(buf) == cap(buf) {
			buf = append(buf, 0)[:len(buf)]
		}
	}
}

// ReadDirAsStored lists a folder in the order in which the file system keeps it:
// that in which a program meets the files that does not sort them.
func (r *FS) ReadDirAsStored(name string) ([]fs.DirEntry, error) {
	p, err := r.Resolve(name)
	if err != nil {
		return nil, err
	}
	f, err := r.fsys.Open(p)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	dir, ok := f.(fs.ReadDirFile)
	if !ok {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: errors.New("not a folder")}
	}
	return dir.ReadDir(-1)
}
