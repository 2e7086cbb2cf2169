package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/standing"
	"patientlantern.example/lantern/store"
)

// computer answers questions about distinct inputs and remembers the answers.
type computer struct {
	store  *store.Store
	keeper *keeper

	mu       sync.Mutex
	traits   map[string]*source.Traits
	surveys  map[string]*source.Survey
	sheets   map[string]*source.Sheet
	findings map[[3]string][]drift.Finding // sheet, the one carried last, survey
	changes  map[pair]*outcome
	revs     map[int64]*resolve.Resolver

	// Resolvers share what they have worked out, so one works at a time.
	resolving sync.Mutex
	memory    resolve.Memory
}

// pair names the inputs of a change.
type pair struct{ sheet, survey, before, kept string }

// outcome is what a pair comes to.
type outcome struct {
	change   change.Change
	diff     string
	findings []drift.Finding // with exact lines
	weakens  []string        // what of it to look at first
}

// located returns a host's findings with the exact lines of those that its sheet
// and survey tell; what follows from seats comes behind them.
func (o *outcome) located(all []drift.Finding) []drift.Finding {
	if len(all) < len(o.findings) {
		return o.findings
	}
	return append(slices.Clip(o.findings), all[len(o.findings):]...)
}

// mostKept bounds each memory; hosts could make up documents without end.
const mostKept = 20_000

func newComputer(st *store.Store) *computer {
	return &computer{
		store: st, traits: map[string]*source.Traits{}, surveys: map[string]*source.Survey{}, sheets: map[string]*source.Sheet{},
		findings: map[[3]string][]drift.Finding{}, changes: map[pair]*outcome{}, revs: map[int64]*resolve.Resolver{},
	}
}

// remember returns m[key], made by load where it is missing.
func remember[K comparable, V any](mu *sync.Mutex, m map[K]V, key K, load func() (V, error)) (V, error) {
	mu.Lock()
	v, ok := m[key]
	mu.Unlock()
	if ok {
		return v, nil
	}
	v, err := load()
	if err != nil {
		return v, err
	}
	mu.Lock()
	defer mu.Unlock()
	if len(m) >= mostKept {
		for k := range m {
			delete(m, k)
			if len(m) < mostKept/2 {
				break
			}
		}
	}
	m[key] = v
	return v, nil
}

func document[T any](ctx context.Context, c *computer, m map[string]*T, kind, digest string) (*T, error) {
	return remember(&c.mu, m, digest, func() (*T, error) {
		d, err := c.store.Document(ctx, digest, kind)
		if err != nil {
			return nil, err
		}
		v := new(T)
		if err := json.Unmarshal(d.Body, v); err != nil {
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

// hold keeps a sheet at hand that is stored nowhere.
func (c *computer) hold(res *resolve.Result) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.sheets[res.Digest] = res.Sheet
}

// drift compares a sheet with a survey. before is the sheet that was carried out last,
// or empty.
func (c *computer) drift(ctx context.Context, sheet, before, survey string) ([]drift.Finding, error) {
	if before == "" {
		before = sheet
	}
	return remember(&c.mu, c.findings, [3]string{sheet, before, survey}, func() ([]drift.Finding, error) {
		sh, err := c.sheetOf(ctx, sheet)
		if err != nil {
			return nil, err
		}
		was := sh
		if before != sheet {
			if was, err = c.sheetOf(ctx, before); err != nil {
				return nil, err
			}
		}
		su, err := c.surveyOf(ctx, survey)
		if err != nil {
			return nil, err
		}
		return drift.CompareAfter(sh, was, su), nil
	})
}

// texts returns the source files that a survey names.
func (c *computer) texts(ctx context.Context, s *source.Survey) (map[string][]byte, error) {
	out := make(map[string][]byte, len(s.Files))
	for _, f := range s.Files {
		d, err := c.store.Document(ctx, f.Digest, store.KindText)
		if err != nil {
			return nil, err
		}
		out[f.Path] = d.Body
	}
	return out, nil
}

// change finds the edits for a pair.
func (c *computer) change(ctx context.Context, p pair) (*outcome, error) {
	return remember(&c.mu, c.changes, p, func() (*outcome, error) {
		var in change.Input
		var err error
		if in.Sheet, err = c.sheetOf(ctx, p.sheet); err != nil {
			return nil, err
		}
		if in.Survey, err = c.surveyOf(ctx, p.survey); err != nil {
			return nil, err
		}
		if in.Texts, err = c.texts(ctx, in.Survey); err != nil {
			return nil, err
		}
		if p.before != "" {
			if in.Before, err = c.sheetOf(ctx, p.before); err != nil {
				return nil, err
			}
		}
		if p.kept != "" {
			kept, err := c.surveyOf(ctx, p.kept)
			if err != nil {
				return nil, err
			}
			if in.Kept, err = c.texts(ctx, kept); err != nil {
				return nil, err
			}
		}
		in.Masked = true
		o := &outcome{change: change.Compute(in)}
		o.diff = o.change.Diff()
		o.weakens = preview.Weakens(in.Sheet, in.Survey)
		found, err := c.drift(ctx, p.sheet, p.before, p.survey)
		if err != nil {
			return nil, err
		}
		o.findings = o.change.Locate(found)
		return o, nil
	})
}

// pairOf names the inputs of the change that would take a host to a sheet.
func pairOf(v *hostView, sheet string) pair {
	return pair{sheet: sheet, survey: v.Survey, before: v.Carried.Sheet, kept: v.Carried.Survey}
}

// revision returns a revision, ready to resolve hosts.
func (c *computer) revision(ctx context.Context, number int64, now time.Time) (*resolve.Resolver, error) {
	return remember(&c.mu, c.revs, number, func() (*resolve.Resolver, error) {
		revs, err := c.store.Revisions(ctx)
		if err != nil {
			return nil, err
		}
		for _, r := range revs {
			if r.Number != number {
				continue
			}
			d, err := c.store.Document(ctx, r.Policy, store.KindPolicy)
			if err != nil {
				return nil, err
			}
			var folder policy.Folder
			if err := json.Unmarshal(d.Body, &folder); err != nil {
				return nil, fmt.Errorf("revision %d: %w", number, err)
			}
			// It was checked when it was published; a key that has expired since
			// does not make it another policy.
			p, diags := policy.Load(folder, r.Created)
			if diag.HasErrors(diags) {
				return nil, fmt.Errorf("revision %d can no longer be read: %s", number, diags[0])
			}
			return c.resolver(p), nil
		}
		return nil, fmt.Errorf("revision %d: %w", number, store.ErrNotFound)
	})
}

// resolve works out what a host should have.
func (c *computer) resolve(ctx context.Context, r *resolve.Resolver, v *hostView) (*resolve.Result, error) {
	if v.Traits == "" {
		return nil, fmt.Errorf("the host %s has sent no survey yet: %w", v.Name, store.ErrNotFound)
	}
	t, err := c.traitsOf(ctx, v.Traits)
	if err != nil {
		return nil, err
	}
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return r.Resolve(resolve.Host{Name: v.Name, Class: v.class, Labels: v.Labels, Traits: t}), nil
}

// complete fills in what follows from a row: names from its traits, its sheet
// under its revision, its findings and since when they are there.
func (c *computer) complete(ctx context.Context, v *hostView, now time.Time) error {
	v.class = v.Traits
	if len(v.Labels) > 0 {
		labels, err := json.Marshal(v.Labels)
		if err != nil {
			return err
		}
		v.class += string(labels)
	}
	v.findings, v.worst, v.needs, v.follows, v.keyEnds = nil, "", nil, nil, time.Time{}
	v.answered = packagesOf(v).Asked
	if v.Traits != "" {
		t, err := c.traitsOf(ctx, v.Traits)
		if err != nil {
			return err
		}
		v.os, v.family, v.arch = t.OS.Name, t.Family, t.Arch
		if v.os == "" {
			v.os = t.OS.ID + " " + t.OS.Version
		}
		v.lowerOS = strings.ToLower(v.os)
	}
	if v.Revision != 0 && v.Traits != "" {
		rs, err := c.revision(ctx, v.Revision, now)
		if err != nil {
			return err
		}
		res, err := c.resolve(ctx, rs, v)
		if err != nil {
			return err
		}
		if len(res.Trouble) == 0 && res.Digest != v.Sheet {
			if err := c.store.PutDocuments(ctx, now, store.Document{Digest: res.Digest, Kind: store.KindSheet, Body: res.Text}); err != nil {
				return err
			}
			v.Sheet = res.Digest
		}
		v.needs, v.follows = res.Needs(), res.Follows()
	}
	if v.Sheet == "" || v.Survey == "" {
		v.Since = nil
		return nil
	}
	found, err := c.drift(ctx, v.Sheet, v.Carried.Sheet, v.Survey)
	if err != nil {
		return err
	}
	own, err := c.standing(ctx, v)
	if err != nil {
		return err
	}
	ended, err := c.keysEnded(ctx, v, now)
	if err != nil {
		return err
	}
	v.findings = slices.Concat(found, own, ended)
	since := make(map[string]time.Time, len(v.findings))
	for _, f := range v.findings {
		if v.worst == "" || drift.Rank(f.Severity) < drift.Rank(v.worst) {
			v.worst = f.Severity
		}
		at, ok := v.Since[f.Key()]
		if !ok {
			at = now
		}
		since[f.Key()] = at
	}
	v.Since = since
	return nil
}

// keysEnded finds sources none of whose keys is good any more, and notes when the next
// key ends. It depends on the time, so it is worked out apart from the rest.
func (c *computer) keysEnded(ctx context.Context, v *hostView, now time.Time) ([]drift.Finding, error) {
	sheet, err := c.sheetOf(ctx, v.Sheet)
	if err != nil {
		return nil, err
	}
	survey, err := c.surveyOf(ctx, v.Survey)
	if err != nil {
		return nil, err
	}
	out, next := drift.KeysEnded(sheet, survey, now)
	v.keyEnds = next
	v.unread = len(survey.Problems) > 0
	return out, nil
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
	return standing.Look(standing.Input{Host: v.Name, Needs: v.needs, Follows: v.follows, Sheet: sheet, Books: c.keeper.current(), Refused: c.keeper.refusals(v.Name), Files: access.Files}), nil
}

// accessOf returns what the agent said of the access on the host.
func accessOf(v *hostView) (out api.HostAccess, err error) {
	if len(v.Access) > 0 {
		if err = json.Unmarshal(v.Access, &out); err != nil {
			err = fmt.Errorf("access of %s: %w", v.Name, err)
		}
	}
	return out, err
}

// resolver prepares a policy; what another version of it has in common with one
// that was resolved before is not worked out again.
func (c *computer) resolver(p *policy.Policy) *resolve.Resolver {
	c.resolving.Lock()
	defer c.resolving.Unlock()
	return resolve.NewWith(p, &c.memory)
}
