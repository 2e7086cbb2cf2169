package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// others looks at enabled sources that are not the policy's and for which no rule accounts.
func (c *comparer) others() {
	for i := range c.survey.Sources {
		s, v := &c.survey.Sources[i], &c.verdicts[i]
		if !s.Enabled && !v.Hides {
			continue
		}
		f := Finding{Severity: Fault, Field: "source", Repository: v.Repository, File: s.File, Line: s.Line, Have: Describe(s)}
		twice := fmt.Sprintf("defines %s a second time: %s", v.Repository, Describe(s))
		if v.Hides {
			twice = fmt.Sprintf("defines %s a second time by the same name, and of those the one that is read first counts alone: %s",
				v.Repository, Describe(s))
		}
		switch {
		case v.Kind == verdict.Elsewhere:
			f.Class, f.Field, f.Want, f.Have = SwitchedOn, "enabled", "off", "on"
			c.weigh(&f, s, fmt.Sprintf("%s is on here, and this host follows another choice of its channel: %s", v.Repository, Describe(s)))
			if v.Of.Contract != "" {
				f.Message += ". It needs a seat in the contract " + v.Of.Contract
			}
		case v.Kind == verdict.Replaced:
			f.Class, f.Field, f.Want, f.Have = SwitchedOn, "enabled", "off", "on"
			c.weigh(&f, s, fmt.Sprintf("%s stood for %s, of which the policy says something else now", Describe(s), v.Repository))
		case v.Kind == verdict.Doubled, v.Kind == verdict.Withdrawn && v.Of != nil:
			f.Class = DoubledSource
			c.weigh(&f, s, twice)
		case v.Kind == verdict.Withdrawn:
			f.Class = UnlistedSource
			c.weigh(&f, s, "the policy does not list it for this host any more: "+Describe(s))
		case v.Kind == verdict.Licensed:
			f.Class = NoSeat
			c.weigh(&f, s, fmt.Sprintf("%s needs a seat in the contract %s", v.Repository, v.Of.Contract))
			f.Message += ", and the policy gives this host none, so each refresh fails with 401: let its group follow a choice of the channel, " +
				"or switch it off"
		case v.Kind == verdict.Unlisted:
			f.Class = UnlistedSource
			if v.Act == verdict.Stay {
				f.Severity, f.Stays = Note, true
			}
			c.weigh(&f, s, "not in the policy: "+Describe(s))
		default:
			continue
		}
		c.add(f)
	}
}

// weigh says what a source is, and how bad it is where nobody checks what comes from it.
func (c *comparer) weigh(f *Finding, s *source.Source, message string) {
	f.Message = message
	if !s.Enabled {
		return
	}
	if checked(s) != source.CheckRequired {
		f.Severity = Danger
		f.Message += ", and its signature is not checked"
	} else if weak := s.Weakened(nil); len(weak) > 0 {
		f.Severity = Danger
		f.Message += ", and " + strings.Join(weak, ", ")
	}
}

// Describe says in short what a source gives.
func Describe(s *source.Source) string {
	parts := slices.Concat(s.EffURLs, s.EffSuites, s.Components)
	if len(s.EffURLs) == 0 {
		parts = slices.DeleteFunc([]string{s.ID, s.Metalink, s.Mirrorlist}, func(p string) bool { return p == "" })
	}
	return strings.Join(parts, " ")
}
