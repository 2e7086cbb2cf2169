package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
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
	life     *life
	base     *drift.Base // what the host is put back to; nil where it is only given what the policy says

	accessChanged bool
	grants        map[string]api.AccessGrant // by sheet, for as long as the carrying takes
}

// mostTries is how often a change is worked out anew because somebody writes the same
// files meanwhile.
const mostTries = 4

// begin notes that a step begins and how long the one before took.
func (c *carrier) begin(step string) {
	t := c.now()
	if c.step != "" {
		c.report.Took[c.step] += t.Sub(c.began).Milliseconds()
	}
	c.step, c.began = step, t
	c.log.Debug("step", "step", step)
	c.life.at(step)
	failpoint(step)
}

// carry fetches the delivery that waits and carries it out. The report says how
// it went; nil means that nothing waited. An error means that the service went
// away before anything was touched.
func (c *carrier) carry(ctx context.Context) (*api.Report, error) {
	c.report = api.Report{Edits: []api.PreviewFile{}, Sources: []api.SourceOutcome{}, Took: map[string]int64{}}
	err := c.steps(ctx)
	c.life.end()
	var answered *callError
	switch {
	case errors.Is(err, errAway):
		return nil, err
	case errors.As(err, &answered) && answered.status == http.StatusNotFound && c.report.Rollout == 0:
		return nil, nil
	}
	c.begin("")
	switch {
	case errors.Is(err, errStopped):
		c.report.State, c.report.Message = "stopped", err.Error()
	case err != nil:
		c.report.State, c.report.Message = "failed", oneLine(err.Error())
	default:
		c.report.Message = unfetched(c.report)
	}
	c.hush()
	return &c.report, nil
}

// unfetched says in one line what could not be refreshed, though that is not of the
// change.
func unfetched(r api.Report) string {
	var bad []string
	for _, o := range r.Sources {
		if !o.OK {
			bad = append(bad, strings.TrimSpace(o.URL+" "+o.Suite)+": "+oneLine(o.Message))
		}
	}
	out := strings.Join(r.Around, "; ")
	if len(bad) > 0 {
		if out != "" {
			out += "; "
		}
		out += fmt.Sprintf(
			"%d of %d sources could not be refreshed, which this change has not brought about: %s",
			len(bad),
			len(r.Sources),
			strings.Join(bad, "; "),
		)
	}
	return out
}

// hush takes secrets out of everything that the report repeats.
func (c *carrier) hush() {
	c.report.Message = c.host.clean(c.report.Message)
	for i := range c.report.Sources {
		o := &c.report.Sources[i]
		o.Message, o.URL = c.host.clean(o.Message), c.host.clean(o.URL)
	}
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// failed is an error with the step it happened at noted in the report.
func (c *carrier) failed(format string, args ...any) error {
	c.report.Step = c.step
	return fmt.Errorf(format, args...)
}

// fetch gets the delivery that waits and the sheet that it names, and checks both.
func (c *carrier) fetch(ctx context.Context) (*source.Sheet, []byte, error) {
	h := c.host
	c.begin(api.StepVerify)
	c.report.Step = api.StepVerify
	var last memory
	if err := h.loadJSON("memory.json", &last); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, nil, c.failed("what was carried out last cannot be read: %w", err)
	}
	var jws []byte
	if err := c.link.call(ctx, http.MethodGet, "/api/agent/delivery", nil, &jws); err != nil {
		return nil, nil, err
	}
	d, err := verifyDelivery(jws, c.enrol, last, c.now())
	c.delivery = d
	c.report.Rollout, c.report.Revision, c.report.Sheet = d.Rollout, d.Revision, d.Sheet
	if err != nil {
		return nil, nil, err
	}
	if err := c.link.call(ctx, http.MethodPost, "/api/agent/reports", c.working(), nil); err != nil {
		return nil, nil, fmt.Errorf("the service does not want it: %w", err)
	}
	c.life = c.link.live(ctx, c.working())
	if d.BackOut != 0 { // what comes is kept here
		return nil, nil, nil
	}
	var text []byte
	if !source.IsDigest(d.Sheet) {
		return nil, nil, errors.New("refused: the delivery names no sheet")
	}
	if err := c.link.call(ctx, http.MethodGet, "/api/documents/"+d.Sheet, nil, &text); err != nil {
		return nil, nil, fmt.Errorf("the sheet cannot be fetched: %w", err)
	}
	sheet, err := verifySheet(text, d)
	if err != nil {
		return nil, nil, err
	}
	return sheet, text, nil
}

// working is a report that the host is at work.
func (c *carrier) working() api.Report {
	return api.Report{
		Rollout:  c.report.Rollout,
		Revision: c.report.Revision,
		Sheet:    c.report.Sheet,
		State:    "working",
		Step:     c.step,
		Edits:    []api.PreviewFile{},
		Sources:  []api.SourceOutcome{},
	}
}

func (c *carrier) steps(ctx context.Context) error {
	if _, err := c.host.Recover(); err != nil {
		return c.failed("nothing was changed: %w: %w", errOpen, err)
	}
	sheet, text, err := c.fetch(ctx)
	if err != nil {
		return err
	}
	if c.delivery.BackOut != 0 {
		return c.backOut(ctx)
	}
	var changed bool
	for try := 1; ; try++ {
		if changed, err = c.once(ctx, sheet); !errors.Is(err, errTouched) || try == mostTries {
			break
		}
		c.log.Info("somebody wrote the same files; the change is worked out anew", "why", err)
		c.report.Edits = []api.PreviewFile{}
	}
	if err != nil {
		return err
	}
	if err := c.remember(text); err != nil {
		return c.failed("what was carried out cannot be kept: %w", err)
	}
	c.report.State, c.report.Step = "unchanged", c.step
	if changed || c.accessChanged || c.host.changedBy(c.delivery.Rollout) {
		c.report.State = "done"
	}
	return nil
}

// once works the change out and carries it out.
func (c *carrier) once(ctx context.Context, sheet *source.Sheet) (changed bool, err error) {
	h := c.host
	c.begin(api.StepSurvey)
	now := h.surveyFor(sheet)
	if err := permitSheet(sheet, &now.Survey); err != nil {
		return false, c.failed("refused, nothing was changed: %w", err)
	}
	c.begin(api.StepPlan)
	in := change.Input{
		Sheet:    sheet,
		Survey:   &now.Survey,
		Texts:    now.Texts,
		Before:   h.lastSheet(),
		Kept:     h.kept(),
		SetAside: c.delivery.SetAside,
		Added:    h.added(),
	}
	if c.delivery.PutBack {
		if err := h.putBack(&in, &now); err != nil {
			return false, c.failed("the files as they stood when the policy came cannot be read: %w", err)
		}
	}
	c.base = in.Base
	plan := change.Compute(in)
	c.report.Edits = append(c.report.Edits, api.PreviewFiles(&plan)...)
	if len(plan.Impossible) > 0 {
		return false, c.failed("%s", strings.Join(plan.Impossible, "; "))
	}
	if !plan.Any() && !c.delivery.PutBack && onlyTold(in.Before, sheet, &now.Survey) {
		return false, nil
	}
	if err := permitEdits(plan.Edits, &now, in.Stood); err != nil {
		return false, c.failed("refused, nothing was changed: %w", err)
	}
	if len(plan.Edits) > 0 {
		if err := h.needs(sheet); err != nil {
			return false, c.failed("%w", err)
		}
	}
	return plan.Any(), c.apply(ctx, sheet, &now, plan)
}

// apply makes the edits, refreshes and proves, or goes back.
func (c *carrier) apply(ctx context.Context, sheet *source.Sheet, now *survey.Result, plan change.Change) (err error) {
	h := c.host
	c.begin(api.StepJournal)
	j, err := h.openJournal(c.delivery.Rollout, plan.Edits, accessPaths(sheet)...)
	if errors.Is(err, errOpen) {
		return c.failed("nothing was changed: %w", err)
	}
	if err != nil {
		closeErr := h.closeJournal()
		return c.failed("%w", unopened(errors.Join(err, closeErr)))
	}
	c.report.Undone, c.report.Kept, c.report.Around = false, nil, nil
	a := &attempt{carrier: c, sheet: sheet, before: now, plan: plan, journal: j, stuck: stuckOn(sheet, now, plan)}
	defer a.drop()
	if err := a.carry(ctx); err != nil {
		return a.goBack(ctx, err)
	}
	return nil
}

// attempt is one try at carrying a change out.
type attempt struct {
	*carrier
	sheet   *source.Sheet
	before  *survey.Result // what stood there
	plan    change.Change
	journal *journal
	stuck   stuck
	files   []*staged
	swapped bool
	told    map[string][]api.SourceOutcome // what was asked on the side
	gone    []change.Distrusted            // keys that were taken out of keyrings
}

// drop forgets what was staged.
func (a *attempt) drop() {
	dropAll(a.files)
}

func (a *attempt) carry(ctx context.Context) error {
	c, h := a.carrier, a.host
	c.begin(api.StepStage)
	for i, e := range a.plan.Edits {
		s, err := h.stage(e, a.journal.Files[i])
		if s != nil {
			a.files = append(a.files, s)
		}
		if err != nil {
			return c.failed("%s cannot be written: %w", e.Path, plain(err))
		}
	}
	c.begin(api.StepTry)
	if err := h.try(ctx, a.sheet, a.before, a.texts(nil), a.stuck); err != nil {
		return c.failed("%w", err)
	}
	if err := c.life.stopped(); err != nil {
		return c.failed("%w", err)
	}
	// What opens the new sources is there before they are, and what opened the old
	// ones goes after them.
	c.begin(api.StepAccess)
	if err := c.access(ctx, a.sheet, c.delivery.Sheet, true); err != nil {
		return c.failed("%w", err)
	}
	if err := a.swap(ctx); err != nil {
		return err
	}
	if err := a.distrust(ctx, false); err != nil {
		return err
	}
	return a.prove(ctx)
}

// swap puts the staged files in place, new ones first and those that go last, and takes away
// the access that is not needed any more.
func (a *attempt) swap(ctx context.Context) error {
	c, h := a.carrier, a.host
	c.begin(api.StepSwap)
	a.swapped = true
	slices.SortStableFunc(a.files, func(x, y *staged) int { return cmp.Compare(x.rank(), y.rank()) })
	for i, s := range a.files {
		if err := h.swapOut(s); err != nil {
			return c.failed("%s cannot be put in place: %w", s.path, plain(err))
		}
		failpoint(fmt.Sprintf("swapped-%d", i))
	}
	if err := c.access(ctx, a.sheet, c.delivery.Sheet, false); err != nil {
		return c.failed("%w", err)
	}
	return nil
}

// texts are the files as they stand after the edits, but those of back, which stand as
// they did before.
func (a *attempt) texts(back map[string]bool) map[string][]byte {
	out := map[string][]byte{}
	maps.Copy(out, a.before.Texts)
	for _, e := range a.plan.Edits {
		switch {
		case back[e.Path]:
		case e.Action == change.Remove:
			delete(out, e.Path)
		default:
			out[e.Path] = e.New
		}
	}
	return out
}

// surveyFor is a survey with all that a sheet speaks of: files of it that the package
// manager does not read, and the media that is there. Its Files are filled in.
func (h *Host) surveyFor(sheet *source.Sheet) survey.Result {
	r := h.Survey()
	h.addUnread(sheet, &r)
	if before := h.lastSheet(); before != nil { // what goes with it is not left behind
		h.addUnread(before, &r)
	}
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

// remember keeps what was carried out: the sheet, and how far the revision is.
func (c *carrier) remember(sheet []byte) error {
	if err := c.host.save("sheet.json", sheet); err != nil {
		return err
	}
	return c.host.saveJSON("memory.json", memory{Revision: c.delivery.Revision, Sheet: c.delivery.Sheet, Issued: c.delivery.Issued})
}
