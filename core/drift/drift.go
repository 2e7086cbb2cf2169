// Package drift compares what a host should have with what it has.
package drift

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

// Classes of finding.
const (
	Refused        = "refused"         // the package manager refuses to work at all
	MissingFile    = "missing-file"    // a file of the sheet is not there
	MissingSource  = "missing-source"  // a source that must be there is not
	ChangedSource  = "changed-source"  // a source says something else
	SwitchedOff    = "switched-off"    // a source is off that must be on
	SwitchedOn     = "switched-on"     // a source is on that must be off
	ChecksWeakened = "checks-weakened" // signatures are checked less than they must be
	ChangedText    = "changed-text"    // a file means the same but reads differently
	ChangedMode    = "changed-mode"    // a file has other permissions
	DoubledSource  = "doubled-source"  // another file defines a source of the sheet as well
	UnlistedSource = "unlisted-source" // a source that the policy does not list

	NoSeat          = "no-seat"          // a licensed source is on and the host has no seat
	SeatEnds        = "seat-ends"        // the host's seat ends with its contract, or has ended
	AccessMissing   = "access-missing"   // a file with the host's access is not there
	AccessChanged   = "access-changed"   // such a file holds something else
	AccessMode      = "access-mode"      // such a file has other permissions or another owner
	AccessExpired   = "access-expired"   // the access has ended
	DecisionMissing = "decision-missing" // the open choice is followed and nobody has said why
	DecisionDue     = "decision-due"     // the decision to run without a contract is to be looked at again
)

// Severities, from worst to least.
const (
	Danger = "danger" // packages could come from somebody who should not supply them
	Fault  = "fault"  // the host does not get what it should, or gets what it should not
	Note   = "note"   // worth knowing
)

// Rank orders severities, worst first.
func Rank(severity string) int { return slices.Index([]string{Danger, Fault, Note}, severity) }

// Finding is one difference between sheet and survey.
type Finding struct {
	Class      string `json:"class"`
	Severity   string `json:"severity"`
	Repository string `json:"repository,omitempty"`
	File       string `json:"file"`
	Line       int    `json:"line"`
	Message    string `json:"message"`
	Want       string `json:"want,omitempty"`
	Have       string `json:"have,omitempty"`
}

// Key tells findings of one host apart from one survey to the next. It leaves
// the line out, which moves when lines are added above.
func (f Finding) Key() string {
	return strings.Join([]string{f.Class, f.Repository, f.File, f.Message}, "\x00")
}

// Compare returns the differences, ordered by file and line.
func Compare(sheet *source.Sheet, survey *source.Survey) []Finding {
	c := &comparer{sheet: sheet, survey: survey, owned: map[string]bool{}, spoken: map[int]bool{}}
	for _, f := range sheet.Files {
		c.owned[f.Path] = true
	}
	for _, p := range survey.Problems {
		if p.Fatal && (sheet.Family == "" || p.Family == "" || p.Family == sheet.Family) {
			c.add(Finding{Class: Refused, Severity: Fault, File: p.File, Line: p.Line, Message: p.Message})
		}
	}
	for i := range sheet.Files {
		c.file(&sheet.Files[i])
	}
	for _, rule := range sheet.InPlace {
		c.inPlace(rule)
	}
	c.others()
	slices.SortStableFunc(c.out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Message, b.Message))
	})
	return c.out
}

type comparer struct {
	sheet  *source.Sheet
	survey *source.Survey
	owned  map[string]bool
	spoken map[int]bool
	out    []Finding
}

func (c *comparer) add(f Finding) { c.out = append(c.out, f) }

// file compares one file that the policy owns whole.
func (c *comparer) file(f *source.SheetFile) {
	before := len(c.out)
	same := false
	if c.survey.Files != nil {
		i := slices.IndexFunc(c.survey.Files, func(x source.File) bool { return x.Path == f.Path })
		if i < 0 && f.IfThere {
			return
		}
		if i < 0 {
			c.add(Finding{Class: MissingFile, Severity: Fault, Repository: f.Repository, File: f.Path, Message: "the file is not there"})
			return
		}
		have := c.survey.Files[i]
		same = have.Digest == source.Digest(family.MaskText([]byte(f.Text)))
		if have.Mode != f.Mode {
			c.add(Finding{Class: ChangedMode, Severity: Fault, Repository: f.Repository, File: f.Path, Line: 1,
				Message: fmt.Sprintf("the file has mode %s; the policy says %s", have.Mode, f.Mode), Want: f.Mode, Have: have.Mode})
		}
	}
	if same {
		return
	}
	var here []*source.Source
	for i := range c.survey.Sources {
		if c.survey.Sources[i].File == f.Path {
			here = append(here, &c.survey.Sources[i])
		}
	}
	for i := range c.sheet.Sources {
		want := &c.sheet.Sources[i]
		if want.File != f.Path {
			continue
		}
		if len(here) == 0 && want.IfThere {
			continue
		}
		if len(here) == 0 {
			c.add(Finding{Class: MissingSource, Severity: Fault, Repository: want.Repository, File: f.Path, Line: 1, Message: "the source is gone"})
			continue
		}
		c.source(want, here[0])
		here = here[1:]
	}
	for _, extra := range here {
		if extra.Enabled {
			c.add(Finding{Class: UnlistedSource, Severity: Fault, Repository: f.Repository, File: f.Path, Line: extra.Line,
				Message: "a source was added: " + describe(extra), Have: describe(extra)})
		}
	}
	if len(c.out) == before && c.survey.Files != nil {
		c.add(Finding{Class: ChangedText, Severity: Note, Repository: f.Repository, File: f.Path, Line: 1,
			Message: "the text differs, in comments, spacing or fields that change nothing else"})
	}
}

// source compares one source with the one that stands in its place.
func (c *comparer) source(want *source.SheetSource, have *source.Source) {
	base := Finding{Repository: want.Repository, File: have.File, Line: have.Line}
	differs := func(class, severity, what, w, h string) {
		f := base
		f.Class, f.Severity, f.Want, f.Have = class, severity, w, h
		f.Message = fmt.Sprintf("%s: %s; the policy says %s", what, orNone(h), orNone(w))
		c.add(f)
	}
	if want.Enabled && !have.Enabled {
		differs(SwitchedOff, Fault, "switched off", "on", "off, by "+have.DisabledBy)
	}
	if !want.Enabled && have.Enabled {
		differs(SwitchedOn, Fault, "switched on", "off", "on")
	}
	for _, x := range []struct {
		what       string
		want, have []string
		severity   string
	}{
		{"URL", want.URLs, withoutLogin(want, have.EffURLs), Danger},
		{"suites", want.Suites, have.EffSuites, Fault},
		{"components", want.Components, have.Components, Fault},
		{"kinds", want.Kinds, have.Kinds, Fault},
		{"architectures", want.Archs, have.Archs, Fault},
	} {
		if !source.SameSet(x.want, x.have) {
			differs(ChangedSource, x.severity, x.what, strings.Join(x.want, " "), strings.Join(x.have, " "))
		}
	}
	if fprs := c.fingerprints(have.SignedBy); !source.SameSet(want.SignedBy, fprs) {
		differs(ChangedSource, Danger, "signing keys", strings.Join(want.SignedBy, " "), strings.Join(fprs, " "))
	}
	if want.Signatures == source.CheckRequired && have.Family != arch.Family && have.Checks.Metadata != source.CheckRequired {
		differs(ChecksWeakened, Danger, "signature check", source.CheckRequired, have.Checks.Metadata)
	}
	if want.Signatures == source.CheckRequired && have.Family != deb.Family && have.Checks.Packages != source.CheckRequired {
		differs(ChecksWeakened, Danger, "signature check of packages", source.CheckRequired, have.Checks.Packages)
	}
	if want.Signatures == source.CheckOff && have.Checks.Metadata == source.CheckRequired {
		differs(ChangedSource, Note, "signature check", source.CheckOff, have.Checks.Metadata)
	}
}

// checked says how strictly what comes from a source is checked: apt checks the
// metadata, which holds the sums of the packages; the others check the packages.
func checked(s *source.Source) string {
	if s.Family == deb.Family {
		return s.Checks.Metadata
	}
	return s.Checks.Packages
}

// withoutLogin takes out of URLs the login that the policy insists on having there;
// whose it is is one host's own.
func withoutLogin(want *source.SheetSource, urls []string) []string {
	if want.Contract == "" {
		return urls
	}
	out := make([]string, len(urls))
	for i, u := range urls {
		out[i] = u
		if scheme, rest, ok := strings.Cut(u, "://"); ok {
			authority, path, _ := strings.Cut(rest, "/")
			if at := strings.LastIndexByte(authority, '@'); at >= 0 {
				out[i] = scheme + "://" + authority[at+1:] + "/" + path
			}
		}
	}
	return out
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// fingerprints lists the primary keys behind a Signed-By.
func (c *comparer) fingerprints(by []string) []string {
	var out []string
	for _, b := range by {
		switch {
		case strings.HasPrefix(b, "embedded:"):
			out = append(out, strings.Split(strings.TrimPrefix(b, "embedded:"), ",")...)
		case strings.HasPrefix(b, "/"), strings.HasPrefix(b, "file:///"):
			b = strings.TrimPrefix(b, "file://")
			found := false
			for _, k := range c.survey.Keys {
				if k.Where == b {
					out, found = append(out, k.Fingerprint), true
				}
			}
			if !found {
				out = append(out, b)
			}
		default:
			out = append(out, strings.TrimSuffix(b, "!"))
		}
	}
	return out
}

// inPlace holds one rule against the distribution's own entries.
func (c *comparer) inPlace(rule source.InPlace) {
	j := deb.Judge(rule, c.survey.Sources, c.owned)
	for i := range j.Covers {
		c.spoken[i] = true
	}
	for _, v := range j.Verdicts {
		s := &c.survey.Sources[v.Source]
		base := Finding{Severity: Fault, Repository: rule.Repository, File: s.File, Line: s.Line}
		if v.SwitchOn || v.SwitchOff {
			f := base
			f.Class, f.Want, f.Have = SwitchedOff, "on", "off, by "+s.DisabledBy
			f.Message = fmt.Sprintf("%s is switched off; the policy wants it on", strings.Join(s.EffSuites, " "))
			if v.SwitchOff {
				f.Class, f.Want, f.Have = SwitchedOn, "off", "on"
				f.Message = fmt.Sprintf("%s is switched on; the policy wants it off", strings.Join(s.EffSuites, " "))
			}
			c.add(f)
		}
		if v.Components != nil {
			f := base
			f.Class, f.Want, f.Have = ChangedSource, strings.Join(v.Components, " "), strings.Join(s.Components, " ")
			f.Message = fmt.Sprintf("components: %s; the policy says %s", f.Have, f.Want)
			c.add(f)
		}
	}
	for _, suite := range j.Missing {
		file := ""
		if len(rule.Files) > 0 {
			file = rule.Files[0]
		}
		c.add(Finding{Class: MissingSource, Severity: Fault, Repository: rule.Repository, File: file, Want: suite,
			Message: fmt.Sprintf("no entry for %s stands on the host", suite)})
	}
}

// others looks at enabled sources that neither a file of the sheet nor a rule
// accounts for.
func (c *comparer) others() {
	releases := Releases(c.sheet)
	licensed := index(c.sheet.Family, c.sheet.Licensed)
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if !s.Enabled || c.owned[s.File] || c.spoken[i] || c.sheet.Family != "" && s.Family != c.sheet.Family {
			continue // a sheet speaks of its own family alone
		}
		if of := Doubles(s, releases); of != nil && of.IfThere {
			f := Finding{Class: SwitchedOn, Severity: Fault, Repository: of.Repository, File: s.File, Line: s.Line, Want: "off", Have: "on",
				Message: fmt.Sprintf("%s is on here, and this host follows another choice of its channel: %s", of.Repository, describe(s))}
			if checked(s) != source.CheckRequired {
				f.Severity = Danger
				f.Message += ", and its signature is not checked"
			}
			if of.Contract != "" {
				f.Message += ". It needs a seat in the contract " + of.Contract
			}
			c.add(f)
			continue
		} else if of != nil {
			repo := of.Repository
			c.add(Finding{Class: DoubledSource, Severity: Fault, Repository: repo, File: s.File, Line: s.Line, Have: describe(s),
				Message: fmt.Sprintf("defines %s a second time: %s", repo, describe(s))})
			continue
		}
		if of := Doubles(s, licensed); of != nil {
			c.add(Finding{Class: NoSeat, Severity: Fault, Repository: of.Repository, File: s.File, Line: s.Line, Have: describe(s),
				Message: fmt.Sprintf("%s needs a seat in the contract %s, and the policy gives this host none, so each refresh fails with 401: let its group follow a choice of the channel, or switch it off", of.Repository, of.Contract)})
			continue
		}
		f := Finding{Class: UnlistedSource, Severity: Note, File: s.File, Line: s.Line, Have: describe(s),
			Message: "not in the policy: " + describe(s)}
		if c.sheet.Unlisted != source.UnlistedReport {
			f.Severity = Fault
		}
		if checked(s) != source.CheckRequired {
			f.Severity = Danger
			f.Message += ", and its signature is not checked"
		}
		c.add(f)
	}
}

// Releases maps what tells the sources of a sheet apart, as its package manager
// does, to the sources.
func Releases(sheet *source.Sheet) map[string]*source.SheetSource {
	return index(sheet.Family, sheet.Sources)
}

func index(family string, sources []source.SheetSource) map[string]*source.SheetSource {
	out := map[string]*source.SheetSource{}
	for i := range sources {
		s := &sources[i]
		for _, key := range keysOf(family, s.ID, s.URLs, s.Suites) {
			if old := out[key]; old == nil || old.IfThere {
				out[key] = s
			}
		}
	}
	return out
}

func keysOf(family, id string, urls, suites []string) (out []string) {
	if family == deb.Family || family == "" {
		for _, u := range urls {
			for _, suite := range suites {
				out = append(out, deb.ReleaseKey(u, suite))
			}
		}
		return out
	}
	if id != "" {
		out = append(out, "id "+id)
	}
	for _, u := range urls {
		out = append(out, "url "+strings.TrimRight(u, "/"))
	}
	return out
}

// Doubles returns the source of the sheet that a source defines again, or nil.
// releases comes from Releases.
func Doubles(s *source.Source, releases map[string]*source.SheetSource) *source.SheetSource {
	for _, key := range keysOf(s.Family, s.ID, s.EffURLs, s.EffSuites) {
		if of := releases[key]; of != nil {
			return of
		}
	}
	return nil
}

func describe(s *source.Source) string {
	parts := slices.Concat(s.EffURLs, s.EffSuites, s.Components)
	return strings.Join(parts, " ")
}
