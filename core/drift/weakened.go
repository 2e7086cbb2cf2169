package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

// weakened finds settings that take a check away from every source. No file of the policy says anything of them. What
// was so when the policy came no change can take back: that is for somebody on the host.
func (c *comparer) weakened(base *Base) {
	var stood []source.Setting
	if base != nil {
		stood = base.Survey.Settings
	}
	for i := range c.survey.Settings {
		t := &c.survey.Settings[i]
		if c.sheet.Family != "" && t.Family != c.sheet.Family {
			continue
		}
		if says := t.Weakens(); says != "" {
			f := Finding{Class: SettingWeakened, Severity: Danger, Field: t.Name, File: t.File, Line: t.Line, Have: t.Name + " " + t.Value,
				Message: fmt.Sprintf("%s is %s: %s", t.Name, t.Value, says)}
			if base == nil || slices.ContainsFunc(stood, func(was source.Setting) bool {
				return was.Family == t.Family && was.Name == t.Name && was.File == t.File && was.Weakens() != ""
			}) {
				f.Message += onHost
			}
			c.add(f)
		}
	}
}

// weakServices finds services of zypper whose server need not prove who it is: what they name is taken from anybody.
func (c *comparer) weakServices() {
	for i := range c.survey.Services {
		v := &c.survey.Services[i]
		weak := v.Weakened()
		if len(weak) == 0 || !c.court.Concerns(source.FamilyZypp) {
			continue
		}
		c.add(Finding{Class: ServiceChanged, Severity: Danger, Field: "service", File: v.File, Line: v.Line, Have: v.URL,
			Message: fmt.Sprintf("the service %s at %s: %s. Take ssl_verify out of its URL on the host", v.ID, v.URL, strings.Join(weak, ", "))})
	}
}

// absolute finds entries of the distribution's own that are not checked: no base makes that
// right, only a rule of the policy that says so.
func (c *comparer) absolute() {
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if !s.Enabled || c.ruled(i) == "" || c.verdicts[i].Unchecked || c.told[i] || c.easy[s.Family] && !switched(s) {
			continue
		}
		if weak := Unchecked(s, c.survey.Settings); len(weak) > 0 {
			c.add(Finding{Class: ChecksWeakened, Severity: Danger, Repository: c.ruled(i), Field: "signature check", File: s.File, Line: s.Line,
				Want: source.CheckRequired, Have: checked(s), Message: Describe(s) + ": " + strings.Join(weak, ", ")})
		}
	}
}

// switched reports whether a source itself says how it is checked.
func switched(s *source.Source) bool {
	for name := range s.Options {
		if source.OptionSwitches(name) {
			return true
		}
	}
	return false
}

// Unchecked says which checks a source goes without, in words. Those that a setting takes
// from all sources are told of the setting.
func Unchecked(s *source.Source, settings []source.Setting) []string {
	eased := false
	for i := range settings {
		t := &settings[i]
		eased = eased || t.Family == s.Family && t.Weakens() != "" && slices.Contains(t.Touches, source.TouchesTrust)
	}
	for name := range s.Options { // what the source says itself is its own
		eased = eased && !source.OptionSwitches(name)
	}
	weak := s.Weakened(nil)
	if checked(s) != source.CheckRequired && !eased || s.Family == deb.Family && s.OwnTrust() {
		weak = append([]string{"its signature is not checked"}, weak...)
	}
	return weak
}
