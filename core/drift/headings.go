package drift

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
)

// headings makes one finding of a section that is gone and of what stands in its place because its heading is another one, or none:
// a section of another name that says the same, or the one above it, to which its lines go then.
func (c *comparer) headings(list []Finding, base *Base) []Finding {
	var missing []Finding
	for i := range list {
		if f := &list[i]; f.Class == MissingSource && f.File != "" {
			missing = append(missing, *f)
		}
	}
	if base == nil || len(missing) == 0 || len(missing) > mostHeadings {
		return list
	}
	stood := headed{base.Survey, map[entry]bool{}, map[entry]*source.Source{}}
	for i := range base.Survey.Sources {
		stood.names[entry{base.Survey.Sources[i].Family, base.Survey.Sources[i].ID}] = true
	}
	for i := range c.survey.Sources {
		if s := &c.survey.Sources[i]; s.DisabledBy != source.OffByDuplicate {
			stood.now[entry{s.File, s.ID}] = s
		}
	}
	for _, m := range missing {
		list = c.withHeading(list, m, &stood)
	}
	return list
}

// mostHeadings is how many sections that are gone are looked for one by one: of very many nobody needs to know where they went.
const mostHeadings = 50

// headed are the sections of the base, and what is found by the names of those that stand there now.
type headed struct {
	*source.Survey
	names map[entry]bool           // by family and name: those of the base
	now   map[entry]*source.Source // by file and name
}

func (c *comparer) withHeading(list []Finding, m Finding, was *headed) []Finding {
	if n := slices.Index(list, m); n >= 0 && m.Repository != "" { // the policy's own
		list = joined(list, m, m.Message+"; it stands here under another name", func(f Finding) bool {
			return f.Class == DoubledSource && f.Repository == m.Repository && f.File == m.File
		})
		if list = c.goesOn(list, m); n < len(list) && list[n].Class == m.Class && list[n].Want == m.Want {
			m = list[n] // in other words
		}
	}
	at := slices.IndexFunc(was.Sources, func(x source.Source) bool {
		suite := x.ID == "" && x.Enabled && slices.Contains(x.EffSuites, m.Want)
		return x.File == m.File && (suite || x.ID != "" && x.ID == m.Want || Describe(&x) == m.Want)
	})
	if at < 0 {
		return list
	}
	x := &was.Sources[at]
	if x.ID == "" { // apt reads two stanzas as one
		return joined(list, m, m.Message+"; it is read as one with what stands below it", func(f Finding) bool {
			return f.Class == ChangedSource && f.Beside && f.File == x.File && f.Line == x.Line
		})
	}
	if n := c.called(x, was); n != nil {
		return joined(list, m, "no section ["+x.ID+"] stands on the host; it is called ["+n.ID+"] now", func(f Finding) bool {
			return f.Class == UnlistedSource && f.File == n.File && f.Line == n.Line
		})
	}
	above := was.above(x)
	i := slices.IndexFunc(list, func(f Finding) bool {
		changed := (f.Class == ChangedSource || f.Class == ChecksWeakened) && f.Beside
		return above != nil && changed && f.File == above.File && f.Line == above.Line
	})
	if i >= 0 {
		list[i].Message += "; the heading [" + x.ID + "] is gone from below it, and what stood there goes to it"
		return slices.DeleteFunc(list, func(f Finding) bool { return f == m })
	}
	ends := endOf(was.Sources, x.File, x.Line)
	return joined(list, m, m.Message+"; its heading is gone, and what stood below it goes to what is above", func(f Finding) bool {
		return f.Class == SettingChanged && f.Beside && f.Want == "" && f.File == x.File && f.Line >= x.Line-1 && f.Line-1 <= ends
	})
}

// goesOn tells with the section above it of one of the policy's that has no heading any more: pacman reads one file as part of
// another. What stands where a file was included follows from that.
func (c *comparer) goesOn(list []Finding, m Finding) []Finding {
	own := slices.ContainsFunc(c.sheet.Sources, func(s source.SheetSource) bool { return s.Repository == m.Repository })
	if c.sheet.Family == arch.Family && m.File == arch.Config && own {
		return joined(list, m, m.Message, func(f Finding) bool {
			return f.Class == ChangedSource && f.Beside && f.File == m.File && strings.HasSuffix(strings.ToLower(f.Field), "include")
		})
	}
	for i := range c.sheet.Sources {
		want := &c.sheet.Sources[i]
		if c.sheet.Family != arch.Family || want.Repository != m.Repository || want.File != m.File {
			continue
		}
		above := slices.IndexFunc(list, func(f Finding) bool {
			return f.Class == ChangedSource && f.Beside && slices.ContainsFunc(want.URLs, func(u string) bool { return strings.Contains(f.Have, u) })
		})
		if above >= 0 {
			list[above].Message += "; the heading [" + want.ID + "] is gone from " + m.File + ", and what stood there goes to it"
			return slices.DeleteFunc(list, func(f Finding) bool { return f == m })
		}
	}
	return list
}

// joined makes one finding of m and of those that follow from it, if there are any, in other words; it weighs as much as the worst.
func joined(list []Finding, m Finding, message string, follows func(Finding) bool) []Finding {
	at := slices.Index(list, m)
	if at < 0 || !slices.ContainsFunc(list, follows) {
		return list
	}
	m.Message = message
	for i := range list {
		if f := &list[i]; follows(*f) {
			m.Line = f.Line
			m.with(f)
		}
	}
	list[at] = m
	return slices.DeleteFunc(list, follows)
}

// called is the section that says what one said that is gone, under a name that stood nowhere; nil where none does.
func (c *comparer) called(x *source.Source, was *headed) *source.Source {
	for i := range c.survey.Sources {
		n := &c.survey.Sources[i]
		same := n.File == x.File && n.Mirrorlist == x.Mirrorlist && n.Metalink == x.Metalink && slices.Equal(n.URLs, x.URLs) &&
			n.Options["Include"] == x.Options["Include"]
		if same && n.ID != "" && !was.names[entry{n.Family, n.ID}] {
			return n
		}
	}
	return nil
}

// above is the section that stands in front of where one stood; nil where none does.
func (was *headed) above(x *source.Source) (out *source.Source) {
	last := 0
	for i := range was.Sources {
		y := &was.Sources[i]
		if s := was.now[entry{y.File, y.ID}]; s != nil && y.File == x.File && y.Line < x.Line && y.Line > last {
			out, last = s, y.Line
		}
	}
	return out
}
