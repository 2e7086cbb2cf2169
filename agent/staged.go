package agent

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"
	"golang.org/x/sys/unix"
)

// staged is a new file that waits beside the old one.
type staged struct {
	path     string // inside the root
	real     string
	old      []byte // what must stand there when the new file takes its place
	data     []byte
	mode     fs.FileMode
	uid, gid int
	remove   bool
	fresh    bool          // nothing stood there before
	was      *journalEntry // whose owner, times and attributes it gets; nil for those of what stands there
	pending  *renameio.PendingFile
}

// rank orders files for the swap: new ones first, so that nothing names a file that
// is not there yet, and those that go last.
func (s *staged) rank() int {
	switch {
	case s.remove:
		return 2
	case s.fresh:
		return 0
	}
	return 1
}

// prepare writes the file under another name and makes sure it is on the disk.
func (s *staged) prepare() error {
	if s.remove {
		return nil
	}
	if err := makeDirs(filepath.Dir(s.real), 0o755); err != nil {
		return err
	}
	p, err := renameio.NewPendingFile(s.real, renameio.WithTempDir(filepath.Dir(s.real)), renameio.WithStaticPermissions(s.mode))
	if err != nil {
		return err
	}
	s.pending = p
	if _, err := p.Write(s.data); err != nil {
		return err
	}
	if s.was != nil {
		if err := s.was.dress(p.Name()); err != nil {
			return err
		}
		return p.Sync() // its bytes, and all that it was dressed with
	}
	if os.Geteuid() == 0 {
		if err := p.Chown(s.uid, s.gid); err != nil {
			return err
		}
		if err := p.Chmod(s.mode); err != nil { // chown may have dropped bits
			return err
		}
	}
	if s.old != nil { // what stood there keeps what its bytes do not say
		if err := setAttributes(p.Name(), attributesOf(s.real)); err != nil {
			return err
		}
	}
	return p.Sync()
}

// drop forgets a file that was prepared and never swapped, or what it was swapped for.
func (s *staged) drop() { dropAll([]*staged{s}) }

// dropAll forgets files, and sees to it that the disk forgets them before it hears that the
// change has ended.
func dropAll(files []*staged) {
	dirs := map[string]bool{}
	for _, s := range files {
		if s.pending != nil {
			_ = s.pending.Cleanup() // a temporary file that stays behind is hidden, and swept at the next start
			s.pending = nil
			dirs[filepath.Dir(s.real)] = true
		}
	}
	for dir := range dirs {
		_ = syncDir(dir) // likewise
	}
}

// swapOut puts a file in place of the old one, at once. What stood there is looked at
// after it has been moved away, so that nobody can write between the look and the swap:
// where it is not what the change was worked out from, it is put back, and the error
// is an errTouched.
func (h *Host) swapOut(s *staged) error {
	err := h.swapOnce(s)
	if err != nil {
		return err
	}
	return syncDir(filepath.Dir(s.real))
}

func (h *Host) swapOnce(s *staged) error {
	switch {
	case s.remove:
		return h.swapAway(s)
	case s.fresh:
		err := rename(s.pending.Name(), s.real, unix.RENAME_NOREPLACE)
		if errors.Is(err, fs.ErrExist) {
			return errTouched
		}
		return err
	}
	temp := s.pending.Name()
	if err := rename(temp, s.real, unix.RENAME_EXCHANGE); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return errTouched // it has gone
		}
		return err
	}
	displaced, err := os.ReadFile(temp)
	if err == nil && bytes.Equal(displaced, s.old) {
		return nil // what was moved away goes with drop
	}
	if back := rename(temp, s.real, unix.RENAME_EXCHANGE); back != nil {
		where, keepErr := h.keepCopy(s.path, displaced)
		return fmt.Errorf("%w (what was written there is kept in %s): %w", errTouched, where, errors.Join(err, back, keepErr))
	}
	if again, err := os.ReadFile(temp); err == nil && !bytes.Equal(again, s.data) { // written once more between the two
		if _, err := h.keepCopy(s.path, again); err != nil {
			return err
		}
	}
	return errors.Join(errTouched, err)
}

// swapAway takes a file away.
func (h *Host) swapAway(s *staged) error {
	var temp string
	for n := 0; ; n++ {
		temp = filepath.Join(filepath.Dir(s.real), fmt.Sprintf(".%s%d%04d", filepath.Base(s.real), os.Getpid(), n))
		err := rename(s.real, temp, unix.RENAME_NOREPLACE)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrExist) || n > 1000 {
			return err
		}
	}
	displaced, err := os.ReadFile(temp)
	if err == nil && bytes.Equal(displaced, s.old) {
		return os.Remove(temp)
	}
	back := rename(temp, s.real, unix.RENAME_NOREPLACE)
	if errors.Is(back, fs.ErrExist) { // there is one again: both are kept
		if _, err := h.keepCopy(s.path, displaced); err != nil {
			return err
		}
		return errors.Join(errTouched, os.Remove(temp))
	}
	return errors.Join(errTouched, err, back)
}

// rename is renameat2(2). A file system that does not know the flag is served by looking
// first, which leaves a moment between.
func rename(from, to string, flag uint) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, flag)
	if !errors.Is(err, unix.EINVAL) && !errors.Is(err, unix.ENOSYS) {
		if err != nil {
			return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
		}
		return nil
	}
	if flag == unix.RENAME_NOREPLACE {
		if err := os.Link(from, to); err != nil {
			return err
		}
		return os.Remove(from)
	}
	return exchange(from, to)
}

// exchange has two files change places, with all that they have, where the file system cannot do it in one step: what stood
// at to is never gone.
func exchange(from, to string) error {
	aside := from + "0" // swept as temporary, should nobody come back to it
	if err := os.Link(to, aside); err != nil {
		return err
	}
	if err := os.Rename(from, to); err != nil {
		return errors.Join(err, os.Remove(aside))
	}
	return os.Rename(aside, from)
}
