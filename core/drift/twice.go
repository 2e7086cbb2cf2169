package drift

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/source"
)

// spot is a line in a file.
type spot struct {
	file string
	at   int
}

// entry is a source in a file, by its name.
type entry struct{ file, id string }

// doubles tells of definitions that stand here a second time since the policy came, and that the package manager passes over
// as long as the first is there: nothing comes from them yet.
func (s *standing) doubles() {
	again := func(x source.Source) bool { return x.DisabledBy == source.OffByDuplicate }
	if !slices.ContainsFunc(s.survey.Sources, again) {
		return
	}
	stood, names, told := map[entry]bool{}, s.namesAt(), map[entry]bool{}
	for i := range s.was.Sources {
		if x := &s.was.Sources[i]; again(*x) {
			stood[entry{x.File, x.ID}] = true
		}
	}
	for i := range s.out {
		f := &s.out[i]
		told[entry{f.File, names[spot{f.File, f.Line}]}] = true
		if f.Class == MissingSource { // it was renamed
			told[entry{f.File, ""}] = true
		}
	}
	for i := range s.survey.Sources {
		x := &s.survey.Sources[i]
		if !again(*x) || s.owned[x.File] || !s.court.Concerns(x.Family) || stood[entry{x.File, x.ID}] || told[entry{x.File, x.ID}] ||
			told[entry{x.File, ""}] {
			continue
		}
		s.add(Finding{Class: DoubledSource, Severity: Note, Field: "source", File: x.File, Line: x.Line, Have: Describe(x),
			Message: fmt.Sprintf("defines %s a second time; %s passes over it as long as the first stands there: %s",
				x.ID, families.Program(x.Family), Describe(x))})
	}
}

// namesAt are the names of the host's sources, by where they stand.
func (c *comparer) namesAt() map[spot]string {
	out := make(map[spot]string, len(c.survey.Sources))
	for i := range c.survey.Sources {
		out[spot{c.survey.Sources[i].File, c.survey.Sources[i].Line}] = c.survey.Sources[i].ID
	}
	return out
}

// oneOfASource makes one finding of what the policy says of a source and of what else it says otherwise, as where it goes on with the
// lines of another one; and of one that is off because its heading stands there twice.
func (c *comparer) oneOfASource(list []Finding) []Finding {
	var beside map[spot]int // what follows from the base
	off := false
	for i := range list {
		f := &list[i]
		if f.Class == ChangedSource && f.Beside && f.File != "" {
			if beside == nil {
				beside = map[spot]int{}
			}
			if _, known := beside[spot{f.File, f.Line}]; !known {
				beside[spot{f.File, f.Line}] = i
			}
		}
		off = off || f.Class == SwitchedOff && f.File != ""
	}
	if len(beside) == 0 && !off {
		return list
	}
	gone := map[int]bool{}
	for i := range list {
		f := &list[i]
		j, more := beside[spot{f.File, f.Line}]
		switch {
		case !more || i == j || gone[j]:
		case !f.Beside && (f.Class == ChangedSource || f.Class == ChecksWeakened):
			f.with(&list[j])
			gone[j] = true
		case f.Class == SwitchedOff && Rank(list[j].Severity) < Rank(f.Severity) && c.leads(f): // nothing comes from what leads nowhere
			list[j].Message += "; " + f.Message
			gone[i] = true
		case f.Class == SwitchedOff:
			gone[j] = true
		}
	}
	if !off {
		return leaving(list, gone)
	}
	twice, names := map[entry]bool{}, c.namesAt()
	for i := range list {
		if f := &list[i]; f.Class == SwitchedOff && !gone[i] {
			twice[entry{f.File, names[spot{f.File, f.Line}]}] = true
		}
	}
	for i := range list {
		f := &list[i]
		at := entry{f.File, names[spot{f.File, f.Line}]}
		gone[i] = gone[i] || f.Class == UnlistedSource && f.Severity != Danger && at.id != "" && twice[at]
	}
	return leaving(list, gone)
}

// leads reports whether the source of a finding names a place to come from.
func (c *comparer) leads(f *Finding) bool {
	return slices.ContainsFunc(c.survey.Sources, func(s source.Source) bool {
		return s.File == f.File && s.Line == f.Line && len(s.EffURLs)+len(s.Mirrorlist)+len(s.Metalink) > 0
	})
}

// leaving leaves out those findings of a list that stand at some places of it.
func leaving(list []Finding, gone map[int]bool) []Finding {
	n := -1
	return slices.DeleteFunc(list, func(Finding) bool {
		n++
		return gone[n]
	})
}

// with makes a finding weigh as much as one that follows from it.
func (f *Finding) with(other *Finding) {
	if Rank(other.Severity) < Rank(f.Severity) {
		f.Severity, f.Message = other.Severity, f.Message+"; "+other.Message
	}
}

// contradicting is the place of the entry of which apt says that it contradicts another; no place where it says so of none.
func contradicting(p *source.Problem) spot {
	says, _, found := strings.Cut(p.Message, " contradicts ")
	place := says[strings.LastIndexByte(says, ' ')+1:]
	file, number, _ := strings.Cut(place, ":")
	at, err := strconv.Atoi(number)
	if p.File != "" || p.Family != source.FamilyDeb || !found || err != nil || !strings.HasPrefix(file, "/") {
		return spot{}
	}
	return spot{file, at}
}

// filesPassedOver makes one finding of the sources that are gone because the package manager does not take the file in which they stand:
// it stands there, and nothing of it is read.
func (c *comparer) filesPassedOver(list []Finding) []Finding {
	var wants map[string][]string // of each file
	for i := range list {
		if f := &list[i]; f.Class == MissingSource && f.File != "" {
			if wants == nil {
				wants = map[string][]string{}
			}
			wants[f.File] = append(wants[f.File], f.Want)
		}
	}
	if len(wants) == 0 {
		return list
	}
	for i := range c.survey.Sources {
		delete(wants, c.survey.Sources[i].File) // something of it is read
	}
	why := map[string]*source.Problem{}
	for i := range c.survey.Problems {
		if p := &c.survey.Problems[i]; wants[p.File] != nil && why[p.File] == nil && p.Family == c.sheet.Family {
			why[p.File] = p
		}
	}
	gone, told := map[int]bool{}, map[string]bool{}
	for i := range list {
		f := &list[i]
		p := why[f.File]
		switch {
		case p == nil || f.Class != MissingSource:
		case told[f.File]:
			gone[i] = true
		default:
			told[f.File] = true
			f.Line, f.Want = p.Line, strings.Join(wants[f.File], "; ")
			f.Message = fmt.Sprintf("nothing of the file is read, and so %s missing: %s", are(wants[f.File]), p.Message)
		}
	}
	return leaving(list, gone)
}

// are says of some names that something holds of them.
func are(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return strings.Join(names, ", ") + " are"
}
