package drift

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// listsWhole is the reach from which on every list of mirrors is told of, however it is named, and of each
// of its lines at least a digest.
const listsWhole = 6

// lists compares the lists of mirrors that are not the policy's. Of one that is named by a source which came or went,
// the source tells.
func (s *standing) lists() {
	is := named(s.survey)
	if len(is) == 0 {
		return
	}
	now := make(map[string]source.File, len(s.survey.Files))
	for _, f := range s.survey.Files {
		now[f.Path] = f
	}
	was, whole := named(s.was), min(s.was.Reach, s.survey.Reach) >= listsWhole
	for _, file := range slices.Sorted(maps.Keys(is)) {
		old, stood := s.then[file]
		is, stands := now[file]
		if !was[file] || s.theirs[file] || stood != stands && !whole {
			continue
		}
		before, after := linesOf(old.Mirrors, whole), linesOf(is.Mirrors, whole)
		if source.SameSet(before, after) {
			continue
		}
		f := Finding{
			Class: ChangedSource, Severity: Danger, Field: "list of mirrors", File: file,
			Want: strings.Join(before, " "), Have: strings.Join(after, " "),
		}
		f.Message = fmt.Sprintf("the mirrors are %s; they were %s when the policy came", orNone(f.Have), orNone(f.Want))
		if stands {
			f.Line = 1
		}
		list := old.Mirrors
		if !stood {
			list = is.Mirrors
		}
		f.Stays = slices.ContainsFunc(list, stranger) // it is only called a list, and is not put back
		s.add(f)
	}
}

// named are the lists of mirrors that sources of a survey name.
func named(survey *source.Survey) map[string]bool {
	out := map[string]bool{}
	for i := range survey.Sources {
		for _, file := range survey.Sources[i].MirrorFiles() {
			out[file] = true
		}
	}
	return out
}

// stranger reports whether a line of a list of mirrors is none of one, and is told by its digest.
func stranger(line string) bool { return strings.HasPrefix(line, "***") }

// linesOf are the lines of a list; where an earlier reader told one of the two, those that both tell alike.
func linesOf(lines []string, whole bool) []string {
	if whole {
		return lines
	}
	return slices.DeleteFunc(slices.Clone(lines), func(line string) bool { return !strings.Contains(line, "://") })
}
