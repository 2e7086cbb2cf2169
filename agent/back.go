package agent

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// stage writes an edit beside the file that it is for.
func (h *Host) stage(e change.FileEdit, before journalEntry) (*staged, error) {
	p, err := h.path(e.Path)
	if err != nil {
		return nil, err
	}
	mode, err := strconv.ParseUint(e.Mode, 8, 32)
	if err != nil && e.Action != change.Remove {
		return nil, fmt.Errorf("its mode %q cannot be read", e.Mode)
	}
	s := &staged{
		path:   e.Path,
		real:   p,
		old:    e.Old,
		data:   e.New,
		mode:   fs.FileMode(mode).Perm(),
		uid:    before.UID,
		gid:    before.GID,
		remove: e.Action == change.Remove,
		fresh:  e.Action == change.Create,
	}
	if e.From != "" {
		if s.uid, err = h.owner(); err != nil {
			return nil, err
		}
	}
	now, there, err := readPlain(p)
	switch {
	case err != nil:
		return nil, err
	case e.Action == change.Create && there, e.Action == change.Edit && (!there || string(now) != string(e.Old)):
		return nil, errTouched
	}
	return s, s.prepare()
}

// owner is the user whose the root is: root, but for trees of others.
func (h *Host) owner() (int, error) {
	info, err := os.Stat(h.Root)
	if err != nil {
		return 0, err
	}
	uid, _, _ := rootfs.Owner(info)
	return int(uid), nil
}

// goBack puts the host back after a change that failed, as far as that makes nothing
// worse: what took a danger away stays. It returns the error with what was done about it.
func (a *attempt) goBack(ctx context.Context, cause error) error {
	c, h := a.carrier, a.host
	a.drop()
	spare, why := a.spare(ctx)
	touched, err := h.undo(a.journal, spare)
	if err != nil {
		return fmt.Errorf("%w; and it could not be put back yet, which is tried again: %w", cause, err)
	}
	a.forgetKeys()
	a.gone = slices.DeleteFunc(a.gone, func(d change.Distrusted) bool { return d.Released }) // those are back
	c.report.Undone = len(spare)+len(a.gone) == 0
	c.report.Kept = slices.Sorted(maps.Keys(spare))
	for _, d := range a.gone {
		cause = fmt.Errorf("%w; the key %s stays out of %s", cause, d.Fingerprint, d.Where)
	}
	if len(spare) > 0 {
		cause = fmt.Errorf(
			"%w; %s stays as changed, since going back would bring back: %s",
			cause,
			strings.Join(c.report.Kept, ", "),
			strings.Join(why, "; "),
		)
	}
	if len(touched) > 0 {
		cause = fmt.Errorf("%w; written by somebody else meanwhile and left so: %s", cause, strings.Join(touched, ", "))
	}
	if c.accessChanged { // the files are as for the sheet before; so is the access, or will be with the next round
		before, last := h.lastSheet(), memory{}
		if before == nil || h.loadJSON("memory.json", &last) != nil {
			before, last = &source.Sheet{}, memory{}
		}
		if undoErr := c.access(context.WithoutCancel(ctx), before, last.Sheet, false); undoErr != nil {
			c.log.Warn("the access is not as it was yet", "error", undoErr)
		}
	}
	return cause
}

// dangers are the findings that let somebody supply packages who should not. What stood for a
// repository of the policy goes back as it was where the policy's own way to it does not work:
// the host had it so, and would have it nowhere else. A host that is put back to its base is held against that too.
func (a *attempt) dangers(sheet, before *source.Sheet, s *source.Survey) map[string]drift.Finding {
	out := map[string]drift.Finding{}
	tell := func(base *drift.Base) {
		for _, f := range drift.Judge(drift.Input{Sheet: sheet, Before: before, Survey: s, Base: base, All: true}) {
			if f.Severity == drift.Danger && f.Class != drift.DoubledSource {
				out[f.Key()] = f
			}
		}
	}
	tell(nil)
	if a.base != nil {
		tell(a.base)
	}
	return out
}

// spare lists the files that are not put back, since that would bring a danger back
// which the change took away, and says which dangers.
func (a *attempt) spare(ctx context.Context) (files map[string]bool, why []string) {
	if !a.swapped {
		return nil, nil
	}
	last := a.host.lastSheet()
	before := a.dangers(a.sheet, last, &a.before.Survey)
	if last != nil { // what the policy said before is no danger of somebody's making, but for checks that were off
		old := a.dangers(last, last, &a.before.Survey)
		for key, f := range before {
			if f.Class != drift.ChecksWeakened && f.Class != drift.KeyWithdrawn &&
				!slices.ContainsFunc(
					slices.Collect(maps.Values(old)),
					func(x drift.Finding) bool { return x.Class == f.Class && x.File == f.File },
				) {
				delete(before, key)
			}
		}
	}
	if len(before) == 0 {
		return nil, nil
	}
	after := a.host.surveyFor(a.sheet)
	left := a.dangers(a.sheet, a.sheet, &after.Survey)
	edited := map[string]change.FileEdit{}
	for _, e := range a.plan.Edits {
		edited[e.Path] = e
	}
	files = map[string]bool{}
	for key, f := range before {
		if _, there := left[key]; there {
			continue
		}
		if _, ours := edited[f.File]; !ours {
			continue
		}
		files[f.File] = true
		if kept, is := copyOf(edited[f.File], a.plan.Edits); is {
			files[kept] = true
		}
		why = append(why, f.Place()+": "+f.Message)
	}
	if len(files) == 0 {
		return nil, nil
	}
	slices.Sort(why)
	needed(files, edited, &after)
	if len(files) < len(edited) && a.refused(ctx, files) {
		for p := range edited { // half of it would not be taken
			files[p] = true
		}
	}
	return files, why
}

// copyOf is the file in which a change keeps what it takes out elsewhere.
func copyOf(e change.FileEdit, edits []change.FileEdit) (name string, is bool) {
	for _, x := range edits {
		if e.Action == change.Remove && setAside(x, []change.FileEdit{e}) {
			return x.Path, true
		}
	}
	return "", false
}

// needed adds the files of the change that those of files name.
func needed(files map[string]bool, edited map[string]change.FileEdit, after *survey.Result) {
	add := func(p string) {
		if _, ours := edited[p]; ours {
			files[p] = true
		}
	}
	for i := range after.Survey.Sources {
		s := &after.Survey.Sources[i]
		if !files[s.File] {
			continue
		}
		for _, p := range s.Reads() {
			add(p)
		}
	}
	if files[arch.Config] {
		for _, p := range arch.Includes(edited[arch.Config].New) {
			add(p)
		}
	}
}

// refused reports whether the package manager would refuse the host with all edits but
// those of spare put back.
func (a *attempt) refused(ctx context.Context, spare map[string]bool) bool {
	back := map[string]bool{}
	for _, e := range a.plan.Edits {
		back[e.Path] = !spare[e.Path]
	}
	before := a.host.lastSheet()
	if before == nil {
		before = &source.Sheet{Family: a.sheet.Family}
	}
	return a.host.try(ctx, before, a.before, a.texts(back), a.stuck) != nil
}

// prove refreshes the metadata and looks whether the host is as the sheet says.
func (a *attempt) prove(ctx context.Context) error {
	c, h := a.carrier, a.host
	c.begin(api.StepRefresh)
	after := h.surveyFor(a.sheet)
	if err := a.refresh(ctx, &after); err != nil {
		return c.failed("%w", err)
	}
	c.begin(api.StepProve)
	releases, _ := deb.ReadReleases(h.fs, after.Survey.Sources)
	if t := deb.JudgePins(a.sheet.Sources, releases); len(t) > 0 {
		return c.failed("%s: the packages of others would come from elsewhere than the policy says", t[0])
	}
	if err := a.witnesses(ctx, &after); err != nil {
		return c.failed("%w", err)
	}
	if a.sheet.Family == arch.Family || a.sheet.Family == zypp.Family { // its keyring may have been filled
		after = h.surveyFor(a.sheet)
	}
	for _, f := range drift.Compare(a.sheet, &after.Survey) {
		if f.Wrong() && !a.stuck.knows(f) && !a.stood(f) {
			return c.failed("%s is still not as it should be: %s", f.Place(), f.Message)
		}
	}
	for _, f := range h.accessFiles() {
		if f.State != credential.FileOK {
			return c.failed("%s is still not as it should be: %s", f.Path, f.State)
		}
	}
	if err := h.saveJSON("kept.json", after.Texts); err != nil {
		return c.failed("the files cannot be kept for later: %w", err)
	}
	if err := a.distrust(ctx, true); err != nil {
		return err
	}
	if err := a.noteAdded(&after.Survey); err != nil {
		return c.failed("the keys that were added cannot be noted: %w", err)
	}
	a.drop() // what was moved away goes before the journal, which says what it is
	if a.plan.Any() || c.accessChanged {
		return h.keepJournal()
	}
	return h.closeJournal()
}

// stood reports whether a finding is about something that the change does not touch and
// that was so before: it is told as drift, and is no reason to put the change back. A link in the place of a file is such: the
// file is written where it leads.
func (a *attempt) stood(f drift.Finding) bool {
	if f.Class == drift.SettingWeakened || f.Class == drift.AccessInClear || f.Field == drift.FolderField || f.Field == drift.FileField {
		return true // no change writes these files, nor gives a folder back
	}
	if f.Class == drift.KeyWithdrawn {
		return true // what could be taken out is out
	}
	if f.Class == drift.ChangedMode && f.Field == "link" {
		return a.linked(f.File)
	}
	if f.Class == drift.ChecksWeakened && a.sheet.Paths()[f.File] ||
		slices.ContainsFunc(a.plan.Edits, func(e change.FileEdit) bool { return e.Path == f.File }) {
		return false
	}
	return slices.ContainsFunc(drift.Compare(a.sheet, &a.before.Survey), func(x drift.Finding) bool { return x.Key() == f.Key() })
}

// linked reports whether a link stood in the place of a file before the change.
func (a *attempt) linked(file string) bool {
	return slices.ContainsFunc(a.journal.Files, func(f journalEntry) bool { return f.Path == file && f.linked }) ||
		slices.ContainsFunc(a.before.Survey.Files, func(f source.File) bool { return f.Path == file && f.Link != "" })
}

// stuck is what stops the package manager on the host already, whatever the change does:
// the change goes around it.
type stuck struct {
	files    []string         // are left out of what the package manager is shown
	problems []source.Problem // that no file is to be blamed for alone
}

// stuckOn finds what stops the package manager and is none of what a change edits.
func stuckOn(sheet *source.Sheet, now *survey.Result, plan change.Change) (out stuck) {
	for _, p := range now.Survey.Problems {
		if !p.Fatal || p.Family != sheet.Family {
			continue
		}
		_, text := now.Texts[p.File]
		edited := slices.ContainsFunc(plan.Edits, func(e change.FileEdit) bool { // or the file that it asks for in vain
			return e.Path == p.File || drift.NamesFile(p.Message, e.Path)
		})
		switch {
		case edited:
		case text && p.File != arch.Config:
			if !slices.Contains(out.files, p.File) {
				out.files = append(out.files, p.File)
			}
		default:
			out.problems = append(out.problems, p)
		}
	}
	return out
}

// knows reports whether a finding is what the change goes around.
func (s stuck) knows(f drift.Finding) bool {
	if f.Class != drift.Refused {
		return false
	}
	return slices.Contains(s.files, f.File) ||
		slices.ContainsFunc(s.problems, func(p source.Problem) bool { return p.File == f.File && strings.Contains(f.Message, p.Message) })
}

// tolerates reports whether a problem stood there before.
func (s stuck) tolerates(p source.Problem) bool {
	return slices.ContainsFunc(s.problems, func(x source.Problem) bool { return x.File == p.File && x.Message == p.Message })
}

// without leaves out of texts what stops the package manager. A file stays there, empty:
// another may name it.
func (s stuck) without(texts map[string][]byte) map[string][]byte {
	if len(s.files) == 0 {
		return texts
	}
	out := maps.Clone(texts)
	for _, p := range s.files {
		out[p] = nil
	}
	return out
}

// try asks, before anything is touched, whether the package manager would take
// the new configuration: our own reading of it first, then the program's.
func (h *Host) try(ctx context.Context, sheet *source.Sheet, now *survey.Result, texts map[string][]byte, s stuck) error {
	dir := h.statePath("try")
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	m, err := h.manager(now.Survey.Traits.Family)
	if err != nil {
		return err
	}
	if err := m.try(ctx, dir, s.without(texts), now, s); err != nil {
		return err
	}
	if hasRemotes(sheet) {
		// Keys are beside the remotes, and are not there yet.
		_, err = flatpakTool{h}.ask(ctx, texts[flatpak.Config], sheet, false)
	}
	return err
}
