// Package drift compares what a host should have with what it has.
package drift

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
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
	OrderChanged   = "order-changed"   // a source stands below others that it must stand above
	MissingKey     = "missing-key"     // the package manager does not trust a signing key of the sheet
	MediaGone      = "media-gone"      // a source is on and its media is not there

	NoSeat          = "no-seat"          // a licensed source is on and the host has no seat
	SeatEnds        = "seat-ends"        // the host's seat ends with its contract, or has ended
	AccessMissing   = "access-missing"   // a file with the host's access is not there
	AccessChanged   = "access-changed"   // such a file holds something else
	AccessMode      = "access-mode"      // such a file has other permissions or another owner
	AccessExpired   = "access-expired"   // the access has ended
	DecisionMissing = "decision-missing" // the open choice is followed and nobody has said why
	DecisionDue     = "decision-due"     // the decision to run without a contract is to be looked at again
)

// Classes are all classes of finding.
var Classes = []string{
	Refused, MissingFile, MissingSource, ChangedSource, SwitchedOff, SwitchedOn, ChecksWeakened, ChangedText, ChangedMode, DoubledSource, UnlistedSource, OrderChanged,
	MissingKey, KeyEnded, MediaGone, NoSeat, SeatEnds, AccessMissing, AccessChanged, AccessMode, AccessExpired, DecisionMissing, DecisionDue,
}

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

// Compare returns the differences, ordered by file and line, for a host to which the
// sheet itself was carried last.
func Compare(sheet *source.Sheet, survey *source.Survey) []Finding {
	return CompareAfter(sheet, sheet, survey)
}

// CompareAfter returns the differences for a host to which another sheet was carried
// last; before is nil where none was.
func CompareAfter(sheet, before *source.Sheet, survey *source.Survey) []Finding {
	c := &comparer{sheet: sheet, survey: survey, owned: sheet.Paths(), spoken: map[int]bool{}, adopted: Adopt(sheet, before, survey)}
	for i := range survey.Sources {
		if c.adopted.Covers(&survey.Sources[i]) {
			c.spoken[i] = true
		}
	}
	for _, p := range survey.Problems {
		if p.Fatal && (sheet.Family == "" || p.Family == "" || p.Family == sheet.Family) {
			c.add(Finding{Class: Refused, Severity: Fault, File: p.File, Line: p.Line, Message: fmt.Sprintf("this stops %s altogether: %s", program(p.Family), p.Message)})
		}
	}
	for i := range sheet.Files {
		c.file(&sheet.Files[i])
	}
	for _, rule := range sheet.InPlace {
		if len(rule.Sections) > 0 {
			c.sections(rule)
		} else {
			c.inPlace(rule)
		}
	}
	c.remotes()
	c.order()
	c.trust()
	c.others()
	slices.SortStableFunc(c.out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Message, b.Message))
	})
	return c.out
}

// program is the package manager of a family, as people call it.
func program(of string) string {
	switch of {
	case deb.Family:
		return "apt"
	case "rpm":
		return "dnf"
	case "zypp":
		return "zypper"
	case arch.Family:
		return "pacman"
	case "":
		return "the package manager"
	}
	return of
}

type comparer struct {
	sheet   *source.Sheet
	survey  *source.Survey
	owned   map[string]bool
	spoken  map[int]bool
	adopted *Adoption
	out     []Finding
}

func (c *comparer) add(f Finding) { c.out = append(c.out, f) }

// file compares one file that the policy owns whole.
func (c *comparer) file(f *source.SheetFile) {
	before := len(c.out)
	same := false
	if f.While != "" && !slices.Contains(c.survey.Media, f.While) {
		c.media(f)
		return
	}
	if c.survey.Files != nil {
		i := slices.IndexFunc(c.survey.Files, func(x source.File) bool { return x.Path == f.Path })
		if i < 0 && (f.IfThere || c.adopted.Spares(f.Path)) {
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
	if same || c.survey.Files == nil && c.adopted.Spares(f.Path) {
		return
	}
	var here []*source.Source
	for i := range c.survey.Sources {
		if c.survey.Sources[i].File == f.Path {
			here = append(here, &c.survey.Sources[i])
		}
	}
	if c.survey.Files != nil && f.Repository != "" {
		c.options(f, here)
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
	if len(c.out) == before && c.survey.Files != nil && f.Repository != "" && !slices.ContainsFunc(c.sheet.Sources, func(s source.SheetSource) bool { return s.File == f.Path }) {
		c.add(Finding{Class: ChangedSource, Severity: Fault, Repository: f.Repository, File: f.Path, Line: 1, Message: "the file says something else than the policy"})
		return
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
		{"URL", shownURLs(want.URLs), withoutLogin(want, have.EffURLs), Danger},
		{"suites", want.Suites, have.EffSuites, Fault},
		{"components", want.Components, have.Components, Fault},
		{"kinds", want.Kinds, have.Kinds, Fault},
		{"architectures", want.Archs, have.Archs, Fault},
	} {
		if !source.SameSet(x.want, x.have) {
			differs(ChangedSource, x.severity, x.what, strings.Join(x.want, " "), strings.Join(x.have, " "))
		}
	}
	if want.Mirrorlist != have.Mirrorlist {
		differs(ChangedSource, Danger, "list of mirrors", want.Mirrorlist, have.Mirrorlist)
	}
	if want.Priority != nil && have.Priority != nil && *want.Priority != *have.Priority {
		differs(ChangedSource, Fault, "priority", strconv.Itoa(*want.Priority), strconv.Itoa(*have.Priority))
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

// media finds what is left of a source whose media is not there.
func (c *comparer) media(f *source.SheetFile) {
	for i := range c.survey.Sources {
		if s := &c.survey.Sources[i]; s.File == f.Path && s.Enabled {
			c.add(Finding{Class: MediaGone, Severity: Fault, Repository: f.Repository, File: f.Path, Line: s.Line, Want: "off", Have: "on",
				Message: "nothing stands in " + f.While + ", so each refresh fails"})
		}
	}
}

// remotes compares flatpak's remotes, which stand in a file of its own.
func (c *comparer) remotes() {
	for i := range c.sheet.Sources {
		want := &c.sheet.Sources[i]
		if want.Family == "" {
			continue
		}
		n := slices.IndexFunc(c.survey.Sources, func(s source.Source) bool {
			return s.Family == want.Family && s.ID == want.ID && s.File == want.File
		})
		if n >= 0 {
			c.spoken[n] = true
			c.source(want, &c.survey.Sources[n])
		} else if !want.IfThere {
			c.add(Finding{Class: MissingSource, Severity: Fault, Repository: want.Repository, File: want.File, Want: want.ID, Message: fmt.Sprintf("there is no remote %s", want.ID)})
		}
	}
}

// order finds sources that stand below others though the policy puts them above. Only
// for pacman is the order one of places; with the others it is a number of each source.
func (c *comparer) order() {
	if c.sheet.Family != arch.Family {
		return
	}
	level := map[string]int{} // of sources of the sheet; others have 0
	for _, s := range c.sheet.Sources {
		level[s.ID] = s.Level
	}
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if s.Family != arch.Family || !s.Enabled || level[s.ID] <= 0 {
			continue
		}
		for j := range c.survey.Sources {
			if o := &c.survey.Sources[j]; o.Family == arch.Family && o.Enabled && level[o.ID] < level[s.ID] && o.Position < s.Position {
				c.add(Finding{Class: OrderChanged, Severity: Fault, Repository: s.ID, File: s.File, Line: s.Line, Want: "above " + o.ID, Have: "below " + o.ID,
					Message: fmt.Sprintf("%s stands below %s; the policy puts it above, so packages of both come from the wrong one", s.ID, o.ID)})
				break
			}
		}
	}
}

// trust finds signing keys that pacman's keyring does not have: its sources name none.
func (c *comparer) trust() {
	if c.sheet.Family != arch.Family {
		return
	}
	for _, k := range c.sheet.Keys {
		if !strings.HasPrefix(k.Path, arch.Dir) || slices.ContainsFunc(c.survey.Keys, func(x source.Key) bool { return x.Fingerprint == k.Fingerprint && x.Where != k.Path }) {
			continue
		}
		c.add(Finding{Class: MissingKey, Severity: Fault, File: k.Path, Want: k.Fingerprint, Message: fmt.Sprintf("pacman's keyring does not have the key %s", k.Name)})
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

// shownURLs are URLs as a survey shows them.
func shownURLs(urls []string) []string {
	out := make([]string, len(urls))
	for i, u := range urls {
		out[i] = family.MaskURL(u)
	}
	return out
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

// sections holds one rule against the distribution's own sections.
func (c *comparer) sections(rule source.InPlace) {
	j := family.JudgeSections(rule, c.sheet.Family, c.survey.Sources, c.owned)
	for i := range j.Covers {
		c.spoken[i] = true
	}
	for _, s := range j.Switches {
		src := &c.survey.Sources[s.Source]
		f := Finding{Class: SwitchedOff, Severity: Fault, Repository: rule.Repository, File: src.File, Line: src.Line, Want: "on", Have: "off, by " + src.DisabledBy,
			Message: src.ID + " is switched off; the policy wants it on"}
		if !s.On {
			f.Class, f.Want, f.Have, f.Message = SwitchedOn, "off", "on", src.ID+" is switched on; the policy wants it off"
		}
		c.add(f)
	}
	for _, name := range j.Missing {
		c.add(Finding{Class: MissingSource, Severity: Fault, Repository: rule.Repository, Want: name, Message: fmt.Sprintf("no section [%s] stands on the host", name)})
	}
}

// others looks at enabled sources that neither a file of the sheet nor a rule
// accounts for.
func (c *comparer) others() {
	releases := Releases(c.sheet)
	licensed := index(c.sheet.Family, c.sheet.Licensed)
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if !s.Enabled || c.owned[s.File] || c.spoken[i] || c.sheet.Family != "" && s.Family != c.sheet.Family && s.Family != flatpak.Family {
			continue // a sheet speaks of its own family alone, and of flatpak
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
		of := family
		if s.Family != "" {
			of = s.Family
		}
		for _, key := range keysOf(of, s.ID, s.URLs, s.Suites) {
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
	lead := ""
	if family == flatpak.Family { // its remotes have a place of their own
		lead = family + " "
	}
	if id != "" {
		out = append(out, lead+"id "+id)
	}
	for _, u := range urls {
		out = append(out, lead+"url "+strings.TrimRight(u, "/"))
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
