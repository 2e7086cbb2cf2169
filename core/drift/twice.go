package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/source"
)

// doubles tells of definitions that stand here a second time since the policy came, and that the package manager passes over
// as long as the first is there: nothing comes from them yet.
func (s *standing) doubles() {
	for i := range s.survey.Sources {
		x := &s.survey.Sources[i]
		stood := func(was source.Source) bool {
			return was.Family == x.Family && was.ID == x.ID && was.File == x.File && was.DisabledBy == source.OffByDuplicate
		}
		of := func(f Finding) bool {
			return f.File == x.File && (f.Line == x.Line || f.Class == MissingSource || s.nameAt(f.File, f.Line) == x.ID)
		}
		if x.DisabledBy != source.OffByDuplicate || s.owned[x.File] || !s.court.Concerns(x.Family) ||
			slices.ContainsFunc(s.was.Sources, stood) || slices.ContainsFunc(s.out, of) {
			continue
		}
		s.add(Finding{Class: DoubledSource, Severity: Note, Field: "source", File: x.File, Line: x.Line, Have: Describe(x),
			Message: fmt.Sprintf("defines %s a second time; %s passes over it as long as the first stands there: %s",
				x.ID, families.Program(x.Family), Describe(x))})
	}
}

// nameAt is the name of the source that stands in a line of a file; empty where none does.
func (c *comparer) nameAt(file string, line int) string {
	for i := range c.survey.Sources {
		if x := &c.survey.Sources[i]; x.File == file && x.Line == line {
			return x.ID
		}
	}
	return ""
}

// oneOfASource makes one finding of a source that is off and of what else it says otherwise, as where it goes on with the lines of
// another one; and of one that is off because its heading stands there twice.
func (c *comparer) oneOfASource(list []Finding) []Finding {
	for _, ours := range slices.Clone(list) { // what the policy says of it, and what nobody says of it
		at := slices.Index(list, ours)
		if ours.Beside || ours.Class != ChangedSource && ours.Class != ChecksWeakened || ours.File == "" || at < 0 {
			continue
		}
		list = joined(list, ours, ours.Message, func(f Finding) bool {
			return f.Class == ChangedSource && f.Beside && f.File == ours.File && f.Line == ours.Line
		})
	}
	for _, off := range slices.Clone(list) {
		if off.Class != SwitchedOff || off.File == "" {
			continue
		}
		changed := slices.IndexFunc(list, func(f Finding) bool {
			return f.Class == ChangedSource && f.Beside && f.File == off.File && f.Line == off.Line
		})
		if changed >= 0 {
			list[changed].Message += "; " + off.Message
			list = slices.DeleteFunc(list, func(f Finding) bool { return f == off })
			continue
		}
		name := c.nameAt(off.File, off.Line)
		list = slices.DeleteFunc(list, func(f Finding) bool {
			return f.Class == UnlistedSource && f.Severity != Danger && f.File == off.File && name != "" && c.nameAt(f.File, f.Line) == name
		})
	}
	return list
}

// contradicting is the entry that a package manager names as the one that contradicts another; nil where it names none.
func (c *comparer) contradicting(p *source.Problem) *source.Source {
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if p.File == "" && s.Family == p.Family && strings.Contains(p.Message, fmt.Sprintf(" %s:%d contradicts ", s.File, s.Line)) {
			return s
		}
	}
	return nil
}

// filesPassedOver makes one finding of the sources that are gone because the package manager does not take the file in which they stand:
// it stands there, and nothing of it is read.
func (c *comparer) filesPassedOver(list []Finding) []Finding {
	told := map[string]bool{}
	for _, f := range slices.Clone(list) {
		p := slices.IndexFunc(c.survey.Problems, func(p source.Problem) bool { return p.File == f.File && p.Family == c.sheet.Family })
		read := func(s source.Source) bool { return s.File == f.File }
		if f.Class != MissingSource || f.File == "" || told[f.File] || p < 0 || slices.ContainsFunc(c.survey.Sources, read) {
			continue
		}
		told[f.File] = true
		with := func(x Finding) bool { return x.Class == MissingSource && x.File == f.File }
		var wants []string
		for _, x := range list {
			if with(x) {
				wants = append(wants, x.Want)
			}
		}
		f.Line, f.Want = c.survey.Problems[p].Line, strings.Join(wants, "; ")
		f.Message = fmt.Sprintf("nothing of the file is read, and so %s missing: %s", are(wants), c.survey.Problems[p].Message)
		list = append(slices.DeleteFunc(list, with), f)
	}
	return list
}

// are says of some names that something holds of them.
func are(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return strings.Join(names, ", ") + " are"
}
