package drift

import (
	"path"
	"slices"

	"patientlantern.example/lantern/core/source"
)

// NotRead is the class of what stands on a host and was not read, or not to its end: nothing is known of it.
const NotRead = "not-read"

// unread tells of what was read when the policy came, or did not stand there, and is not read now. So nothing hides behind
// a folder with too many files, or in a file that is too large.
func (s *standing) unread() {
	for _, p := range s.survey.Problems {
		if !p.Unread || p.Family != "" && !s.court.Concerns(p.Family) {
			continue
		}
		same := func(was source.Problem) bool {
			return was.File == p.File && was.Line == p.Line && was.Message == p.Message
		}
		if slices.ContainsFunc(s.was.Problems, same) {
			continue
		}
		of := func(f Finding) bool { return f.File == p.File && p.File != "" }
		switch {
		case !s.wasRead(p.File):
			s.out = slices.DeleteFunc(s.out, func(f Finding) bool { // that something is gone is not known
				return of(f) && f.Beside || path.Dir(f.File) == p.File && !s.wasRead(f.File)
			})
		case slices.ContainsFunc(s.out, of):
			continue // what is known of the same file says more
		}
		s.add(Finding{Class: NotRead, Severity: Fault, Field: "not read", File: p.File, Line: p.Line, Stays: true,
			Message: p.Message + "; it was not so when the policy came, and what stands there is not known"})
	}
}

// blind reports whether a file, or not all of the folder in which it stands, was read.
func (c *comparer) blind(file string) bool {
	return slices.ContainsFunc(c.survey.Problems, func(p source.Problem) bool {
		return p.Unread && p.File != "" && (p.File == file || p.File == path.Dir(file))
	})
}

// blindToSources reports whether not all was read that stands where the host's sources do, or those of its sheet.
func (c *comparer) blindToSources() bool {
	near := func(file string) bool {
		dir := path.Dir(file)
		return slices.ContainsFunc(c.survey.Problems, func(p source.Problem) bool {
			return p.Unread && (p.File == dir || p.File == file || path.Dir(p.File) == dir && dir != "/etc")
		})
	}
	return slices.ContainsFunc(c.survey.Sources, func(s source.Source) bool { return s.Family == c.sheet.Family && near(s.File) }) ||
		slices.ContainsFunc(c.sheet.Sources, func(s source.SheetSource) bool { return s.Family == "" && near(s.File) })
}

// wasRead reports whether something of a file was read.
func (s *standing) wasRead(file string) bool {
	return slices.ContainsFunc(s.survey.Files, func(f source.File) bool { return f.Path == file }) ||
		slices.ContainsFunc(s.survey.Deciding, func(d source.Deciding) bool { return d.File == file })
}
