package drift

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

// inPlace holds one rule against the distribution's own entries.
func (c *comparer) inPlace(rule source.InPlace) {
	j := deb.Judge(rule, c.survey.Sources, c.owned)
	for i := range j.Covers {
		c.rules(i, rule)
	}
	for _, v := range j.Verdicts {
		s := &c.survey.Sources[v.Source]
		base := Finding{Severity: Fault, Repository: rule.Repository, File: s.File, Line: s.Line}
		if v.SwitchOn || v.SwitchOff {
			f := base
			f.Class, f.Field, f.Want, f.Have = SwitchedOff, "enabled", "on", "off, by "+s.DisabledBy
			f.Message = fmt.Sprintf("%s is switched off; the policy wants it on", strings.Join(s.EffSuites, " "))
			if v.SwitchOff {
				f.Class, f.Want, f.Have = SwitchedOn, "off", "on"
				f.Message = fmt.Sprintf("%s is switched on; the policy wants it off", strings.Join(s.EffSuites, " "))
			}
			c.add(f)
		}
		if v.Components != nil {
			f := base
			f.Class, f.Field, f.Want, f.Have = ChangedSource, "components", strings.Join(v.Components, " "), strings.Join(s.Components, " ")
			f.Message = fmt.Sprintf("components: %s; the policy says %s", f.Have, f.Want)
			c.add(f)
		}
	}
	for _, suite := range j.Missing {
		file := ""
		if len(rule.Files) > 0 {
			file = rule.Files[0]
		}
		c.add(Finding{Class: MissingSource, Severity: Fault, Field: "source", Repository: rule.Repository, File: file, Want: suite,
			Message: fmt.Sprintf("no entry for %s stands on the host", suite) + family.BroughtBy(c.sheet.Family, rule.ComesBy)})
	}
}

// rules notes that a rule accounts for a source.
func (c *comparer) rules(i int, rule source.InPlace) {
	c.spoken[i], c.ruled[i] = true, rule.Repository
	c.unchecked[i] = c.unchecked[i] || rule.Signatures == source.CheckOff
}

// sections holds one rule against the distribution's own sections.
func (c *comparer) sections(rule source.InPlace) {
	j := family.JudgeSections(rule, c.sheet.Family, c.survey.Sources, c.owned)
	for i := range j.Covers {
		c.rules(i, rule)
	}
	for _, s := range j.Switches {
		src := &c.survey.Sources[s.Source]
		f := Finding{
			Class:      SwitchedOff,
			Severity:   Fault,
			Field:      "enabled",
			Repository: rule.Repository,
			File:       src.File,
			Line:       src.Line,
			Want:       "on",
			Have:       "off, by " + src.DisabledBy,
			Message:    src.ID + " is switched off; the policy wants it on",
		}
		if !s.On {
			f.Class, f.Want, f.Have, f.Message = SwitchedOn, "off", "on", src.ID+" is switched on; the policy wants it off"
		}
		c.add(f)
	}
	for _, name := range j.Missing {
		c.add(
			Finding{
				Class:      MissingSource,
				Severity:   Fault,
				Field:      "source",
				Repository: rule.Repository,
				Want:       name,
				Message:    fmt.Sprintf("no section [%s] stands on the host", name) + family.BroughtBy(c.sheet.Family, rule.ComesBy),
			},
		)
	}
}
