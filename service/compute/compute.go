// Package compute answers what follows from documents (sheets, surveys, traits, policies) and remembers
// the answers: hosts that have the same documents share them.
package compute

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unique"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/standing"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/memo"
	"patientlantern.example/lantern/service/seats"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/wire"
)

// Computer answers questions about distinct inputs and remembers the answers. What
// follows from whole documents is small and kept for every host that there can be; the
// documents themselves are large and read again when they are wanted.
type Computer struct {
	store   *store.Store
	Waivers *Waivers // what somebody accepts until a date; nil in tests of computing alone
	Keeper  *seats.Keeper
	Healed  *Healings // by themselves; nil in tests of computing alone
	build   string    // names this build of the program

	traits   *memo.Cache[string, *source.Traits]
	systems  *memo.Cache[string, *fleet.System] // by traits
	surveys  *memo.Cache[string, *source.Survey]
	parts    *wire.Parts // of surveys and sheets
	sheets   *memo.Cache[string, *source.Sheet]
	texts    *memo.Cache[string, []byte]
	releases *memo.Cache[string, []source.Release] // by survey
	files    *memo.Cache[string, []source.File]    // by survey
	verdicts *memo.Cache[Question, *fleet.Judgement]
	changes  *memo.Cache[Pair, *Outcome]
	diffs    *memo.Cache[string, string]
	revs     *memo.Cache[int64, *resolve.Resolver]

	fresh struct { // verdicts that are not stored yet
		sync.Mutex
		list []store.Verdict
	}

	// Resolvers share what they have worked out, so one works at a time.
	resolving sync.Mutex
	memory    resolve.Memory
	believed  believed
	placed    placed
	carried   *memo.Cache[string, map[string]string] // by sheet and architectures: place → the keys that decide on it
}

// Bounds of the memories. A host could make documents up without end.
const (
	keptTraits   = 4_096
	keptSurveys  = 256
	keptSources  = 2_048
	longSource   = 6 << 10 // bytes of JSON
	keptLists    = 512
	longList     = 32 << 10 // likewise
	keptSheets   = 512
	keptTexts    = 16_384
	keptFiles    = 16_384
	keptVerdicts = 120_000
	keptChanges  = 512
	keptDiffs    = 512
	mostDiffed   = 64 << 10 // bytes of two texts whose diff is remembered
	keptRevs     = 64
)

// New is a Computer whose answers count for one build of the program: another may judge otherwise.
func New(st *store.Store, build string) *Computer {
	return &Computer{
		store: st, build: build,
		traits:  memo.New[string, *source.Traits](keptTraits),
		systems: memo.New[string, *fleet.System](keptTraits),
		surveys: memo.New[string, *source.Survey](keptSurveys),
		parts: wire.NewParts(
			wire.Each[source.Source](keptSources, longSource), wire.Each[source.File](keptSources, longSource),
			wire.Alike[[]source.Key](keptLists, longList), wire.Alike[[]source.Setting](keptLists, longList),
			wire.Each[source.SheetFile](keptSources, longSource), wire.Each[source.SheetSource](keptSources, longSource),
		),
		sheets:   memo.New[string, *source.Sheet](keptSheets),
		texts:    memo.New[string, []byte](keptTexts),
		releases: memo.New[string, []source.Release](keptSurveys * 16),
		files:    memo.New[string, []source.File](keptFiles),
		verdicts: memo.New[Question, *fleet.Judgement](keptVerdicts),
		changes:  memo.New[Pair, *Outcome](keptChanges),
		diffs:    memo.New[string, string](keptDiffs),
		revs:     memo.New[int64, *resolve.Resolver](keptRevs),
		carried:  memo.New[string, map[string]string](keptHad),
	}
}

// Same returns the one copy of a text that all who hold it share.
func Same(s string) string { return unique.Make(s).Value() }

// Share lets a row share with others what it says alike. Rows that come out of the store do.
func Share(v *fleet.View) {
	v.Traits, v.Survey, v.Sheet, v.Agent = Same(v.Traits), Same(v.Survey), Same(v.Sheet), Same(v.Agent)
	v.Carried.Sheet, v.Carried.Survey = Same(v.Carried.Sheet), Same(v.Carried.Survey)
}

// Question names what a verdict follows from. Before is the sheet that was carried last.
// Base is the sheet and the survey of when the policy came, with a blank between them; it is
// empty where the survey is still that one, or nothing was carried.
type Question struct{ Sheet, Before, Survey, Base string }

// QuestionOf is what the standing of a host follows from.
func QuestionOf(v *fleet.View) Question {
	q := Question{Sheet: v.Sheet, Before: v.Carried.Sheet, Survey: v.Survey, Base: baseOf(v)}
	if q.Before == "" {
		q.Before = q.Sheet
	}
	return q
}

// baseOf names the base of a host; empty where there is nothing to hold against it.
func baseOf(v *fleet.View) string {
	b := v.Carried.Known()
	if b.Survey == "" || b.Survey == v.Survey {
		return ""
	}
	return Same(b.Sheet + " " + b.Survey)
}

// base reads a base by its name; nil where there is none.
func (c *Computer) base(ctx context.Context, name string) (*drift.Base, error) {
	sheet, survey, named := strings.Cut(name, " ")
	if !named {
		return nil, nil
	}
	out := &drift.Base{}
	var err error
	if out.Survey, err = c.SurveyOf(ctx, survey); err != nil {
		return nil, err
	}
	if sheet != "" {
		out.Sheet, err = c.SheetOf(ctx, sheet)
	}
	return out, err
}

// Pair names the inputs of a change.
// base is that of a host that is healed; empty where a new sheet comes.
type Pair struct{ Sheet, Survey, Before, kept, base string }

// Outcome is what a pair comes to.
type Outcome struct {
	Change   change.Change
	Diff     string
	findings []drift.Finding // with exact lines
	Weakens  []string        // what of it to look at first
}

// Located returns a host's findings with the exact lines of those that its sheet
// and survey tell; what follows from seats comes behind them.
func (o *Outcome) Located(v *fleet.View) []drift.Finding {
	all := o.findings
	if every := v.Everything(); len(every) >= len(o.findings) {
		all = slices.Clone(every) // with the weight and words that the policy gives them
		for i := range o.findings {
			all[i].Line = o.findings[i].Line
		}
	}
	if v.Aside == nil {
		return all
	}
	return pick(all, v.Aside.Open)
}

// pick returns some of a host's findings.
func pick(all []drift.Finding, which []int32) []drift.Finding {
	out := make([]drift.Finding, 0, len(which))
	for _, i := range which {
		if int(i) < len(all) {
			out = append(out, all[i])
		}
	}
	return out
}

// Judge compares a sheet with a survey.
func (c *Computer) Judge(ctx context.Context, q Question) (*fleet.Judgement, error) {
	return c.verdicts.Get(q, func() (*fleet.Judgement, error) {
		sh, err := c.SheetOf(ctx, q.Sheet)
		if err != nil {
			return nil, err
		}
		was := sh
		if q.Before != q.Sheet {
			if was, err = c.SheetOf(ctx, q.Before); err != nil {
				return nil, err
			}
		}
		su, err := c.SurveyOf(ctx, q.Survey)
		if err != nil {
			return nil, err
		}
		base, err := c.base(ctx, q.Base)
		if err != nil {
			return nil, err
		}
		out := &fleet.Judgement{Unread: len(su.Problems) > 0 || su.Settings == nil || base != nil && base.Survey.Settings == nil}
		for _, f := range drift.Judge(drift.Input{Sheet: sh, Before: was, Survey: su, Base: base}) {
			if f.Class == drift.ChangedText { // means the same: told of where somebody asks
				out.TextOnly = append(out.TextOnly, f.File)
			} else {
				out.Findings = append(out.Findings, f)
			}
		}
		if ends := drift.KeyEnds(sh, su); len(ends) > 0 {
			out.NextEnd = ends[0].At
		}
		body, err := json.Marshal(out)
		if err != nil {
			return nil, err
		}
		c.fresh.Lock()
		c.fresh.list = append(c.fresh.list, store.Verdict{Sheet: q.Sheet, Before: q.Before, Survey: q.Survey, Base: q.Base, Body: body})
		c.fresh.Unlock()
		return out.Finish(), nil
	})
}

// judged is Judge, and where what stood on the host when the policy came cannot be had any more, what is known without it, and a finding
// that says so.
func (c *Computer) judged(ctx context.Context, q Question) (found *fleet.Judgement, gone []drift.Finding, err error) {
	found, err = c.Judge(ctx, q)
	if !store.Lost(err) || q.Base == "" && q.Before == q.Sheet {
		return found, nil, err
	}
	q.Base, q.Before = "", q.Sheet
	if found, err = c.Judge(ctx, q); err != nil {
		return nil, nil, err
	}
	return found, []drift.Finding{{Class: drift.NotRead, Severity: drift.Fault, Field: "base", Beside: true, Stays: true,
		Message: "what stood on the host when the policy came was damaged in the database, and nothing is held against it: " +
			"accept the host as it stands once you have looked at it"}}, nil
}

// Recall reads the verdicts that this very build has stored: another may judge otherwise.
func (c *Computer) Recall(ctx context.Context) error {
	if c.build == "" {
		return nil
	}
	return c.store.Verdicts(ctx, c.build, func(v store.Verdict) error {
		out := &fleet.Judgement{}
		if wire.Read(v.Body, out) == nil {
			c.verdicts.Put(Question{Same(v.Sheet), Same(v.Before), Same(v.Survey), Same(v.Base)}, out.Finish())
		}
		return nil
	})
}

// Write stores the verdicts that are not stored yet.
func (c *Computer) Write(ctx context.Context) error {
	c.fresh.Lock()
	list := c.fresh.list
	c.fresh.list = nil
	c.fresh.Unlock()
	if c.build == "" {
		return nil
	}
	return c.store.PutVerdicts(ctx, c.build, list)
}

// Complete fills in what follows from a row: names from its traits, its sheet
// under its revision, its findings and since when they are there.
func (c *Computer) Complete(ctx context.Context, v *fleet.View, now time.Time) error {
	v.Findings, v.Worst, v.KeyEnds, v.Judged = nil, "", time.Time{}, fleet.NothingJudged
	v.System, v.Given, v.Told, v.Aside = fleet.NoSystem, fleet.NothingGiven, fleet.TracedOf(v), nil
	v.Answered = fleet.PackagesOf(v).Asked
	if err := c.describe(ctx, v); err != nil {
		return err
	}
	if v.Revision != 0 && v.Traits != "" {
		rs, err := c.Revision(ctx, v.Revision)
		if err != nil {
			return err
		}
		res, err := c.Resolve(ctx, rs, v)
		if err != nil {
			return err
		}
		if len(res.Trouble) == 0 {
			if err := c.PutSheet(ctx, res, now); err != nil {
				return err
			}
			if digest := res.Digest(); digest != v.Sheet {
				v.Sheet = Same(digest)
			}
			c.hold(res)
		}
		v.Given = res.Given()
	}
	if v.Sheet == "" || v.Survey == "" {
		v.Since = nil
		return nil
	}
	return c.look(ctx, v, now)
}

// look fills in a host's findings.
func (c *Computer) look(ctx context.Context, v *fleet.View, now time.Time) error {
	found, gone, err := c.judged(ctx, QuestionOf(v))
	if err != nil {
		return err
	}
	own, err := c.Standing(ctx, v)
	if err != nil {
		return err
	}
	v.KeyEnds, v.Judged, v.Findings = found.NextEnd, found, found.Findings
	var ended []drift.Finding
	if !found.NextEnd.IsZero() && !now.Before(found.NextEnd) {
		if ended, v.KeyEnds, err = c.keysEnded(ctx, v, now); err != nil {
			return err
		}
	}
	keys := found.Keys()
	if extra := slices.Concat(own, ended, fleet.Unrefreshed(v), gone); len(extra) > 0 {
		v.Findings = slices.Concat(found.Findings, extra)
		keys = slices.Clip(keys)
		for _, f := range extra {
			keys = append(keys, f.Key())
		}
	}
	c.weigh(v, keys, now)
	all := v.Findings
	c.waive(v, keys, now)
	for i := range v.Findings {
		if f := &v.Findings[i]; v.Worst == "" || drift.Rank(f.Severity) < drift.Rank(v.Worst) {
			v.Worst = f.Severity
		}
	}
	v.Since = v.Since.Follow(keys, now, func(i int) string { return all[i].OldKey() })
	return nil
}

// keysEnded finds the sources whose last key has ended, and when the next one's does.
func (c *Computer) keysEnded(ctx context.Context, v *fleet.View, now time.Time) ([]drift.Finding, time.Time, error) {
	sheet, err := c.SheetOf(ctx, v.Sheet)
	if err != nil {
		return nil, time.Time{}, err
	}
	survey, err := c.SurveyOf(ctx, v.Survey)
	if err != nil {
		return nil, time.Time{}, err
	}
	found, next := drift.KeysEnded(drift.KeyEnds(sheet, survey), now)
	return found, next, nil
}

// Standing says how a host stands with the contracts that its sheet needs.
func (c *Computer) Standing(ctx context.Context, v *fleet.View) ([]drift.Finding, error) {
	if len(v.Follows) == 0 {
		return nil, nil
	}
	sheet, err := c.SheetOf(ctx, v.Sheet)
	if err != nil {
		return nil, err
	}
	access, err := AccessOf(v)
	if err != nil {
		return nil, err
	}
	return standing.Look(
		standing.Input{
			Host:    v.Name,
			Needs:   v.Needs,
			Follows: v.Follows,
			Sheet:   sheet,
			Books:   c.Keeper.Current(),
			Refused: c.Keeper.Refusals(v.Name),
			Files:   access.Files,
		},
	), nil
}

// AccessOf returns what the agent said of the access on the host.
func AccessOf(v *fleet.View) (out api.HostAccess, err error) {
	if len(v.Access) > 0 {
		if err = wire.Read(v.Access, &out); err != nil {
			err = fmt.Errorf("access of %s: %w", v.Name, err)
		}
	}
	return out, err
}

// ForgetVerdicts forgets those that are stored and that no host stands on.
func (c *Computer) ForgetVerdicts(ctx context.Context, hosts []*fleet.Host) error {
	return c.store.ForgetVerdicts(ctx, c.build, inUse(hosts))
}

// PlacesOfSheet is what was worked out of the places of a sheet on architectures.
func (c *Computer) PlacesOfSheet(sheet, archs string, work func() (map[string]string, error)) (map[string]string, error) {
	return c.carried.Get(sheet+" "+archs, work)
}

// inUse tells which verdicts hosts stand on.
func inUse(hosts []*fleet.Host) func(store.Verdict) bool {
	all := map[Question]bool{}
	for _, h := range hosts {
		v := h.Row()
		all[QuestionOf(v)] = true
	}
	maps.DeleteFunc(all, func(q Question, _ bool) bool { return q.Survey == "" })
	return func(v store.Verdict) bool { return all[Question{v.Sheet, v.Before, v.Survey, v.Base}] }
}

// keptHad bounds of how many sheets that were carried it is remembered which places they have.
const keptHad = 4096

// Whole reports whether a survey tells all that counts. One that cannot be read now does: a
// base is not given up for that.
func (c *Computer) Whole(ctx context.Context, survey string) bool {
	if survey == "" {
		return false
	}
	su, err := c.SurveyOf(ctx, survey)
	return err != nil || su.Settings != nil
}
