package family

import (
	"slices"

	"patientlantern.example/lantern/core/source"
)

// Switch is what an in-place rule wants of one section.
type Switch struct {
	Source int // index into the judged sources
	On     bool
}

// Judged is what an in-place rule about sections comes to.
type Judged struct {
	Covers   map[int]bool // sources that the rule speaks of
	Switches []Switch     // those that are off and must be on, or the other way round
	Missing  []string     // sections that stand nowhere
}

// JudgeSections holds a rule about sections against the sources of a host. Sources in
// owned files belong to the policy and are not looked at.
func JudgeSections(rule source.InPlace, family string, sources []source.Source, owned map[string]bool) Judged {
	j := Judged{Covers: map[int]bool{}}
	for _, name := range rule.Sections {
		found, on := -1, false
		for i := range sources {
			s := &sources[i]
			if s.Family != family || s.ID != name || owned[s.File] || s.DisabledBy == source.OffByFilename ||
				s.DisabledBy == source.OffAsInvalid {
				continue
			}
			j.Covers[i] = true
			if found < 0 || s.Enabled {
				found = i
			}
			on = on || s.Enabled
		}
		switch {
		case found < 0:
			if rule.Enabled {
				j.Missing = append(j.Missing, name)
			}
		case on != rule.Enabled:
			j.Switches = append(j.Switches, Switch{found, rule.Enabled})
		}
	}
	slices.SortFunc(j.Switches, func(a, b Switch) int { return a.Source - b.Source })
	return j
}
