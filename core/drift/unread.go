package drift

import (
	"fmt"
	"path"
	"slices"
	"strings"

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
				return of(f) && (f.Beside || f.Class == NotRead) || path.Dir(f.File) == p.File && !s.wasRead(f.File)
			})
		case slices.ContainsFunc(s.out, of):
			continue // what is known of the same file says more
		}
		s.add(Finding{Class: NotRead, Severity: Fault, Field: "not read", File: p.File, Line: p.Line, Stays: true,
			Message: p.Message + "; it was not so when the policy came, and what stands there is not known"})
	}
}

// unsure notes something of the policy of which it is not known whether it is there, because of what was not read. Nobody
// accepts that with a host: it is what the policy wants, and not what stood there beside it.
func (c *comparer) unsure(p *source.Problem, repository, want string) {
	at := slices.IndexFunc(c.out, func(f Finding) bool { return f.Class == NotRead && f.File == p.File })
	if at < 0 { // one place, one finding
		at = len(c.out)
		c.add(Finding{Class: NotRead, Severity: Fault, Field: "not read", Repository: repository, File: p.File, Line: p.Line, Stays: true})
	}
	f := &c.out[at]
	if f.Repository != repository {
		f.Repository = ""
	}
	if wants := strings.Split(f.Want, " "); !slices.Contains(wants, want) {
		f.Want = strings.TrimSpace(f.Want + " " + want)
	}
	f.Message = fmt.Sprintf("whether the host has what the policy wants is not known of %s: %s", f.Want, p.Message)
}

// blind is what was not read of a file, or of the folder in which it stands; nil where all was.
func (c *comparer) blind(file string) *source.Problem {
	return c.missed(func(p string) bool { return p == file || p == path.Dir(file) })
}

// blindToSources is what was not read where the host's sources stand, or those of its sheet; nil where all was.
func (c *comparer) blindToSources() *source.Problem {
	var files []string
	for i := range c.survey.Sources {
		if s := &c.survey.Sources[i]; s.Family == c.sheet.Family {
			files = append(files, s.File)
		}
	}
	for i := range c.sheet.Sources {
		if s := &c.sheet.Sources[i]; s.Family == "" {
			files = append(files, s.File)
		}
	}
	return c.missed(func(p string) bool {
		return slices.ContainsFunc(files, func(file string) bool {
			dir := path.Dir(file)
			return p == dir || p == file || path.Dir(p) == dir && dir != "/etc"
		})
	})
}

// missed is the first file or folder that was not read, or not to its end, of those that a question asks for.
func (c *comparer) missed(asked func(file string) bool) *source.Problem {
	at := slices.IndexFunc(c.survey.Problems, func(p source.Problem) bool { return p.Unread && p.File != "" && asked(p.File) })
	if at < 0 {
		return nil
	}
	return &c.survey.Problems[at]
}

// wasRead reports whether something of a file was read.
func (s *standing) wasRead(file string) bool {
	return slices.ContainsFunc(s.survey.Files, func(f source.File) bool { return f.Path == file }) ||
		slices.ContainsFunc(s.survey.Deciding, func(d source.Deciding) bool { return d.File == file })
}
