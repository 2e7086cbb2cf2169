package drift

import (
	"fmt"
)

// weakened finds settings that take a check away from every source. No file of the policy
// says anything of them, and no change can take them back: that is for somebody on the host.
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
}
