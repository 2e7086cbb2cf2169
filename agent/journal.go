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

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// journal says what is about to be done, so that after a crash at any point the
// files can be put back as they were. It is written before the first file is
// touched and removed when the change is proven or undone.
type journal struct {
	Rollout int64          `json:"rollout"`
	Files   []journalEntry `json:"files"`
	Folders []string       `json:"folders,omitempty"` // that the change makes, those above first
	Based   bool           `json:"based,omitempty"`   // the host had a base before
}

// journalEntry is one file of a change. What stands there and is neither what stood
// before nor what the change writes was written by somebody else.
type journalEntry struct {
	Path    string    `json:"path"`             // inside the root
	Backup  string    `json:"backup"`           // beside the journal; "" where the file was not there
	New     string    `json:"new,omitempty"`    // digest of what the change writes
	Remove  bool      `json:"remove,omitempty"` // the change takes the file away
	Mode    uint32    `json:"mode"`
	UID     int       `json:"uid"`
	GID     int       `json:"gid"`
	ModTime time.Time `json:"mod_time"`

	Attributes map[string][]byte `json:"attributes,omitempty"` // extended ones

	linked bool // a link stands there, and the file is written where it leads
}

// obstacle says what stands where a file is to stand, and is none, and what to do.
type obstacle string

func (o obstacle) Error() string { return string(o) }

// inPlaceOf is that of a path where something else than a file stands.
func inPlaceOf(path, is string) obstacle {
	return obstacle(fmt.Sprintf("%s is %s, and a file is to stand there: move it away, and heal the host then", path, is))
}

// kindOf names what stands somewhere and is no regular file.
func kindOf(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "a folder"
	case mode&fs.ModeDevice != 0:
		return "a device"
	}
	return "no regular file"
}

// unopened says why nothing was begun: what is in the way, or that the journal cannot be written.
func unopened(err error) error {
	var o obstacle
	if errors.As(err, &o) {
		return fmt.Errorf("nothing was changed: %w", err)
	}
	return fmt.Errorf("nothing was changed: the journal cannot be written: %w", err)
}

// dress gives a file the owner, mode, times and extended attributes that it had.
func (f *journalEntry) dress(real string) error {
	if os.Geteuid() == 0 {
		if err := os.Lchown(real, f.UID, f.GID); err != nil {
			return err
		}
	}
	if err := os.Chmod(real, fs.FileMode(f.Mode)); err != nil {
		return err
	}
	if err := setAttributes(real, f.Attributes); err != nil {
		return err
	}
	return os.Chtimes(real, time.Time{}, f.ModTime)
}

const journalName = "journal/journal.json"

// errOpen is the kind of error for a change that could not be put back yet: nothing else
// is done before it is.
var errOpen = errors.New("a change that was interrupted is not put back yet")

// errTouched is the kind of error for a file that somebody wrote while a change was
// under way. What they wrote is kept, and the change is worked out anew.
var errTouched = errors.New("it was changed by somebody else a moment ago; try again")

// journalOpen reports whether a change is noted that is neither done nor put back.
func (h *Host) journalOpen() (bool, error) {
	_, err := os.Lstat(h.statePath(journalName))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// openJournal copies every file that will be touched and writes the journal. more are files
// that will be made beside the edits, of which nothing is copied.
func (h *Host) openJournal(rollout int64, edits []change.FileEdit, more ...string) (*journal, error) {
	if open, err := h.journalOpen(); open || err != nil {
		return nil, errors.Join(errOpen, err)
	}
	if err := h.moveKept(); err != nil {
		return nil, err
	}
	if err := os.RemoveAll(h.statePath("journal")); err != nil {
		return nil, err
	}
	j := &journal{Rollout: rollout, Folders: h.newFolders(edits, more)}
	if err := h.noteState(j); err != nil {
		return nil, err
	}
	for i, e := range edits {
		entry, err := h.journalEntry(e, strconv.Itoa(i))
		if err != nil {
			return nil, err
		}
		j.Files = append(j.Files, entry)
	}
	return j, h.saveJSON(journalName, j)
}

// journalEntry copies one file that will be touched.
func (h *Host) journalEntry(e change.FileEdit, backup string) (journalEntry, error) {
	entry := journalEntry{Path: e.Path, Remove: e.Action == change.Remove}
	if !entry.Remove {
		entry.New = source.Digest(e.New)
	}
	p, err := h.path(e.Path)
	if errors.Is(err, rootfs.ErrLoop) {
		return entry, inPlaceOf(e.Path, "a link in a circle, or stands behind one")
	}
	if err != nil {
		return entry, err
	}
	if err := h.locked(p); err != nil {
		return entry, err
	}
	entry.linked = h.fs.Link(e.Path) != ""
	info, err := os.Lstat(p)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return entry, nil
	case errors.Is(err, syscall.ENOTDIR):
		at, _ := h.fs.InTheWay(e.Path)
		return entry, obstacle(fmt.Sprintf("%s is no folder, and %s is to stand below it: take it away, or make it one", at, e.Path))
	case err != nil:
		return entry, err
	case !info.Mode().IsRegular():
		return entry, inPlaceOf(e.Path, kindOf(info.Mode()))
	}
	data, err := os.ReadFile(p)
	if err != nil {
		return entry, err
	}
	entry.Backup = backup
	entry.Mode, entry.ModTime, entry.Attributes = uint32(info.Mode().Perm()), info.ModTime(), attributesOf(p)
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		entry.UID, entry.GID = int(st.Uid), int(st.Gid)
	}
	return entry, h.save("journal/"+backup, data)
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
		return false, h.moveKept()
	}
	if err != nil {
		return false, err
	}
	var j journal
	if err := json.Unmarshal(b, &j); err != nil {
		return false, fmt.Errorf(
			"the journal %s is damaged, so what stood there before is only in the copies beside it: %w",
			h.statePath(journalName),
			err,
		)
	}
	h.sweepAfter(&j)
	_, err = h.undo(&j, nil)
	return true, err
}

// undo puts every file of the journal back, byte for byte, but those of spare. It returns
// those that somebody else has written meanwhile; they stay as they are.
func (h *Host) undo(j *journal, spare map[string]bool) (touched []string, err error) {
	var errs []error
	for i := len(j.Files) - 1; i >= 0; i-- {
		f := j.Files[i]
		if spare[f.Path] {
			continue
		}
		err := h.undoFile(f)
		if errors.Is(err, errTouched) {
			touched = append(touched, f.Path)
		} else if err != nil {
			errs = append(errs, fmt.Errorf("putting %s back: %w", f.Path, plain(err)))
		}
	}
	if len(errs) > 0 {
		return touched, errors.Join(errs...) // the journal stays, for the next try
	}
	h.removeFolders(j.Folders)
	pacman{h}.untrust("journal")
	h.retake("journal")
	return touched, h.closeJournal()
}

func (h *Host) undoFile(f journalEntry) error {
	p, err := h.path(f.Path)
	if err != nil {
		return err
	}
	now, there, err := readPlain(p)
	if err != nil {
		return err
	}
	ours := there && f.New != "" && source.Digest(now) == f.New || !there && f.Remove
	if f.Backup == "" {
		switch {
		case !there:
			return nil
		case !ours:
			return errTouched
		}
		return h.swapOut(&staged{path: f.Path, real: p, old: now, remove: true})
	}
	data, err := os.ReadFile(h.statePath("journal/" + f.Backup))
	if err != nil {
		return err
	}
	if f.New == "" && !f.Remove && there && string(now) != string(data) { // a journal of before digests were noted
		if _, err := h.keepCopy(f.Path, now); err != nil {
			return err
		}
		ours = true
	}
	switch {
	case there && string(now) == string(data):
		if info, err := os.Lstat(p); err == nil && uint32(info.Mode().Perm()) == f.Mode {
			return nil // never touched, or back already
		}
	case !there && !f.Remove, there && !ours:
		return errTouched
	}
	s := &staged{path: f.Path, real: p, data: data, mode: fs.FileMode(f.Mode), was: &f, old: now, fresh: !there}
	defer s.drop()
	if err := s.prepare(); err != nil {
		return err
	}
	return h.swapOut(s)
}

// readPlain reads a file where one stands.
func readPlain(p string) (data []byte, there bool, err error) {
	data, err = os.ReadFile(p)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil, false, nil
	}
	return data, err == nil, err
}

// keepCopy keeps what somebody wrote and what a change is about to write over, in the
// agent's own folder, for root alone to read. It returns where.
func (h *Host) keepCopy(path string, data []byte) (string, error) {
	for n := 0; ; n++ {
		name := fmt.Sprintf("saved/%s-%d-%s", time.Now().UTC().Format("20060102T150405"), n, filepath.Base(path))
		if _, err := os.Lstat(h.statePath(name)); err == nil && n < 1000 {
			continue
		}
		return h.statePath(name), h.save(name, data)
	}
}
