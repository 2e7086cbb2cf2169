package agent

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// carrier carries one delivery out, step by step.
type carrier struct {
	host     *Host
	link     *link
	enrol    *Enrolment
	log      *slog.Logger
	now      func() time.Time
	report   api.Report
	began    time.Time
	step     string
	delivery api.Delivery

	accessChanged bool
	grants        map[string]api.AccessGrant // by sheet, for as long as the carrying takes
}

// begin notes that a step begins and how long the one before took.
func (c *carrier) begin(step string) {
	t := c.now()
	if c.step != "" {
		c.report.Took[c.step] = t.Sub(c.began).Milliseconds()
	}
	c.step, c.began = step, t
	c.log.Debug("step", "step", step)
}

// carry fetches the delivery that waits and carries it out. The report says how
// it went; nil means that nothing waited. An error means that the service went
// away before anything was touched.
func (c *carrier) carry(ctx context.Context) (*api.Report, error) {
	c.report = api.Report{Edits: []api.PreviewFile{}, Sources: []api.SourceOutcome{}, Took: map[string]int64{}}
	err := c.steps(ctx)
	var answered *callError
	switch {
	case errors.Is(err, errAway):
		return nil, err
	case errors.As(err, &answered) && answered.status == http.StatusNotFound && c.report.Rollout == 0:
		return nil, nil
	}
	c.begin("")
	if err != nil {
		c.report.State, c.report.Message = "failed", oneLine(err.Error())
	}
	return &c.report, nil
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// failed is an error with the step it happened at noted in the report.
func (c *carrier) failed(format string, args ...any) error {
	c.report.Step = c.step
	return fmt.Errorf(format, args...)
}

func (c *carrier) steps(ctx context.Context) error {
	h := c.host
	c.begin(api.StepVerify)
	c.report.Step = api.StepVerify
	var last memory
	if err := h.loadJSON("memory.json", &last); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return c.failed("what was carried out last cannot be read: %w", err)
	}
	var jws []byte
	if err := c.link.call(ctx, http.MethodGet, "/api/agent/delivery", nil, &jws); err != nil {
		return err
	}
	d, err := verifyDelivery(jws, c.enrol, last, c.now())
	c.delivery = d
	c.report.Rollout, c.report.Revision, c.report.Sheet = d.Rollout, d.Revision, d.Sheet
	if err != nil {
		return err
	}
	if err := c.link.call(ctx, http.MethodPost, "/api/agent/reports", api.Report{Rollout: d.Rollout, Revision: d.Revision, Sheet: d.Sheet, State: "working", Step: c.step, Edits: c.report.Edits, Sources: c.report.Sources}, nil); err != nil {
		return fmt.Errorf("the service does not want it: %w", err)
	}
	var text []byte
	if !source.IsDigest(d.Sheet) {
		return errors.New("refused: the delivery names no sheet")
	}
	if err := c.link.call(ctx, http.MethodGet, "/api/documents/"+d.Sheet, nil, &text); err != nil {
		return fmt.Errorf("the sheet cannot be fetched: %w", err)
	}
	sheet, err := verifySheet(text, d)
	if err != nil {
		return err
	}

	c.begin(api.StepSurvey)
	now := h.surveyFor(sheet)

	c.begin(api.StepPlan)
	plan := change.Compute(change.Input{Sheet: sheet, Survey: &now.Survey, Texts: now.Texts, Before: h.lastSheet(), Kept: h.kept()})
	for _, e := range plan.Edits {
		c.report.Edits = append(c.report.Edits, api.PreviewFile{Path: e.Path, Action: e.Action, Why: e.Why})
	}
	if len(plan.Impossible) > 0 {
		return c.failed("%s", strings.Join(plan.Impossible, "; "))
	}
	if len(plan.Edits) > 0 {
		if err := h.needs(sheet); err != nil {
			return c.failed("%w", err)
		}
	}
	if err := c.apply(ctx, sheet, plan); err != nil {
		return err
	}
	state := "done"
	if len(plan.Edits) == 0 && !c.accessChanged {
		state = "unchanged"
	}
	if err := c.remember(text); err != nil {
		return c.failed("what was carried out cannot be kept: %w", err)
	}
	c.report.State, c.report.Step = state, c.step
	return nil
}

// apply makes the edits, refreshes and proves, or puts everything back.
func (c *carrier) apply(ctx context.Context, sheet *source.Sheet, plan change.Change) (err error) {
	h := c.host
	c.begin(api.StepJournal)
	j, err := h.openJournal(c.delivery.Rollout, plan.Edits)
	if err != nil {
		closeErr := h.closeJournal()
		return c.failed("nothing was changed: the journal cannot be written: %w", errors.Join(err, closeErr))
	}
	var files []*staged
	defer func() {
		for _, s := range files {
			s.drop()
		}
		if err == nil {
			return
		}
		if undoErr := h.undo(j); undoErr != nil {
			err = fmt.Errorf("%w; and it could not be put back: %w", err, undoErr)
			return
		}
		c.report.Undone = true
		if c.accessChanged { // the files are as for the sheet before; so is the access, or will be with the next round
			before, last := h.lastSheet(), memory{}
			if before == nil || h.loadJSON("memory.json", &last) != nil {
				before, last = &source.Sheet{}, memory{}
			}
			if undoErr := c.access(context.WithoutCancel(ctx), before, last.Sheet, false); undoErr != nil {
				c.log.Warn("the access is not as it was yet", "error", undoErr)
			}
		}
	}()

	c.begin(api.StepStage)
	for i, e := range plan.Edits {
		s, err := h.stage(e, j.Files[i])
		if s != nil {
			files = append(files, s)
		}
		if err != nil {
			return c.failed("%s cannot be written: %w", e.Path, err)
		}
	}

	c.begin(api.StepTry)
	if err := h.try(ctx, sheet, plan); err != nil {
		return c.failed("%w", err)
	}

	// What opens the new sources is there before they are, and what opened the old
	// ones goes after them.
	c.begin(api.StepAccess)
	if err := c.access(ctx, sheet, c.delivery.Sheet, true); err != nil {
		return c.failed("%w", err)
	}

	c.begin(api.StepSwap)
	slices.SortStableFunc(files, func(a, b *staged) int { return cmp.Compare(a.rank(), b.rank()) })
	for _, s := range files {
		if err := s.swap(); err != nil {
			return c.failed("%s cannot be put in place: %w", s.path, err)
		}
	}

	if err := c.access(ctx, sheet, c.delivery.Sheet, false); err != nil {
		return c.failed("%w", err)
	}

	c.begin(api.StepRefresh)
	after := h.surveyFor(sheet)
	if err := c.refresh(ctx, sheet, &after); err != nil {
		return c.failed("%w", err)
	}

	c.begin(api.StepProve)
	if err := c.witnesses(ctx, sheet, &after); err != nil {
		return c.failed("%w", err)
	}
	if sheet.Family == arch.Family { // its keyring may have been filled
		after = h.surveyFor(sheet)
	}
	for _, f := range drift.Compare(sheet, &after.Survey) {
		if f.Severity != drift.Note && f.Class != drift.UnlistedSource {
			return c.failed("%s:%d is still not as it should be: %s", f.File, f.Line, f.Message)
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
	return h.closeJournal()
}

// surveyFor is a survey with all that a sheet speaks of: files of it that the package
// manager does not read, and the media that is there. Its Files are filled in.
func (h *Host) surveyFor(sheet *source.Sheet) survey.Result {
	r := h.Survey()
	h.addUnread(sheet, &r)
	r.Masked()
	r.Survey.Media = h.attached(sheet)
	return r
}

// addUnread adds files of the sheet that stand on the host though its package manager
// does not read them.
func (h *Host) addUnread(sheet *source.Sheet, r *survey.Result) {
	for _, f := range sheet.Files {
		if _, read := r.Texts[f.Path]; read {
			continue
		}
		text, info, err := h.fs.ReadTextInfo(f.Path)
		if err == nil && info.Mode().IsRegular() {
			r.Texts[f.Path], r.Modes[f.Path] = text, info.Mode().Perm()
		}
	}
}

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
	s := &staged{path: e.Path, real: p, data: e.New, mode: fs.FileMode(mode).Perm(), uid: before.UID, gid: before.GID, remove: e.Action == change.Remove, fresh: e.Action == change.Create}
	if _, err := os.Lstat(p); e.Action == change.Create && err == nil {
		return nil, errors.New("it was made by somebody else a moment ago; try again")
	}
	if e.Action == change.Edit {
		now, err := os.ReadFile(p)
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(now, e.Old) {
			return nil, errors.New("it was changed by somebody else a moment ago; try again")
		}
	}
	return s, s.prepare()
}

// remember keeps what was carried out: the sheet, and how far the revision is.
func (c *carrier) remember(sheet []byte) error {
	if err := c.host.save("sheet.json", sheet); err != nil {
		return err
	}
	return c.host.saveJSON("memory.json", memory{Revision: c.delivery.Revision, Sheet: c.delivery.Sheet, Issued: c.delivery.Issued})
}

// try asks, before anything is touched, whether the package manager would take
// the new configuration: our own reading of it first, then the program's.
func (h *Host) try(ctx context.Context, sheet *source.Sheet, plan change.Change) error {
	dir := h.statePath("try")
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	now := h.Survey()
	texts := map[string][]byte{}
	for p, t := range now.Texts {
		texts[p] = t
	}
	for _, e := range plan.Edits {
		if e.Action == change.Remove {
			delete(texts, e.Path)
		} else {
			texts[e.Path] = e.New
		}
	}
	m, err := h.manager(now.Survey.Traits.Family)
	if err != nil {
		return err
	}
	if err := m.try(ctx, dir, texts, &now); err != nil {
		return err
	}
	if hasRemotes(sheet) {
		// Keys are beside the remotes, and are not there yet.
		_, err = flatpakTool{h}.ask(ctx, texts[flatpak.Config], sheet, false)
	}
	return err
}

// manager is how the agent asks a family's package manager.
type manager interface {
	// try asks on the side, in an empty folder, whether the package manager would take
	// source files: our own reading of them first, then the program's.
	try(ctx context.Context, dir string, texts map[string][]byte, now *survey.Result) error
	// refresh brings the metadata up to date, and says what did it and how it went.
	refresh(ctx context.Context, sheet *source.Sheet, after *survey.Result) (how string, out []api.SourceOutcome, err error)
	// visible lists the versions of a package that the sources of a repository offer.
	visible(ctx context.Context, sheet *source.Sheet, after *survey.Result, w source.SheetWitness) ([]string, error)
}

func (h *Host) manager(family string) (manager, error) {
	switch family {
	case deb.Family:
		return apt{h}, nil
	case rpm.Family:
		return dnf{h}, nil
	case zypp.Family:
		return zypper{h}, nil
	case arch.Family:
		return pacman{h}, nil
	}
	return nil, fmt.Errorf("this agent cannot change hosts of the family %q", family)
}

// apt is apt-get, or our own reading where there is none.
type apt struct{ *Host }

func (h apt) try(ctx context.Context, dir string, texts map[string][]byte, now *survey.Result) error {
	if err := h.view(dir, texts); err != nil {
		return fmt.Errorf("the new configuration cannot be tried: %w", err)
	}
	side, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer side.Close()
	for _, p := range deb.Read(rootfs.New(side.FS()), now.Survey.Traits.Architectures).Problems {
		if p.Fatal {
			return fmt.Errorf("apt would refuse the new configuration, so nothing was changed: %s:%d: %s", p.File, p.Line, p.Message)
		}
	}
	if !haveApt() {
		return nil
	}
	args := append(h.aptArgs(now.Survey.Traits), viewArgs(dir)...)
	out, err := h.runApt(ctx, time.Minute, append(args, "indextargets", "--no-release-info")...)
	if err != nil {
		return fmt.Errorf("apt refuses the new configuration, so nothing was changed: %s", out.errors())
	}
	return nil
}

func (h apt) refresh(ctx context.Context, _ *source.Sheet, after *survey.Result) (string, []api.SourceOutcome, error) {
	if haveApt() {
		out, err := h.refreshWithApt(ctx, &after.Survey, after.Texts)
		return "apt-get", out, err
	}
	out, err := h.refreshAlone(ctx, &after.Survey, time.Now())
	return "own reading", out, err
}

// view writes source files into a folder that stands for the root. Paths of keys
// are made to lead where the keys really are, which apt's own options do not do.
func (h *Host) view(dir string, texts map[string][]byte) error {
	if err := os.MkdirAll(path.Join(dir, deb.PartsDir), 0o755); err != nil {
		return err
	}
	for p, t := range texts {
		if p != deb.MainList && path.Dir(p) != deb.PartsDir {
			continue
		}
		if h.Root != "/" {
			t = deb.RootedKeys(p, t, h.Root)
		}
		if err := os.WriteFile(dir+p, t, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func viewArgs(dir string) []string {
	return []string{"-o", "Dir::Etc::sourcelist=" + dir + deb.MainList, "-o", "Dir::Etc::sourceparts=" + dir + deb.PartsDir}
}

// aptArgs points apt-get at the root.
func (h *Host) aptArgs(t source.Traits) []string {
	if h.Root == "/" {
		return nil
	}
	args := []string{"-o", "Dir=" + h.Root, "-o", "APT::Sandbox::User=root"}
	if len(t.Architectures) > 0 {
		args = append(args, "-o", "APT::Architecture="+t.Architectures[0])
		for _, a := range t.Architectures {
			args = append(args, "-o", "APT::Architectures::="+a)
		}
	}
	return args
}

// refresh brings the metadata up to date and looks at every source of the sheet.
func (c *carrier) refresh(ctx context.Context, sheet *source.Sheet, after *survey.Result) error {
	now := &after.Survey
	m, err := c.host.manager(sheet.Family)
	if err != nil {
		return err
	}
	if c.report.Refresh, c.report.Sources, err = m.refresh(ctx, sheet, after); err != nil {
		return err
	}
	if hasRemotes(sheet) {
		more, err := flatpakTool{c.host}.ask(ctx, after.Texts[flatpak.Config], sheet, true)
		c.report.Sources = append(c.report.Sources, more...)
		if err != nil {
			return err
		}
	}
	ours := map[string]bool{}
	for _, f := range sheet.Files {
		ours[f.Path] = true
	}
	spoken := map[string]bool{} // file:line of entries that a rule speaks of
	for _, rule := range sheet.InPlace {
		for i := range deb.Judge(rule, now.Sources, ours).Covers {
			spoken[fmt.Sprintf("%s:%d", now.Sources[i].File, now.Sources[i].Line)] = true
		}
		for i := range family.JudgeSections(rule, sheet.Family, now.Sources, ours).Covers {
			spoken[fmt.Sprintf("%s:%d", now.Sources[i].File, now.Sources[i].Line)] = true
		}
	}
	for _, s := range c.report.Sources {
		if !s.OK && (ours[s.File] || s.File == flatpak.Config || spoken[fmt.Sprintf("%s:%d", s.File, s.Line)]) {
			return fmt.Errorf("%s cannot be refreshed: %s", strings.TrimSpace(s.URL+" "+s.Suite), explain401(s, sheet))
		}
	}
	return nil
}

// explain401 says in words why a vendor asks for a login.
func explain401(o api.SourceOutcome, sheet *source.Sheet) string {
	if !strings.Contains(o.Message, "401") && !strings.Contains(o.Message, "403") {
		return o.Message
	}
	for _, s := range sheet.Sources {
		if s.File != o.File || !s.Enabled {
			continue
		}
		if s.Contract != "" {
			return fmt.Sprintf("the vendor does not let this host in (%s): %s needs a seat in the contract %s, and the access of this host opens it no more; take a seat (lantern seat take), or follow the open choice", o.Message, s.Repository, s.Contract)
		}
		return fmt.Sprintf("the vendor does not let this host in (%s): %s is licensed, and the policy names no contract for it; make it a choice of a channel", o.Message, s.Repository)
	}
	return o.Message
}
