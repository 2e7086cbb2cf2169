// Package pkgdb asks the databases of installed packages that stand on a root:
// which package a file belongs to, which version a tool has, which keys rpm
// trusts. It runs no program.
package pkgdb

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"time"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/sqlitefile"
)

// rpmPaths are where the database of rpm stands, the newest place first.
var rpmPaths = []string{"/usr/lib/sysimage/rpm/rpmdb.sqlite", "/var/lib/rpm/rpmdb.sqlite"}

// RPM is an open rpm database.
type RPM struct {
	*SQLite
	Path string
}

// ErrNoRPM is returned where there is no rpm database of a kind that can be read.
var ErrNoRPM = errors.New("no rpm database in sqlite")

// OpenRPM opens the rpm database of a root.
func OpenRPM(root *rootfs.FS) (*RPM, error) {
	for _, name := range rpmPaths {
		db, err := OpenSQLite(root, name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		r := &RPM{Path: name, SQLite: db}
		return r, nil
	}
	return nil, ErrNoRPM
}

// file is what a database is read through.
type file interface {
	io.ReaderAt
	io.Closer
}

func open(root *rootfs.FS, name string) (file, error) {
	f, err := root.Open(name)
	if err != nil {
		return nil, err
	}
	at, ok := f.(file)
	if !ok {
		f.Close()
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("cannot be read from the middle")}
	}
	return at, nil
}

// Package is what the header of an installed package says.
type Package struct{ header }

// Find returns the installed packages for which a table of rpm's, Name,
// Providename or Basenames, holds a key.
func (r *RPM) Find(table, key string) ([]Package, error) {
	index, rows, packages := r.roots[table+"_key_idx"], r.roots[table], r.roots["Packages"]
	if rows == 0 || packages == 0 {
		return nil, nil
	}
	var numbers []int64
	note := func(row []sqlitefile.Value) {
		if len(row) >= 2 {
			if n, ok := row[1].(int64); ok && (len(numbers) == 0 || numbers[len(numbers)-1] != n) {
				numbers = append(numbers, n)
			}
		}
	}
	if index != 0 {
		ids, err := r.db.Find(index, key)
		if err != nil {
			return nil, err
		}
		for _, id := range ids {
			row, err := r.db.Row(rows, id)
			if err != nil {
				return nil, err
			}
			note(row)
		}
	} else if err := r.db.Scan(rows, func(_ int64, row []sqlitefile.Value) bool {
		if len(row) >= 2 && row[0] == key {
			note(row)
		}
		return true
	}); err != nil {
		return nil, err
	}
	var out []Package
	for _, n := range numbers {
		row, err := r.db.Row(packages, n)
		if err != nil {
			return nil, err
		}
		if len(row) < 2 {
			continue
		}
		blob, _ := row[1].([]byte)
		h, err := readHeader(blob)
		if err != nil {
			return nil, err
		}
		out = append(out, Package{h})
	}
	return out, nil
}

// All hands every installed package to visit.
func (r *RPM) All(visit func(Package)) error {
	root := r.roots["Packages"]
	if root == 0 {
		return nil
	}
	var bad error
	err := r.db.Scan(root, func(_ int64, row []sqlitefile.Value) bool {
		if len(row) < 2 {
			return true
		}
		blob, _ := row[1].([]byte)
		var h header
		if h, bad = readHeader(blob); bad != nil {
			return false
		}
		visit(Package{h})
		return true
	})
	return cmp.Or(err, bad)
}

// SQLite is an open database of a package manager.
type SQLite struct {
	db    *sqlitefile.DB
	roots map[string]uint32
	files []io.Closer
}

// OpenSQLite opens a database in SQLite's format with its log, for reading.
func OpenSQLite(root *rootfs.FS, name string) (*SQLite, error) {
	file, err := open(root, name)
	if err != nil {
		return nil, err
	}
	s := &SQLite{files: []io.Closer{file}}
	var log io.ReaderAt
	if wal, err := open(root, name+"-wal"); err == nil {
		log = wal
		s.files = append(s.files, wal)
	}
	if s.db, err = sqlitefile.Open(file, log); err == nil {
		s.roots, err = s.db.Roots()
	}
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return s, nil
}

// Scan hands every row of a table to visit, with its number; a table that is not there has
// none.
func (s *SQLite) Scan(table string, visit func(id int64, row []sqlitefile.Value)) error {
	root := s.roots[table]
	if root == 0 {
		return nil
	}
	return s.db.Scan(root, func(id int64, row []sqlitefile.Value) bool {
		visit(id, row)
		return true
	})
}

// Close closes the files.
func (s *SQLite) Close() {
	for _, f := range s.files {
		f.Close()
	}
}

// Tags of a header, from rpm's rpmtag.h.
const (
	tagName         = 1000
	tagVersion      = 1001
	tagRelease      = 1002
	tagEpoch        = 1003
	tagArch         = 1022
	tagInstallTime  = 1008
	tagDescription  = 1005
	tagProvides     = 1047
	tagProvideFlags = 1112
	tagProvideVer   = 1113
	tagDirIndexes   = 1116
	tagBasenames    = 1117
	tagDirNames     = 1118
	equal           = 8 // of the flags of a provide
)

// Name returns the name of a package.
func (p Package) Name() string { return p.text(tagName) }

// Version returns version and release of a package.
func (p Package) Version() string { return p.text(tagVersion) + "-" + p.text(tagRelease) }

// Arch returns the architecture that a package was built for.
func (p Package) Arch() string { return p.text(tagArch) }

// Epoch returns the epoch of a package; 0 where it has none.
func (p Package) Epoch() int { return int(p.number(tagEpoch)) }

// Installed returns when a package was installed; zero where it does not say.
func (p Package) Installed() time.Time {
	if n := p.number(tagInstallTime); n != 0 {
		return time.Unix(int64(n), 0)
	}
	return time.Time{}
}

func (h header) number(tag uint32) uint32 {
	if list := h.numbers(tag); len(list) > 0 {
		return list[0]
	}
	return 0
}

// Description returns the long text of a package; that of a key is the key.
func (p Package) Description() string { return p.text(tagDescription) }

// Owns reports whether a file is the package's.
func (p Package) Owns(name string) bool {
	dirs, names, index := p.texts(tagDirNames), p.texts(tagBasenames), p.numbers(tagDirIndexes)
	dir, base := path.Split(name)
	for i, n := range names {
		if n == base && i < len(index) && int(index[i]) < len(dirs) && dirs[index[i]] == dir {
			return true
		}
	}
	return false
}

// Provided returns the version of what a package provides under a name: its own
// version, unless it provides another.
func (p Package) Provided(name string) string {
	versions, flags := p.texts(tagProvideVer), p.numbers(tagProvideFlags)
	for i, n := range p.texts(tagProvides) {
		if n == name && i < len(versions) && i < len(flags) && flags[i] == equal && versions[i] != "" && p.Name() != name {
			return versions[i]
		}
	}
	return p.text(tagVersion)
}

// Owner returns the name of the package that a file belongs to, or nothing.
func (r *RPM) Owner(name string) (string, error) {
	list, err := r.Find("Basenames", path.Base(name))
	for _, p := range list {
		if p.Owns(name) {
			return p.Name(), nil
		}
	}
	return "", err
}

// header is the blob of a package: an index of tags and a store of values.
type header struct {
	index map[uint32]place
	store []byte
}

type place struct{ kind, offset, count uint32 }

// ErrHeader is returned for a header that cannot be taken apart.
var ErrHeader = errors.New("the header of an installed package is damaged")

func readHeader(b []byte) (header, error) {
	if len(b) < 8 {
		return header{}, ErrHeader
	}
	entries, size := binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])
	start := 8 + 16*uint64(entries)
	if entries > 1<<16 || start+uint64(size) > uint64(len(b)) {
		return header{}, ErrHeader
	}
	h := header{index: make(map[uint32]place, entries), store: b[start : start+uint64(size)]}
	for i := range entries {
		e := b[8+16*i:]
		h.index[binary.BigEndian.Uint32(e)] = place{
			binary.BigEndian.Uint32(e[4:]),
			binary.BigEndian.Uint32(e[8:]),
			binary.BigEndian.Uint32(e[12:]),
		}
	}
	return h, nil
}

func (h header) text(tag uint32) string {
	if list := h.texts(tag); len(list) > 0 {
		return list[0]
	}
	return ""
}

// texts returns the strings of a tag of kind STRING, STRING_ARRAY or I18NSTRING.
func (h header) texts(tag uint32) []string {
	p, ok := h.index[tag]
	if !ok || p.kind != 6 && p.kind != 8 && p.kind != 9 || uint64(p.offset) > uint64(len(h.store)) {
		return nil
	}
	var out []string
	rest := h.store[p.offset:]
	for range p.count {
		end := bytes.IndexByte(rest, 0)
		if end < 0 {
			break
		}
		out = append(out, string(rest[:end]))
		rest = rest[end+1:]
	}
	return out
}

// numbers returns the values of a tag of kind INT32.
func (h header) numbers(tag uint32) []uint32 {
	p, ok := h.index[tag]
	if !ok || p.kind != 4 || uint64(p.offset)+4*uint64(p.count) > uint64(len(h.store)) {
		return nil
	}
	out := make([]uint32, p.count)
	for i := range out {
		out[i] = binary.BigEndian.Uint32(h.store[int(p.offset)+4*i:])
	}
	return out
}
