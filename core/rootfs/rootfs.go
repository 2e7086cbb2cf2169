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
	"slices"
	"strings"
	"time"
)

// MaxFile is the size in bytes beyond which ReadFile refuses a file. No source
// list, keyring or package database of a sane host comes near it.
const MaxFile = 64 << 20

// MaxText is the same for files that people write.
const MaxText = 4 << 20

// ErrLarge is returned for a file beyond the limit.
var ErrLarge = errors.New("file is too large to be read")

// ErrLoop is returned for symbolic links in a circle.
var ErrLoop = errors.New("too many levels of symbolic links")

// ErrNotRegular is returned where a file was wanted and something else stands.
var ErrNotRegular = errors.New("not a regular file")

// ErrNotFolder is returned where a folder was wanted and something else stands.
var ErrNotFolder = errors.New("not a folder")

// FS is a root folder. Paths inside it are absolute, with forward slashes.
type FS struct {
	fsys  fs.FS
	fast  inRoot // nil where fsys cannot do it
	now   time.Time
	spent *spent // nil where nobody counts
}

// AsOf returns the same root as it is at a moment: what ends then has ended. What is read of
// it is counted from here on, and bounded.
func (r *FS) AsOf(now time.Time) *FS {
	at := *r
	at.now = now
	at.spent = &spent{cut: map[string]int{}, work: map[string]*int{}}
	return &at
}

// Now is the moment at which the root is looked at; zero where nobody said.
func (r *FS) Now() time.Time { return r.now }

// inRoot is a file system that resolves links inside the root by itself.
type inRoot interface {
	OpenInRoot(name string) (fs.File, error)
	StatInRoot(name string) (fs.FileInfo, error)
	ListInRoot(name string) ([]fs.DirEntry, error) // in any order
	LinkInRoot(name string) string                 // where the path itself leads; empty where it is no link
}

// New returns the root folder that fsys holds. fsys should implement
// fs.ReadLinkFS, as that of os.Root does; without it no link is followed. Where
// it has the methods OpenInRoot, StatInRoot, ListInRoot and LinkInRoot, those are used: they
// resolve links as if the root had been changed, in one step.
func New(fsys fs.FS) *FS {
	fast, _ := fsys.(inRoot)
	return &FS{fsys: fsys, fast: fast}
}

// inside is a path as fs.FS wants it, links not resolved.
func inside(name string) string {
	if name = path.Clean("/" + name)[1:]; name == "" {
		return "."
	}
	return name
}

// Resolve returns the path of name, relative to the root and without symbolic
// links, as fs.FS wants it. The last element need not exist.
func (r *FS) Resolve(name string) (string, error) { return r.Way(name, nil) }

// Way is Resolve that names each folder in which something is looked up on the way, links followed: from the root on, as absolute
// paths without links, and the same one again where the way comes back to it. Nobody is told where searches is nil.
func (r *FS) Way(name string, searches func(folder string)) (string, error) {
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
		if searches != nil {
			searches("/" + strings.Join(at, "/"))
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

// InTheWay is what keeps a file from being looked up that is to stand below it: something that is no folder, where why is nil, or
// links of which why tells. It is empty where every folder on the way is one, or is missing.
func (r *FS) InTheWay(name string) (at string, why error) {
	for up := path.Dir(path.Clean("/" + name)); up != "/"; up = path.Dir(up) {
		info, err := r.Stat(up)
		if err == nil && info.IsDir() || errors.Is(err, fs.ErrNotExist) {
			return at, why
		}
		at, why = up, err
	}
	return at, why
}

// Stat describes the file that name leads to.
func (r *FS) Stat(name string) (fs.FileInfo, error) {
	if r.fast != nil {
		return r.fast.StatInRoot(inside(name))
	}
	p, err := r.Resolve(name)
	if err != nil {
		return nil, err
	}
	return fs.Stat(r.fsys, p)
}

// Link returns where name itself leads if it is a symbolic link, and "" where it is none.
func (r *FS) Link(name string) string {
	if r.fast != nil {
		return r.fast.LinkInRoot(inside(name))
	}
	links, ok := r.fsys.(fs.ReadLinkFS)
	if !ok {
		return ""
	}
	at := inside(name)
	info, err := links.Lstat(at)
	if err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return ""
	}
	target, err := links.ReadLink(at)
	if err != nil {
		return "?"
	}
	return target
}

// ReadDir lists a folder, sorted by name.
func (r *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	list, err := r.ReadDirAsStored(name)
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return list, err
}

// ReadDirAsStored lists a folder in the order in which the file system keeps it:
// that in which a program meets the files that does not sort them.
func (r *FS) ReadDirAsStored(name string) ([]fs.DirEntry, error) {
	list, err := r.list(name)
	r.missed(name, err)
	return r.cutList(name, list), err
}

func (r *FS) list(name string) ([]fs.DirEntry, error) {
	if r.fast != nil {
		return r.fast.ListInRoot(inside(name))
	}
	p, err := r.Resolve(name)
	if err != nil {
		return nil, err
	}
	if info, err := fs.Stat(r.fsys, p); err != nil {
		return nil, err
	} else if !info.IsDir() { // to open a pipe would block
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: ErrNotFolder}
	}
	f, err := r.fsys.Open(p)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	dir, ok := f.(fs.ReadDirFile)
	if !ok {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: ErrNotFolder}
	}
	return dir.ReadDir(-1)
}

// Open opens a regular file of any size.
func (r *FS) Open(name string) (fs.File, error) {
	f, _, err := r.open(name)
	return f, err
}

func (r *FS) open(name string) (fs.File, fs.FileInfo, error) {
	var f fs.File
	var err error
	if r.fast != nil {
		f, err = r.fast.OpenInRoot(inside(name))
	} else {
		var p string
		if p, err = r.Resolve(name); err != nil {
			return nil, nil, err
		}
		var info fs.FileInfo
		if info, err = fs.Stat(r.fsys, p); err != nil { // before opening: a pipe would block
			return nil, nil, err
		}
		if !info.Mode().IsRegular() {
			return nil, nil, &fs.PathError{Op: "read", Path: name, Err: ErrNotRegular}
		}
		f, err = r.fsys.Open(p)
	}
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: name, Err: ErrNotRegular}
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, info, nil
}

// ReadFile returns the content of a regular file of at most MaxFile bytes.
func (r *FS) ReadFile(name string) ([]byte, error) {
	data, _, err := r.read(name, MaxFile)
	r.missed(name, err)
	return data, err
}

// ReadText is ReadFile for files that people write: at most MaxText bytes.
func (r *FS) ReadText(name string) ([]byte, error) {
	data, _, err := r.ReadTextInfo(name)
	return data, err
}

// ReadTextInfo is ReadText that also describes the file.
func (r *FS) ReadTextInfo(name string) ([]byte, fs.FileInfo, error) {
	data, info, err := r.read(name, MaxText)
	if err == nil {
		err = tooLong(name, data)
	}
	if r.missed(name, err); err != nil {
		return nil, nil, err
	}
	return data, info, nil
}

func (r *FS) read(name string, limit int64) ([]byte, fs.FileInfo, error) {
	f, info, err := r.open(name)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	if info.Size() > limit {
		return nil, nil, &fs.PathError{
			Op:   "read",
			Path: name,
			Err:  fmt.Errorf("%w: %d MiB, the limit is %d MiB", ErrLarge, info.Size()>>20, limit>>20),
		}
	}
	if err := r.note(info.Size(), limit); err != nil {
		return nil, nil, &fs.PathError{Op: "read", Path: name, Err: err}
	}
	buf := make([]byte, 0, info.Size()+512)
	for {
		n, err := f.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if err == io.EOF {
			return buf, info, nil
		}
		if err != nil {
			return nil, nil, err
		}
		if int64(len(buf)) > limit {
			return nil, nil, &fs.PathError{Op: "read", Path: name, Err: ErrLarge}
		}
		if len(buf) == cap(buf) {
			buf = append(buf, 0)[:len(buf)]
		}
	}
}
