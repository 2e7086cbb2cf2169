package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

// others looks at enabled sources that neither a file of the sheet nor a rule
// accounts for.
func (c *comparer) others() {
	releases := c.releases()
	licensed := index(c.sheet.Family, c.sheet.Licensed)
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if !s.Enabled || c.owned[s.File] || c.spoken[i] || !c.concerns(s.Family) {
			continue
		}
		if of := Doubles(s, releases); of != nil && of.IfThere {
			f := Finding{
				Class:      SwitchedOn,
				Severity:   Fault,
				Field:      "enabled",
				Repository: of.Repository,
				File:       s.File,
				Line:       s.Line,
				Want:       "off",
				Have:       "on",
				Message: fmt.Sprintf(
					"%s is on here, and this host follows another choice of its channel: %s",
					of.Repository,
					Describe(s),
				),
			}
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
			c.add(Finding{Class: DoubledSource, Severity: Fault, Field: "source", Repository: repo, File: s.File, Line: s.Line, Have: Describe(s),
				Message: fmt.Sprintf("defines %s a second time: %s", repo, Describe(s))})
			continue
		}
		if of := Doubles(s, licensed); of != nil {
			c.add(
				Finding{
					Class:      NoSeat,
					Severity:   Fault,
					Field:      "source",
					Repository: of.Repository,
					File:       s.File,
					Line:       s.Line,
					Have:       Describe(s),
					Message: fmt.Sprintf(
						"%s needs a seat in the contract %s, and the policy gives this host none, so each refresh fails with 401: let its group follow "+
							"a choice of the channel, or switch it off",
						of.Repository,
						of.Contract,
					),
				},
			)
			continue
		}
		f := Finding{Class: UnlistedSource, Severity: Note, Field: "source", File: s.File, Line: s.Line, Have: Describe(s),
			Message: "not in the policy: " + Describe(s)}
		if c.sheet.Unlisted != source.UnlistedReport {
			f.Severity = Fault
		}
		if checked(s) != source.CheckRequired {
			f.Severity = Danger
			f.Message += ", and its signature is not checked"
		} else if weak := s.Weakened(nil); len(weak) > 0 {
			f.Severity = Danger
			f.Message += ", and " + strings.Join(weak, ", ")
		}
		c.add(f)
	}
}

// releases are those of the sheet, worked out once.
func (c *comparer) releases() map[string]*source.SheetSource {
	if c.index == nil {
		c.index = Releases(c.sheet)
	}
	return c.index
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

// Describe says in short what a source gives.
func Describe(s *source.Source) string {
	parts := slices.Concat(s.EffURLs, s.EffSuites, s.Components)
	return strings.Join(parts, " ")
}
