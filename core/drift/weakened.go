package drift

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

// weakened finds checks that are taken away where no file of the sheet says anything of
// them: by settings for all sources, and in the distribution's own entries.
func (c *comparer) weakened() {
	for i := range c.survey.Settings {
		t := &c.survey.Settings[i]
		if c.sheet.Family != "" && t.Family != c.sheet.Family {
			continue
		}
		if says := t.Weakens(); says != "" {
			c.add(Finding{Class: SettingWeakened, Severity: Danger, File: t.File, Line: t.Line, Have: t.Name + " " + t.Value,
				Message: fmt.Sprintf("%s is %s: %s. Take the line out on the host; no policy writes this file", t.Name, t.Value, says)})
		}
	}
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if !s.Enabled || !c.spoken[i] || c.owned[s.File] || c.adopted.Covers(s) || s.Family == flatpak.Family {
			continue
		}
		what := s.Weakened(nil)
		if have := checked(s); have != source.CheckRequired && !c.allowed(s) {
			what = append([]string{"signature check: " + have}, what...)
		}
		if len(what) > 0 {
			have := strings.Join(what, "; ")
			c.add(Finding{Class: ChecksWeakened, Severity: Danger, File: s.File, Line: s.Line, Want: source.CheckRequired, Have: have,
				Message: fmt.Sprintf("checks are taken away from %s: %s", describe(s), have)})
		}
	}
}

// allowed reports whether signatures need not be checked: by the settings that are told as
// findings of their own, or by the package manager itself where the file says nothing.
func (c *comparer) allowed(s *source.Source) bool {
	if s.Family != "deb" {
		return true // what their sections say is compared with the rule that edits them
	}
	for key, value := range s.Options {
		if k := strings.ToLower(key); (k == "trusted" || k == "allow-insecure") && source.SaysYes(value) {
			return false
		}
	}
	return true
}
