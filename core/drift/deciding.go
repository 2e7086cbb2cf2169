package drift

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// Fields of findings about a folder in which others than root may write, and about a file of which nothing else is held.
const (
	FolderField = "folder"
	FileField   = "writers"
)

// notHeld is told of a host whose base an older agent had read.
const notHeld = "what decides beside the package manager's configuration (options of dpkg, macros of rpm, streams of modules, vendors, " +
	"roots of certificates) was not read when the policy came, and is held against nothing: accept the host as it stands once you have " +
	"looked at it"

// notHeldSince is told of a host whose base was read by an agent that looked less widely, or where nothing asked for a look.
const notHeldSince = "nobody looked there when the policy came, and it is held against nothing: " +
	"accept the host as it stands once you have looked at it"

// deciding compares what files of other programs say that decides as well: options of dpkg,
// macros of rpm, streams of modules, equivalent vendors, roots of certificates.
func (s *standing) deciding() {
	switch {
	case s.survey.Deciding == nil:
		return // not looked at now: the agent is an older one
	case s.was.Deciding == nil:
		s.add(Finding{Class: SettingChanged, Severity: Note, Field: "not looked at", Message: notHeld})
		return
	}
	type place struct { // what is looked for in one file since different readers is compared by itself
		file  string
		since int
	}
	was := map[place]source.Deciding{}
	for _, d := range s.was.Deciding {
		if !s.theirs[d.File] && s.court.Concerns(d.Family) && d.Since <= s.survey.Reach {
			d.Lines = s.named(d.File, d.Lines)
			was[place{d.File, d.Since}] = d
		}
	}
	var late []string
	tls := s.was.FetchesByTLS()
	for _, is := range s.survey.Deciding {
		at := place{is.File, is.Since}
		old, stood := was[at] // nothing, where it did not stand
		delete(was, at)
		if s.theirs[is.File] || !s.court.Concerns(is.Family) || is.Unused || stood && old.Unused {
			continue // a variable: what puts it in came or went, and that is told
		}
		if is.Since > s.was.Reach {
			if len(is.Lines) > 0 {
				late = append(late, is.File)
			}
			continue
		}
		if is.Named && !stood {
			if !source.OfSystem(is.File) {
				continue // what names it came, and that is told
			}
			if !tls {
				if len(is.Lines) > 0 {
					late = append(late, is.File)
				}
				continue
			}
		}
		is.Lines = s.named(is.File, is.Lines)
		weak := is.Weakening()
		if len(lacking(weak, old.Lines)) > 0 {
			continue // one edit of the file is one finding, and that one weighs more
		}
		is.Lines = kept(is.Lines, func(l string) bool { return !slices.Contains(weak, l) }) // is told whatever stood there before
		s.says(is, lacking(is.Lines, old.Lines), lacking(old.Lines, append(is.Lines, weak...)))
	}
	for _, old := range was {
		if !old.Named { // of what nothing names any more, what named it tells
			s.says(old, nil, old.Lines)
		}
	}
	for _, t := range s.survey.Settings {
		if s.court.Concerns(t.Family) && t.Since > s.was.Reach {
			late = append(late, t.File)
		}
	}
	if slices.Sort(late); len(late) > 0 {
		s.add(Finding{Class: SettingChanged, Severity: Note, Field: "not looked at",
			Message: strings.Join(slices.Compact(late), ", ") + ": " + notHeldSince})
	}
}

// named leaves out the addresses of hosts that nothing was fetched from when the policy came, or
// nothing is now: of those nobody looked, then or now, whether they stand there.
func (s *standing) named(file string, lines []string) []string {
	if file != source.HostsFile {
		return lines
	}
	was, is := s.was.FetchedFrom(), s.survey.FetchedFrom()
	return kept(lines, func(l string) bool {
		return slices.ContainsFunc(source.NamesOf(l), func(name string) bool { return was[name] && is[name] })
	})
}

// lacking lists the lines of one list that are not in another.
func lacking(of, in []string) []string {
	return kept(of, func(l string) bool { return !slices.Contains(in, l) })
}

// says tells of the lines that came to a file and that went from it.
func (s *standing) says(d source.Deciding, come, gone []string) {
	gone = kept(gone, func(l string) bool { return !source.IsOpen(l) }) // it was given back
	if len(come) == 0 && len(gone) == 0 {
		return
	}
	touches := func(what string) bool { return slices.Contains(d.Touches, what) }
	f := Finding{Class: SettingChanged, Severity: Fault, Field: strings.Join(d.Touches, ", "), File: d.File, Stays: d.Stays,
		Want: strings.Join(gone, "; "), Have: strings.Join(come, "; ")}
	if touches(source.TouchesTrust) || touches(source.TouchesProgram) && len(come) > 0 {
		f.Severity = Danger
	}
	if len(come) > 0 {
		f.Line = 1
	}
	eased := source.Deciding{Family: d.Family, Lines: gone}
	if len(come) == 0 && len(eased.Weakening()) == len(gone) {
		f.Severity = Note // what took a check away is gone
	}
	switch {
	case len(gone) == 0:
		f.Message = fmt.Sprintf("says what it did not when the policy came: %s", f.Have)
	case len(come) == 0:
		f.Message = fmt.Sprintf("says no more what it did when the policy came: %s", f.Want)
	default:
		f.Message = fmt.Sprintf("says %s; it said %s when the policy came", f.Have, f.Want)
	}
	if slices.ContainsFunc(append(come, gone...), func(l string) bool { return strings.HasPrefix(l, source.LeadsTo) }) {
		f.Class, f.Field, f.Line = ChangedMode, "link", 0
		f.Message = cmp.Or(f.Have, "no link") + " stands in the place of the folder; when the policy came it was " + cmp.Or(f.Want, "none")
	}
	s.add(f)
}

const giveFile = "give the file back to root, and let nobody else write it"

// onHost says what to do about a check that healing does not give back.
const onHost = ". Take the line out on the host; no policy writes this file"

// weakenedBeside finds what files beside the package manager's configuration take away of its
// checks, whatever stood there when the policy came.
func (c *comparer) weakenedBeside(base *Base) {
	stood := map[string]bool{} // files that took a check away then
	if base != nil {
		for i := range base.Survey.Deciding {
			d := &base.Survey.Deciding[i]
			stood[d.File] = stood[d.File] || len(d.Weakening()) > 0
		}
	}
	for i := range c.survey.Deciding {
		d := &c.survey.Deciding[i]
		if !c.court.Concerns(d.Family) {
			continue
		}
		if lines := d.Weakening(); len(lines) > 0 {
			says := strings.Join(lines, "; ")
			f := Finding{Class: SettingWeakened, Severity: Danger, Field: lines[0], File: d.File, Line: 1, Have: says, Stays: d.Stays,
				Message: says + ": this takes a check away"}
			if base == nil || stood[d.File] || d.Stays { // healing does not put it back
				f.Message += onHost
			}
			if source.IsOpen(lines[0]) {
				f.Class, f.Field, f.Line, f.Stays = ChangedMode, FolderField, 0, true
				what := "give the folder back to root, and let nobody else write there"
				if strings.HasPrefix(lines[0], source.OpenFile) {
					f.Field, what = FileField, giveFile
				}
				f.Message = fmt.Sprintf(
					"%s, who so decides what this host installs and believes: %s", says, what)
			}
			c.add(f)
		}
	}
}

// open finds files of the host's own that others than root may write, and might already when the policy came: what came since then
// is told by what it was.
func (c *comparer) open(base *Base) {
	for _, f := range c.survey.Files {
		who := whoWrites(f)
		if who == "" || c.owned[f.Path] {
			continue
		}
		stood := func(old source.File) bool { return old.Path == f.Path && whoWrites(old) == who }
		if base != nil && base.Survey != nil && !slices.ContainsFunc(base.Survey.Files, stood) {
			continue
		}
		c.add(Finding{Class: ChangedMode, Severity: Danger, Field: FileField, File: f.Path, Line: 1, Have: who, Stays: true,
			Message: fmt.Sprintf("%s%s, who so decides what this host installs and believes: %s", source.OpenFile, who, giveFile)})
	}
}

// whoWrites says who besides root may write a file; empty where nobody may, as far as a survey knows.
func whoWrites(f source.File) string {
	if len(f.Mode) > 0 && strings.ContainsAny(f.Mode[len(f.Mode)-1:], "2367") {
		return fmt.Sprintf("anybody (mode %s)", f.Mode)
	}
	if f.Owner != "" {
		return "the user " + f.Owner
	}
	return ""
}
