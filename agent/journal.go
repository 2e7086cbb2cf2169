package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"github.com/google/renameio/v2"

	"patientlantern.example/lantern/core/change"
)

// journal says what is about to be done, so that after a crash at any point the
// files can be put back as they were. It is written before the first file is
// touched and removed when the change is proven or undone.
type journal struct {
	Rollout int64          `json:"rollout"`
	Files   []journalEntry `json:"files"`
}

type journalEntry struct {
	Path    string    `json:"path"`   // inside the root
	Backup  string    `json:"backup"` // beside the journal; "" where the file was not there
	Mode    uint32    `json:"mode"`
	UID     int       `json:"uid"`
	GID     int       `json:"gid"`
	ModTime time.Time `json:"mod_time"`
}

const journalName = "journal/journal.json"

// openJournal copies every file that will be touched and writes the journal.
func (h *Host) openJournal(rollout int64, edits []change.FileEdit) (*journal, error) {
	if err := os.RemoveAll(h.statePath("journal")); err != nil {
		return nil, err
	}
	j := &journal{Rollout: rollout}
	for i, e := range edits {
		p, err := h.path(e.Path)
		if err != nil {
			return nil, err
		}
		entry := journalEntry{Path: e.Path}
		info, err := os.Lstat(p)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, err
		case !info.Mode().IsRegular():
			return nil, fmt.Errorf("%s is not a regular file", e.Path)
		default:
			data, err := os.ReadFile(p)
			if err != nil {
				return nil, err
			}
			entry.Backup = strconv.Itoa(i)
			entry.Mode, entry.ModTime = uint32(info.Mode().Perm()), info.ModTime()
			if st, ok := info.Sys().(*syscall.Stat_t); ok {
				entry.UID, entry.GID = int(st.Uid), int(st.Gid)
			}
			if err := h.save("journal/"+entry.Backup, data); err != nil {
				return nil, err
			}
		}
		j.Files = append(j.Files, entry)
	}
	return j, h.saveJSON(journalName, j)
}

// closeJournal forgets the change: it is done or undone. The journal itself goes
// first, so that no crash leaves one without its backups.
func (h *Host) closeJournal() error {
	if err := os.Remove(h.statePath(journalName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := syncDir(h.statePath("journal")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.RemoveAll(h.statePath("journal"))
}

// Recover undoes a change that a crash has left open. It reports whether there
// was one.
func (h *Host) Recover() (bool, error) {
	b, err := os.ReadFile(h.statePath(journalName))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	var j journal
	if err := json.Unmarshal(b, &j); err != nil {
		return false, fmt.Errorf("the journal is damaged: %w", err)
	}
	return true, h.undo(&j)
}

// undo puts every file of the journal back, byte for byte.
func (h *Host) undo(j *journal) error {
	var errs []error
	for _, f := range j.Files {
		if err := h.undoFile(f); err != nil {
			errs = append(errs, fmt.Errorf("putting %s back: %w", f.Path, err))
		}
	}
	if len(errs) > 0 {
		return errors.Join(errs...) // the journal stays, for the next try
	}
	return h.closeJournal()
}

func (h *Host) undoFile(f journalEntry) error {
	p, err := h.path(f.Path)
	if err != nil {
		return err
	}
	if f.Backup == "" {
		if err := os.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		err := syncDir(filepath.Dir(p))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	data, err := os.ReadFile(h.statePath("journal/" + f.Backup))
	if err != nil {
		return err
	}
	if now, err := os.ReadFile(p); err == nil && string(now) == string(data) {
		if info, err := os.Lstat(p); err == nil && uint32(info.Mode().Perm()) == f.Mode {
			return nil // never touched, or back already
		}
	}
	s := &staged{path: f.Path, real: p, data: data, mode: fs.FileMode(f.Mode), uid: f.UID, gid: f.GID}
	if err := s.prepare(); err != nil {
		return err
	}
	if err := s.swap(); err != nil {
		return err
	}
	return os.Chtimes(p, time.Time{}, f.ModTime)
}

// staged is a new file that waits beside the old one.
type staged struct {
	path     string // inside the root
	real     string
	data     []byte
	mode     fs.FileMode
	uid, gid int
	remove   bool
	fresh    bool // nothing stood there before
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
	if err := os.MkdirAll(filepath.Dir(s.real), 0o755); err != nil {
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
	if os.Geteuid() == 0 {
		if err := p.Chown(s.uid, s.gid); err != nil {
			return err
		}
		if err := p.Chmod(s.mode); err != nil { // chown may have dropped bits
			return err
		}
	}
	return p.Sync()
}

// swap puts the file in place of the old one, at once.
func (s *staged) swap() error {
	if s.remove {
		if err := os.Remove(s.real); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return syncDir(filepath.Dir(s.real))
	}
	if err := s.pending.CloseAtomicallyReplace(); err != nil {
		return err
	}
	s.pending = nil
	return syncDir(filepath.Dir(s.real))
}

// drop forgets a file that was prepared and never swapped.
func (s *staged) drop() {
	if s.pending != nil {
		_ = s.pending.Cleanup() // a temporary file that stays behind is hidden from apt
	}
}
