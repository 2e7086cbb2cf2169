// Package drift compares what a host should have with what it has.
package drift

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// Classes of finding.
const (
	Refused         = "refused"          // the package manager refuses to work at all
	MissingFile     = "missing-file"     // a file of the sheet is not there
	MissingSource   = "missing-source"   // a source that must be there is not
	ChangedSource   = "changed-source"   // a source says something else
	SwitchedOff     = "switched-off"     // a source is off that must be on
	SwitchedOn      = "switched-on"      // a source is on that must be off
	ChecksWeakened  = "checks-weakened"  // signatures are checked less than they must be
	SettingWeakened = "setting-weakened" // a setting takes checks away from every source
	ChangedText     = "changed-text"     // a file means the same but reads differently
	ChangedMode     = "changed-mode"     // a file has other permissions
	DoubledSource   = "doubled-source"   // another file defines a source of the sheet as well
	UnlistedSource  = "unlisted-source"  // a source that the policy does not list
	OrderChanged    = "order-changed"    // a source stands below others that it must stand above
	MissingKey      = "missing-key"      // the package manager does not trust a signing key any more, or not yet
	KeyAdded        = "key-added"        // a key is believed that nobody asked for
	KeyWider        = "key-wider"        // a key is believed for more sources than the policy says
	SystemChanged   = "system-changed"   // another release of the system than the one that the policy came to
	SettingChanged  = "setting-changed"  // a setting for all sources says something else than when the policy came
	PinChanged      = "pin-changed"      // another pin decides where packages come from
	HoldChanged     = "hold-changed"     // other packages are kept where they are, or away
	ServiceChanged  = "service-changed"  // a service defines other sources
	MediaGone       = "media-gone"       // a source is on and its media is not there

	NoSeat          = "no-seat"          // a licensed source is on and the host has no seat
	SeatEnds        = "seat-ends"        // the host's seat ends with its contract, or has ended
	AccessMissing   = "access-missing"   // a file with the host's access is not there
	AccessChanged   = "access-changed"   // such a file holds something else
	AccessMode      = "access-mode"      // such a file has other permissions or another owner
	AccessExpired   = "access-expired"   // the access has ended
	RefreshFails    = "refresh-fails"    // a source could not be refreshed between changes
	AccessInClear   = "access-in-clear"  // a login stands in a URL that everybody on the host can read
	DecisionMissing = "decision-missing" // the open choice is followed and nobody has said why
	DecisionDue     = "decision-due"     // the decision to run without a contract is to be looked at again
)

// Classes are all classes of finding.
var Classes = []string{
	Refused,
	MissingFile,
	MissingSource,
	ChangedSource,
	SwitchedOff,
	SwitchedOn,
	ChecksWeakened,
	SettingWeakened,
	ChangedText,
	ChangedMode,
	DoubledSource,
	UnlistedSource,
	OrderChanged,
	MissingKey,
	KeyAdded,
	KeyWider,
	KeyEnded,
	KeyWithdrawn,
	NotRead,
	SettingChanged,
	SystemChanged,
	PinChanged,
	HoldChanged,
	ServiceChanged,
	MediaGone,
	NoSeat,
	SeatEnds,
	AccessMissing,
	AccessChanged,
	AccessMode,
	AccessExpired,
	AccessInClear,
	RefreshFails,
	DecisionMissing,
	DecisionDue,
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
	Field      string `json:"field,omitempty" doc:"what differs: URL, suites, signing keys, mode; several with commas"`
	Beside     bool   `json:"beside,omitempty" doc:"Held against what stood there when the policy came, of which it says nothing"`
	Stays      bool   `json:"stays,omitempty" doc:"Healing does not put it back: somebody on the host has to"`
	Package    string `json:"package,omitempty" doc:"The package that the file belongs to, where it is one's"`
	File       string `json:"file"`
	Line       int    `json:"line"`
	Message    string `json:"message"`
	Want       string `json:"want,omitempty"`
	Have       string `json:"have,omitempty"`
}

// Wrong reports whether a host that has a finding is not as its sheet says. What is only worth knowing
// is not, nor is what the sheet does not list.
func (f *Finding) Wrong() bool { return f.Severity != Note && f.Class != UnlistedSource }

// Place is where a finding is: the file, and the line where it is about one.
func (f *Finding) Place() string {
	if f.Line == 0 {
		return f.File
	}
	return fmt.Sprintf("%s:%d", f.File, f.Line)
}

// Key tells findings of one host apart from one survey to the next. It leaves
// the line out, which moves when lines are added above, and the sentence, which may be
// worded anew: neither makes it another finding.
func (f Finding) Key() string {
	return strings.Join([]string{f.Class, f.Repository, f.File, f.Want, f.Have}, "\x00")
}

// OldKey is by what earlier versions told findings apart.
func (f Finding) OldKey() string {
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
	return Judge(Input{Sheet: sheet, Before: before, Survey: survey})
}

// compare holds a survey against a sheet.
func compare(sheet, before *source.Sheet, survey *source.Survey) *comparer {
	court := verdict.New(sheet, before, survey)
	c := &comparer{
		sheet:  sheet,
		survey: survey,
		owned:  court.Owned(),
		court:  court,
		told:   map[int]bool{},
		easy:   map[string]bool{},
	}
	c.verdicts, c.gaps = court.Survey()
	for i := range sheet.Files {
		c.file(&sheet.Files[i])
	}
	c.refused()
	c.inPlace()
	c.remotes()
	c.order()
	c.trust()
	c.distrust()
	c.others()
	c.inClear()
	return c
}

// refused finds what stops the package manager, once for a file: it gives up at the first.
func (c *comparer) refused() {
	more := map[int]int{} // by the first of a file
	for _, p := range c.survey.Problems {
		if p.Fatal && c.becauseMissing(p.Message) {
			continue
		}
		if p.Fatal && (c.sheet.Family == "" || p.Family == "" || p.Family == c.sheet.Family || c.gives(p.Family)) {
			f := Finding{Class: Refused, Severity: Fault, File: p.File, Line: p.Line,
				Message: fmt.Sprintf("this stops %s%s: %s", families.Program(p.Family), stopsAll, p.Message)}
			if at := contradicting(&p); at.file != "" {
				f.File, f.Line = at.file, at.at
			}
			if before := slices.IndexFunc(c.out, func(x Finding) bool { return x.Class == Refused && x.File == f.File }); before < 0 {
				c.add(f)
			} else {
				more[before]++
			}
		}
	}
	for at, n := range more {
		c.out[at].Message += fmt.Sprintf("; and %d more of the file", n)
	}
}

// NamesFile reports whether what a package manager says names a file, as where it asks for it in vain.
func NamesFile(says, path string) bool { return strings.Contains(says, path+" ") }

// stopsAll ends a sentence on what stops a package manager.
const stopsAll = " altogether"

// gives reports whether the sheet gives sources of a family beside the host's own.
func (c *comparer) gives(family string) bool {
	return slices.ContainsFunc(c.sheet.Sources, func(s source.SheetSource) bool { return s.Family == family && s.Enabled })
}

// becauseMissing reports whether the package manager stops for want of a file of the policy
// alone, and says so of the file.
func (c *comparer) becauseMissing(why string) bool {
	for i := range c.out {
		if f := &c.out[i]; f.Class == MissingFile && NamesFile(why, f.File) {
			f.Message += ", which stops " + families.Program(c.sheet.Family) + stopsAll
			return true
		}
	}
	return false
}

// sorted are the findings by file and line.
func (c *comparer) sorted() []Finding {
	slices.SortStableFunc(c.out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Message, b.Message))
	})
	return c.out
}
