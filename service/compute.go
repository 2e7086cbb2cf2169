package service

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
	"patientlantern.example/lantern/service/memo"
	"patientlantern.example/lantern/service/seats"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/wire"
)

// computer answers questions about distinct inputs and remembers the answers. What
// follows from whole documents is small and kept for every host that there can be; the
// documents themselves are large and read again when they are wanted.
type computer struct {
	store   *store.Store
	waivers *waivers // what somebody accepts until a date; nil in tests of computing alone
	keeper  *seats.Keeper
	healed  *healings // by themselves; nil in tests of computing alone
	build   string    // names this build of the program

	traits   *memo.Cache[string, *source.Traits]
	surveys  *memo.Cache[string, *source.Survey]
	sheets   *memo.Cache[string, *source.Sheet]
	texts    *memo.Cache[string, []byte]
	releases *memo.Cache[string, []source.Release] // by survey
	files    *memo.Cache[string, []source.File]    // by survey
	verdicts *memo.Cache[question, *judgement]
	changes  *memo.Cache[pair, *outcome]
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
	keptSheets   = 512
	keptTexts    = 16_384
	keptFiles    = 16_384
	keptVerdicts = 120_000
	keptChanges  = 512
	keptRevs     = 64
)

func newComputer(st *store.Store, build string) *computer {
	return &computer{
		store: st, build: build,
		traits: memo.New[string, *source.Traits](keptTraits), surveys: memo.New[string, *source.Survey](keptSurveys),
		sheets: memo.New[string, *source.Sheet](
			keptSheets,
		), texts: memo.New[string, []byte](keptTexts), releases: memo.New[string, []source.Release](keptSurveys * 16),
		files:    memo.New[string, []source.File](keptFiles),
		verdicts: memo.New[question, *judgement](keptVerdicts), changes: memo.New[pair, *outcome](keptChanges),
		revs: memo.New[int64, *resolve.Resolver](keptRevs), carried: memo.New[string, map[string]string](keptHad),
	}
}

// same returns the one copy of a text that all who hold it share.
func same(s string) string { return unique.Make(s).Value() }

// question names what a verdict follows from. Before is the sheet that was carried last.
// Base is the sheet and the survey of when the policy came, with a blank between them; it is
// empty where the survey is still that one, or nothing was carried.
type question struct{ Sheet, Before, Survey, Base string }

// questionOf is what the standing of a host follows from.
func questionOf(v *hostView) question {
	q := question{Sheet: v.Sheet, Before: v.Carried.Sheet, Survey: v.Survey, Base: baseOf(v)}
	if q.Before == "" {
		q.Before = q.Sheet
	}
	return q
}

// baseOf names the base of a host; empty where there is nothing to hold against it.
func baseOf(v *hostView) string {
	b := v.Carried.Known()
	if b.Survey == "" || b.Survey == v.Survey {
		return ""
	}
	return same(b.Sheet + " " + b.Survey)
}

// base reads a base by its name; nil where there is none.
func (c *computer) base(ctx context.Context, name string) (*drift.Base, error) {
	sheet, survey, named := strings.Cut(name, " ")
	if !named {
		return nil, nil
	}
	out := &drift.Base{}
	var err error
	if out.Survey, err = c.surveyOf(ctx, survey); err != nil {
		return nil, err
	}
	if sheet != "" {
		out.Sheet, err = c.sheetOf(ctx, sheet)
	}
	return out, err
}

// verdict is how a host with a survey stands under a sheet, but for what follows from the
// time and from seats.
type judgement struct {
	Findings []drift.Finding `json:"findings"`
	NextEnd  time.Time       `json:"next_end,omitzero"` // when the first of the sources loses its last key
	Unread   bool            `json:"unread,omitempty"`
	TextOnly []string        `json:"text_only,omitempty"` // files of the policy that mean the same and read differently
	keys     []string        // of the findings
}

func (v *judgement) finish() *judgement {
	v.Findings = slices.Clip(v.Findings)
	v.keys = make([]string, len(v.Findings))
	for i, f := range v.Findings {
		v.keys[i] = f.Key()
	}
	return v
}

// pair names the inputs of a change.
// base is that of a host that is healed; empty where a new sheet comes.
type pair struct{ sheet, survey, before, kept, base string }

// outcome is what a pair comes to.
type outcome struct {
	change   change.Change
	diff     string
	findings []drift.Finding // with exact lines
	weakens  []string        // what of it to look at first
}

// located returns a host's findings with the exact lines of those that its sheet
// and survey tell; what follows from seats comes behind them.
func (o *outcome) located(v *hostView) []drift.Finding {
	all := o.findings
	if every := v.everything(); len(every) >= len(o.findings) {
		all = slices.Clone(every) // with the weight and words that the policy gives them
		for i := range o.findings {
			all[i].Line = o.findings[i].Line
		}
	}
	if v.aside == nil {
		return all
	}
	return pick(all, v.aside.open)
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

func document[T any](ctx context.Context, c *computer, kept *memo.Cache[string, *T], kind, digest string) (*T, error) {
	return kept.Get(digest, func() (*T, error) {
		d, err := c.store.Document(context.WithoutCancel(ctx), digest, kind)
		if err != nil {
			return nil, err
		}
		v := new(T)
		if err := wire.Read(d.Body, v); err != nil {
			return nil, fmt.Errorf("document %s: %w", digest, err)
		}
		return v, nil
	})
}

func (c *computer) traitsOf(ctx context.Context, digest string) (*source.Traits, error) {
	return document(ctx, c, c.traits, store.KindTraits, digest)
}

func (c *computer) surveyOf(ctx context.Context, digest string) (*source.Survey, error) {
	return document(ctx, c, c.surveys, store.KindSurvey, digest)
}

func (c *computer) sheetOf(ctx context.Context, digest string) (*source.Sheet, error) {
	return document(ctx, c, c.sheets, store.KindSheet, digest)
}

// judge compares a sheet with a survey.
func (c *computer) judge(ctx context.Context, q question) (*judgement, error) {
	return c.verdicts.Get(q, func() (*judgement, error) {
		sh, err := c.sheetOf(ctx, q.Sheet)
		if err != nil {
			return nil, err
		}
		was := sh
		if q.Before != q.Sheet {
			if was, err = c.sheetOf(ctx, q.Before); err != nil {
				return nil, err
			}
		}
		su, err := c.surveyOf(ctx, q.Survey)
		if err != nil {
			return nil, err
		}
		base, err := c.base(ctx, q.Base)
		if err != nil {
			return nil, err
		}
		out := &judgement{Unread: len(su.Problems) > 0 || su.Settings == nil || base != nil && base.Survey.Settings == nil}
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
		return out.finish(), nil
	})
}

// recall reads the verdicts that this very build has stored: another may judge otherwise.
func (c *computer) recall(ctx context.Context) error {
	if c.build == "" {
		return nil
	}
	return c.store.Verdicts(ctx, c.build, func(v store.Verdict) error {
		out := &judgement{}
		if wire.Read(v.Body, out) == nil {
			c.verdicts.Put(question{same(v.Sheet), same(v.Before), same(v.Survey), same(v.Base)}, out.finish())
		}
		return nil
	})
}

// write stores the verdicts that are not stored yet.
func (c *computer) write(ctx context.Context) error {
	c.fresh.Lock()
	list := c.fresh.list
	c.fresh.list = nil
	c.fresh.Unlock()
	if c.build == "" {
		return nil
	}
	return c.store.PutVerdicts(ctx, c.build, list)
}

// releasesOf returns what the Release files say that the apt of a host has fetched.
func (c *computer) releasesOf(ctx context.Context, survey string) ([]source.Release, error) {
	return c.releases.Get(survey, func() ([]source.Release, error) {
		su, err := c.surveyOf(ctx, survey)
		if err != nil {
			return nil, err
		}
		return su.Releases, nil
	})
}

// filesOf returns what files a survey names, of which nothing else is wanted.
func (c *computer) filesOf(ctx context.Context, survey string) ([]source.File, error) {
	return c.files.Get(survey, func() ([]source.File, error) {
		d, err := c.store.Document(context.WithoutCancel(ctx), survey, store.KindSurvey)
		if err != nil {
			return nil, err
		}
		var of struct {
			Files []source.File `json:"files"`
		}
		if err := wire.Read(d.Body, &of); err != nil {
			return nil, fmt.Errorf("document %s: %w", survey, err)
		}
		for i := range of.Files {
			f := &of.Files[i]
			f.Path, f.Digest, f.Mode = same(f.Path), same(f.Digest), same(f.Mode)
		}
		return of.Files, nil
	})
}

// textsOf returns the source files that a survey names.
func (c *computer) textsOf(ctx context.Context, files []source.File) (map[string][]byte, error) {
	out := make(map[string][]byte, len(files))
	for _, f := range files {
		text, err := c.texts.Get(f.Digest, func() ([]byte, error) {
			d, err := c.store.Document(context.WithoutCancel(ctx), f.Digest, store.KindText)
			return d.Body, err
		})
		if err != nil {
			return nil, err
		}
		out[f.Path] = text
	}
	return out, nil
}

// complete fills in what follows from a row: names from its traits, its sheet
// under its revision, its findings and since when they are there.
func (c *computer) complete(ctx context.Context, v *hostView, now time.Time) error {
	v.Traits, v.Survey, v.Sheet, v.Agent = same(v.Traits), same(v.Survey), same(v.Sheet), same(v.Agent)
	v.Carried.Sheet, v.Carried.Survey = same(v.Carried.Sheet), same(v.Carried.Survey)
	v.findings, v.worst, v.needs, v.follows, v.keyEnds, v.unread = nil, "", nil, nil, time.Time{}, false
	v.rules, v.logins, v.traced = nil, false, tracedOf(v)
	v.aside = nil
	v.answered = packagesOf(v).Asked
	if err := c.describe(ctx, v); err != nil {
		return err
	}
	if v.Revision != 0 && v.Traits != "" {
		rs, err := c.revision(ctx, v.Revision)
		if err != nil {
			return err
		}
		res, err := c.resolve(ctx, rs, v)
		if err != nil {
			return err
		}
		if len(res.Trouble) == 0 {
			if err := c.putSheet(ctx, res, now); err != nil {
				return err
			}
			v.Sheet = same(res.Digest())
			c.hold(res)
		}
		v.needs, v.follows, v.rules = res.Needs(), res.Follows(), res.Rules()
		v.logins = res.ReadLogins()
	}
	if v.Sheet == "" || v.Survey == "" {
		v.Since = nil
		return nil
	}
	return c.look(ctx, v, now)
}

// look fills in a host's findings.
func (c *computer) look(ctx context.Context, v *hostView, now time.Time) error {
	found, err := c.judge(ctx, questionOf(v))
	if err != nil {
		return err
	}
	own, err := c.standing(ctx, v)
	if err != nil {
		return err
	}
	v.keyEnds, v.unread, v.textOnly = found.NextEnd, found.Unread, found.TextOnly
	var ended []drift.Finding
	if !found.NextEnd.IsZero() && !now.Before(found.NextEnd) {
		if ended, v.keyEnds, err = c.keysEnded(ctx, v, now); err != nil {
			return err
		}
	}
	v.findings, v.judged = found.Findings, len(found.Findings)
	keys := found.keys
	if extra := slices.Concat(own, ended, unrefreshed(v)); len(extra) > 0 {
		v.findings = slices.Concat(found.Findings, extra)
		keys = slices.Clip(keys)
		for _, f := range extra {
			keys = append(keys, f.Key())
		}
	}
	c.weigh(v, keys, now)
	all := v.findings
	c.waive(v, keys, now)
	for i := range v.findings {
		if f := &v.findings[i]; v.worst == "" || drift.Rank(f.Severity) < drift.Rank(v.worst) {
			v.worst = f.Severity
		}
	}
	v.Since = v.Since.Follow(keys, now, func(i int) string { return all[i].OldKey() })
	return nil
}

// keysEnded finds the sources whose last key has ended, and when the next one's does.
func (c *computer) keysEnded(ctx context.Context, v *hostView, now time.Time) ([]drift.Finding, time.Time, error) {
	sheet, err := c.sheetOf(ctx, v.Sheet)
	if err != nil {
		return nil, time.Time{}, err
	}
	survey, err := c.surveyOf(ctx, v.Survey)
	if err != nil {
		return nil, time.Time{}, err
	}
	found, next := drift.KeysEnded(drift.KeyEnds(sheet, survey), now)
	return found, next, nil
}

// standing says how a host stands with the contracts that its sheet needs.
func (c *computer) standing(ctx context.Context, v *hostView) ([]drift.Finding, error) {
	if len(v.follows) == 0 {
		return nil, nil
	}
	sheet, err := c.sheetOf(ctx, v.Sheet)
	if err != nil {
		return nil, err
	}
	access, err := accessOf(v)
	if err != nil {
		return nil, err
	}
	return standing.Look(
		standing.Input{
			Host:    v.Name,
			Needs:   v.needs,
			Follows: v.follows,
			Sheet:   sheet,
			Books:   c.keeper.Current(),
			Refused: c.keeper.Refusals(v.Name),
			Files:   access.Files,
		},
	), nil
}

// accessOf returns what the agent said of the access on the host.
func accessOf(v *hostView) (out api.HostAccess, err error) {
	if len(v.Access) > 0 {
		if err = wire.Read(v.Access, &out); err != nil {
			err = fmt.Errorf("access of %s: %w", v.Name, err)
		}
	}
	return out, err
}

// inUse tells which verdicts hosts stand on.
func inUse(hosts []*host) func(store.Verdict) bool {
	all := map[question]bool{}
	for _, h := range hosts {
		v := h.row()
		all[questionOf(v)] = true
	}
	maps.DeleteFunc(all, func(q question, _ bool) bool { return q.Survey == "" })
	return func(v store.Verdict) bool { return all[question{v.Sheet, v.Before, v.Survey, v.Base}] }
}
