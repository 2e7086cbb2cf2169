package change

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// repos edits .repo files that do not belong to the policy: what defines a source
// of the sheet again is switched off, what the policy does not list is treated as
// it says.
func (c *computer) repos(parse func([]byte) *ini.File) {
	for _, path := range sorted(c.Texts) {
		if c.owned[path] || !strings.HasSuffix(path, ".repo") {
			continue
		}
		c.repoFile(path, parse)
	}
}

func (c *computer) repoFile(path string, parse func([]byte) *ini.File) {
	old := c.Texts[path]
	text := old
	var why []string
	for i := range c.Survey.Sources {
		s := &c.Survey.Sources[i]
		if s.File != path || !s.Enabled || s.Family != c.Sheet.Family {
			continue
		}
		of := drift.Doubles(s, c.releases)
		remove := false
		reason := ""
		switch {
		case of != nil:
			reason = doubled(s, of)
		case c.Sheet.Unlisted == source.UnlistedSwitchOff, c.Sheet.Unlisted == source.UnlistedRemove:
			reason = fmt.Sprintf("line %d is not in the policy", s.Line)
			remove = c.Sheet.Unlisted == source.UnlistedRemove
		default:
			continue
		}
		next, err := switchSection(parse(text), s.ID, remove)
		if err != nil {
			c.out.Impossible = append(c.out.Impossible, fmt.Sprintf("%s:%d: %s cannot be switched off: %v", path, s.Line, s.ID, err))
			continue
		}
		text, why = next, append(why, reason)
	}
	if len(why) > 0 {
		c.out.Edits = append(c.out.Edits, FileEdit{Path: path, Action: Edit, Mode: c.modes[path], Old: old, New: text, Why: why})
	}
}

// switchSection switches the section of that id off, or takes it out. dnf merges
// sections of one name in a file, and the last word counts.
func switchSection(f *ini.File, id string, remove bool) ([]byte, error) {
	last := -1
	for i := range f.Sections {
		if f.Name(&f.Sections[i]) != id {
			continue
		}
		last = i
		if remove {
			f.DeleteSection(&f.Sections[i])
		}
	}
	switch {
	case last < 0:
		return nil, fmt.Errorf("its section is not written [%s]", id)
	case !remove:
		if err := f.Set(&f.Sections[last], "enabled", "0"); err != nil {
			return nil, err
		}
	}
	return f.Bytes(), nil
}
