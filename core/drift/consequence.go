package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/source"
)

// consequences leaves out what follows from a file that its package manager does not read: what
// stood there is gone because of it, and is told with the cause.
func (c *comparer) consequences(list []Finding) []Finding {
	list = c.moved(list)
	for _, f := range list {
		if f.Class == Refused && f.File != "" && f.Line > 0 {
			list = slices.DeleteFunc(list, func(x Finding) bool { return c.follows(x, f) })
		}
	}
	return c.unread(list)
}

// follows reports whether a finding follows from the place at which the package manager gives
// up: what stood in that file and is not there, and the entry that it gives up at.
func (c *comparer) follows(x, cause Finding) bool {
	if x.File != cause.File {
		return false
	}
	switch x.Class {
	case Refused:
		return x.Line == 0
	case MissingSource, SwitchedOff, MissingFile:
		return true
	case SettingChanged:
		return x.Have == "" || x.Line == cause.Line
	case HoldChanged, PinChanged, ServiceChanged:
		return x.Have == ""
	case ChangedSource, ChecksWeakened, UnlistedSource, DoubledSource:
		return x.Line <= cause.Line && cause.Line <= c.ends(x.File, x.Line)
	}
	return false
}

// ends is the last line of the entry that begins in a line of a file.
func (c *comparer) ends(file string, line int) int {
	last := int(^uint(0) >> 1)
	for i := range c.survey.Sources {
		if s := &c.survey.Sources[i]; s.File == file && s.Line > line {
			last = min(last, s.Line-1)
		}
	}
	return last
}

// unread makes one finding of the sources that are off because the package manager does not
// take the file that they stand in.
func (c *comparer) unread(list []Finding) []Finding {
	names, first := map[string][]string{}, map[string]*source.Source{}
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if s.Enabled || s.DisabledBy != source.OffAsInvalid || s.ID == "" {
			continue
		}
		if first[s.File] == nil {
			first[s.File] = s
		}
		names[s.File] = append(names[s.File], s.ID)
	}
	for file, ids := range names {
		of := func(x Finding) bool {
			switch x.Class {
			case MissingSource:
				return (x.File == file || x.File == "") && slices.Contains(ids, x.Want)
			case SwitchedOff, ChangedSource, ChecksWeakened:
				return x.File == file && slices.ContainsFunc(c.survey.Sources, func(s source.Source) bool {
					return s.File == file && s.Line == x.Line && s.DisabledBy == source.OffAsInvalid
				})
			}
			return false
		}
		because := slices.IndexFunc(c.survey.Problems, func(p source.Problem) bool { return p.File == file })
		if because < 0 || !slices.ContainsFunc(list, of) { // without a word from the reader somebody took it out
			continue
		}
		at := list[slices.IndexFunc(list, of)]
		list = slices.DeleteFunc(list, of)
		f := Finding{Class: SwitchedOff, Severity: Fault, Field: "enabled", Repository: at.Repository, Beside: at.Beside, File: file,
			Line: c.survey.Problems[because].Line, Want: "on", Have: "off, by " + source.OffAsInvalid}
		f.Message = fmt.Sprintf("%s does not take what stands here, and so %s off: %s",
			families.Program(first[file].Family), areOff(ids), c.survey.Problems[because].Message)
		list = append(list, f)
	}
	return list
}

func areOff(ids []string) string {
	if len(ids) == 1 {
		return ids[0] + " is"
	}
	return strings.Join(ids, ", ") + " are"
}
