package rootfs

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
)

// Whatever stands on a root, reading it takes a bounded amount of work: what goes beyond is
// not read, and said. The bounds are far from what a host has that anybody works on.
const (
	// MostEntries is how many entries of one folder are looked at, by name.
	MostEntries = 5_000
	// MostFiles is how many files of a root are read.
	MostFiles = 12_000
	// MostLines is how many lines a file may have that people write.
	MostLines = 100_000
	// mostTexts is how many bytes are read of all such files together.
	mostTexts = 24 << 20
	// mostBulk is the same for lists and databases that programs write.
	mostBulk = 384 << 20
)

// ErrBound is returned for what is beyond a bound.
var ErrBound = errors.New("it is not read: more stands on this root than is looked at")

// spent counts the work of reading a root.
type spent struct {
	files       int
	texts, bulk int64
	cut         map[string]int   // folder → entries that were not looked at
	work        map[string]*int  // what it is spent on → what is left
	refused     int              // files that were not read
	unread      map[string]error // file or folder → why it was not read
	unnamed     int              // of them that are not named
	patterns    map[string]bool  // that match more than is looked at
	kept        map[string]any   // what readers remember while the root is read
}

// note counts a file of some size that is about to be read.
func (r *FS) note(size, limit int64) error {
	s := r.spent
	if s == nil {
		return nil
	}
	kind, most := &s.texts, int64(mostTexts)
	if limit > MaxText {
		kind, most = &s.bulk, mostBulk
	}
	if s.files >= MostFiles || *kind+size > most {
		s.refused++
		return ErrBound
	}
	s.files++
	*kind += size
	return nil
}

// mostUnread is how many files and folders are named that were not read.
const mostUnread = 200

// missed notes a file or folder that is there and was not read. What is not there is none, nor is what no program reads:
// a pipe, a folder in the place of a file.
func (r *FS) missed(name string, err error) {
	if err == nil || r.spent == nil {
		return
	}
	for _, none := range []error{fs.ErrNotExist, ErrNotRegular, ErrNotFolder} {
		if errors.Is(err, none) {
			return
		}
	}
	s := r.spent
	if len(s.unread) == mostUnread {
		s.unnamed++
		return
	}
	if p := (*fs.PathError)(nil); errors.As(err, &p) {
		err = p.Err
	}
	if s.unread == nil {
		s.unread = map[string]error{}
	}
	s.unread[inside(name)] = err
}

// cutList keeps the first entries of a folder that is beyond the bound.
func (r *FS) cutList(name string, list []fs.DirEntry) []fs.DirEntry {
	if len(list) <= MostEntries || r.spent == nil {
		return list
	}
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return bytes.Compare([]byte(a.Name()), []byte(b.Name())) })
	r.spent.cut[inside(name)] = len(list) - MostEntries
	return slices.Clip(list[:MostEntries])
}

// cutPattern notes a pattern of which not all that it matches was looked at.
func (r *FS) cutPattern(pattern string) {
	if r.spent != nil {
		if r.spent.patterns == nil {
			r.spent.patterns = map[string]bool{}
		}
		r.spent.patterns[pattern] = true
	}
}

// Beyond lists what was not looked at, in sentences, by folder.
func (r *FS) Beyond() (out []Cut) {
	if r.spent == nil {
		return nil
	}
	for _, dir := range slices.Sorted(maps.Keys(r.spent.cut)) {
		out = append(out, Cut{"/" + dir, fmt.Sprintf(
			"%d entries of the folder were not looked at: the first %d were, by name", r.spent.cut[dir], MostEntries), true})
	}
	for _, pattern := range slices.Sorted(maps.Keys(r.spent.patterns)) {
		out = append(out, Cut{"", fmt.Sprintf("the pattern %s matches more than %d names: not all were looked at", pattern, MostEntries), true})
	}
	for _, name := range slices.Sorted(maps.Keys(r.spent.unread)) {
		err := r.spent.unread[name]
		out = append(out, Cut{"/" + name, "it was not read: " + err.Error(), errors.Is(err, ErrLarge) || errors.Is(err, ErrBound)})
	}
	if r.spent.unnamed > 0 {
		out = append(out, Cut{"", fmt.Sprintf("%d more files and folders were not read", r.spent.unnamed), false})
	}
	if r.spent.refused > 0 {
		out = append(out, Cut{"", fmt.Sprintf(
			"%d files were not read: more stands on this root than is looked at (%d files, %d MiB of text)",
			r.spent.refused, MostFiles, mostTexts>>20), true})
	}
	return out
}

// Cut is something that was not looked at. Others may read what is more than we do.
type Cut struct {
	Place, Message string
	More           bool // it is more than is read here, and that alone is why
}

// tooLong reports an error for a text of more lines than people write.
func tooLong(name string, text []byte) error {
	if n := bytes.Count(text, []byte{'\n'}); n > MostLines {
		return &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("%w: %d lines, the limit is %d", ErrLarge, n, MostLines)}
	}
	return nil
}

// Work is what is left of the work that is counted for one root, by what it is spent on; nil
// where nobody counts.
func (r *FS) Work(on string, most int) *int {
	if r.spent == nil {
		return nil
	}
	if r.spent.work[on] == nil {
		r.spent.work[on] = &most
	}
	return r.spent.work[on]
}

// Kept is something that readers remember while a root is read, by its name; nil where
// nobody counts what is read.
func Kept[T any](r *FS, name string) *T {
	if r.spent == nil {
		return nil
	}
	if have, ok := r.spent.kept[name].(*T); ok {
		return have
	}
	made := new(T)
	if r.spent.kept == nil {
		r.spent.kept = map[string]any{}
	}
	r.spent.kept[name] = made
	return made
}
