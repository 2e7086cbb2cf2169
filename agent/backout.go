package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/source"
)

// The newest change that was carried out can be taken back: its journal is kept, with the
// files as they stood before it. They never leave the host.

const (
	lastDir    = "last"
	changeName = "change.json" // the journal of a change that is done
)

// stateFiles are what the agent remembers of the policy; they go back with the files.
var stateFiles = []string{"sheet.json", "memory.json", "kept.json", addedName}

// noteState copies into the open journal what the agent remembers.
func (h *Host) noteState(j *journal) error {
	for _, name := range stateFiles {
		b, err := os.ReadFile(h.statePath(name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = h.save("journal/state-"+name, b)
		}
		if err != nil {
			return err
		}
	}
	_, err := os.Lstat(h.statePath(baseFile))
	j.Based = err == nil
	return nil
}

// keepJournal closes the journal of a change that is done and keeps it: it can be taken
// back. From the first step on the change stands, and no start undoes it.
func (h *Host) keepJournal() error {
	if err := os.Rename(h.statePath(journalName), h.statePath("journal/"+changeName)); err != nil {
		return err
	}
	if err := syncDir(h.statePath("journal")); err != nil {
		return err
	}
	failpoint("kept")
	return h.moveKept()
}

// moveKept puts the journal that is kept in the place of the one before, where there is one.
func (h *Host) moveKept() error {
	if _, err := os.Lstat(h.statePath("journal/" + changeName)); err != nil {
		return nil
	}
	if err := os.RemoveAll(h.statePath(lastDir)); err != nil {
		return err
	}
	if err := os.Rename(h.statePath("journal"), h.statePath(lastDir)); err != nil {
		return err
	}
	return syncDir(h.State)
}

// lastChange reads the change that can be taken back, and the sheet of before it; nil where
// there was none.
func (h *Host) lastChange() (j journal, sheet *source.Sheet, digest string, err error) {
	b, err := os.ReadFile(h.statePath(lastDir + "/" + changeName))
	if err != nil {
		return j, nil, "", err
	}
	if err := json.Unmarshal(b, &j); err != nil {
		return j, nil, "", fmt.Errorf("%s is damaged: %w", h.statePath(lastDir+"/"+changeName), err)
	}
	text, err := os.ReadFile(h.statePath(lastDir + "/state-sheet.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return j, nil, "", nil
	}
	if err != nil {
		return j, nil, "", err
	}
	sheet = &source.Sheet{}
	return j, sheet, source.Digest(text), json.Unmarshal(text, sheet)
}

// changedBy reports whether the newest change was of a rollout: an agent that died right after
// it finds nothing more to do, and says that it is done all the same.
func (h *Host) changedBy(rollout int64) bool {
	j, _, _, err := h.lastChange()
	return err == nil && j.Rollout == rollout
}

// backOut gives the host again what it had before a change: the same bytes, from its own
// copies, with their owners, modes and times.
func (c *carrier) backOut(ctx context.Context) error {
	h := c.host
	old, sheet, digest, err := h.lastChange()
	switch {
	case errors.Is(err, fs.ErrNotExist), err == nil && old.Rollout != c.delivery.BackOut:
		return c.failed("nothing was changed: this host keeps no copy of what stood here before rollout %d", c.delivery.BackOut)
	case err != nil:
		return c.failed("nothing was changed: what stood here before cannot be read: %w", err)
	case digest != c.delivery.Sheet:
		return c.failed("refused, nothing was changed: what this host had before rollout %d is not what the service means", c.delivery.BackOut)
	}
	c.begin(api.StepSurvey)
	now := h.Survey()
	if sheet == nil {
		sheet = &source.Sheet{Family: now.Survey.Traits.Family}
	}
	now = h.surveyFor(sheet)
	c.begin(api.StepPlan)
	plan, err := h.planBack(&old)
	if err != nil {
		return c.failed("nothing was changed: %w", err)
	}
	c.report.Edits = append(c.report.Edits, api.PreviewFiles(&plan)...)
	c.begin(api.StepJournal)
	j, err := h.openJournal(c.delivery.Rollout, plan.Edits)
	if err != nil {
		return c.failed("%w", unopened(errors.Join(err, h.closeJournal())))
	}
	a := &attempt{carrier: c, sheet: sheet, before: &now, plan: plan, journal: j, stuck: stuckOn(sheet, &now, plan)}
	defer a.drop()
	if err := a.carryBack(ctx, &old); err != nil {
		a.drop()
		if _, undoErr := h.undo(j, nil); undoErr != nil {
			return fmt.Errorf("%w; and it could not be put back yet, which is tried again: %w", err, undoErr)
		}
		c.report.Undone = true
		return err
	}
	c.report.State, c.report.Step = "done", c.step
	return nil
}

// planBack finds the edits that bring back what stood before a change. What somebody has
// written since is kept before it is written over.
func (h *Host) planBack(old *journal) (plan change.Change, err error) {
	for _, f := range old.Files {
		p, err := h.path(f.Path)
		if err != nil {
			return plan, err
		}
		is, there, err := readPlain(p)
		if err != nil {
			return plan, err
		}
		e := change.FileEdit{Path: f.Path, Old: is, Mode: fmt.Sprintf("%04o", f.Mode), Why: []string{"as before the rollout that is taken back"}}
		if f.Backup != "" {
			if e.New, err = os.ReadFile(h.statePath(lastDir + "/" + f.Backup)); err != nil {
				return plan, fmt.Errorf("the copy of %s cannot be read: %w", f.Path, err)
			}
		}
		switch {
		case f.Backup == "" && !there:
			continue
		case f.Backup == "":
			e.Action = change.Remove
		case there:
			e.Action = change.Edit
		default:
			e.Action = change.Create
		}
		ours := f.New != "" && source.Digest(is) == f.New || f.Backup != "" && string(is) == string(e.New)
		if there && !ours {
			where, err := h.keepCopy(f.Path, is)
			if err != nil {
				return plan, fmt.Errorf("what somebody wrote in %s cannot be kept: %w", f.Path, err)
			}
			e.Why = append(e.Why, "somebody has edited it since; that is kept in "+where)
		}
		plan.Edits = append(plan.Edits, e)
	}
	return plan, nil
}

// carryBack makes the edits, and looks whether every byte is as it was.
func (a *attempt) carryBack(ctx context.Context, old *journal) error {
	c, h := a.carrier, a.host
	was := map[string]journalEntry{}
	for _, f := range old.Files {
		was[f.Path] = f
	}
	c.begin(api.StepStage)
	for i, e := range a.plan.Edits {
		owner := was[e.Path]
		entry := a.journal.Files[i]
		entry.UID, entry.GID = owner.UID, owner.GID
		s, err := h.stage(e, entry)
		if s != nil {
			a.files = append(a.files, s)
		}
		if err != nil {
			return c.failed("%s cannot be written: %w", e.Path, plain(err))
		}
	}
	c.begin(api.StepTry)
	if err := h.try(ctx, a.sheet, a.before, a.texts(nil), a.stuck); err != nil {
		c.report.Around = append(c.report.Around, "as before that rollout, though: "+oneLine(err.Error()))
	}
	if err := c.life.stopped(); err != nil {
		return c.failed("%w", err)
	}
	c.begin(api.StepAccess)
	if err := c.access(ctx, a.sheet, c.delivery.Sheet, true); err != nil {
		return c.failed("%w", err)
	}
	if err := a.swap(ctx); err != nil {
		return err
	}
	a.refreshBack(ctx)
	c.begin(api.StepProve)
	for _, f := range old.Files {
		if err := h.restored(&f); err != nil {
			return c.failed("%w", err)
		}
	}
	h.removeFolders(old.Folders)
	pacman{h}.untrust(lastDir)
	c.believeAgain(ctx, lastDir)
	if err := c.goBackTo(old); err != nil {
		return c.failed("what the agent remembered cannot be put back: %w", err)
	}
	a.drop()
	return h.keepJournal()
}

// refreshBack fetches the metadata of what is there again. What cannot be fetched could not
// be before either, or is no reason to keep the host from what it had: it is told.
func (a *attempt) refreshBack(ctx context.Context) {
	c := a.carrier
	c.begin(api.StepRefresh)
	after := c.host.surveyFor(a.sheet)
	if err := a.refresh(ctx, &after); err != nil {
		c.report.Around = append(c.report.Around, "the refresh afterwards: "+oneLine(err.Error()))
	}
}

// restored gives a file again what its bytes do not say, and checks that it is as it was.
func (h *Host) restored(f *journalEntry) error {
	p, err := h.path(f.Path)
	if err != nil {
		return err
	}
	is, there, err := readPlain(p)
	if err != nil {
		return err
	}
	if f.Backup == "" {
		if there {
			return fmt.Errorf("%s is there again", f.Path)
		}
		return nil
	}
	want, err := os.ReadFile(h.statePath(lastDir + "/" + f.Backup))
	if err != nil {
		return err
	}
	if !there || string(is) != string(want) {
		return fmt.Errorf("%s is still not as it was", f.Path)
	}
	if err := f.dress(p); err != nil {
		return err
	}
	return syncFile(p)
}

// goBackTo makes the agent remember what it did before a change.
func (c *carrier) goBackTo(old *journal) error {
	h := c.host
	for _, name := range stateFiles {
		b, err := os.ReadFile(h.statePath(lastDir + "/state-" + name))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			if err := os.Remove(h.statePath(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			continue
		case err != nil:
			return err
		}
		if err := h.save(name, b); err != nil {
			return err
		}
	}
	if !old.Based {
		if err := os.Remove(h.statePath(baseFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	// No older delivery is taken from now on, though the revision is one of before.
	return h.saveJSON("memory.json", memory{Revision: c.delivery.Revision, Sheet: c.delivery.Sheet, Issued: c.delivery.Issued})
}

// newFolders lists the folders that an edit will make, those above first.
func (h *Host) newFolders(edits []change.FileEdit, more []string) (out []string) {
	for _, e := range edits {
		if e.Action == change.Create {
			more = append(slices.Clip(more), e.Path)
		}
	}
	for _, file := range more {
		var made []string
		for dir := path.Dir(file); dir != "/" && dir != "."; dir = path.Dir(dir) {
			p, err := h.path(dir)
			if err != nil {
				break
			}
			if _, err := os.Lstat(p); !errors.Is(err, fs.ErrNotExist) {
				break
			}
			made = append(made, dir)
		}
		slices.Reverse(made)
		for _, dir := range made {
			if !slices.Contains(out, dir) {
				out = append(out, dir)
			}
		}
	}
	return out
}

// removeFolders removes the folders that a change has made, where nothing stands in them.
func (h *Host) removeFolders(folders []string) {
	for _, dir := range slices.Backward(folders) {
		if p, err := h.path(dir); err == nil && strings.HasPrefix(p, h.Root) && filepath.Clean(p) != h.Root {
			_ = os.Remove(p) // one in which something stands stays
		}
	}
}
