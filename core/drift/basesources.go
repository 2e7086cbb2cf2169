package drift

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// sources compares the sources that are not the policy's own.
func (s *standing) sources() {
	m := s.pair()
	for i, j := range m.is {
		switch {
		case j >= 0 && alike(&s.was.Sources[j], &s.survey.Sources[i]):
		case j >= 0 && (s.was.Sources[j].Enabled || s.survey.Sources[i].Enabled):
			s.altered(j, i)
		case j < 0 && s.survey.Sources[i].Enabled && s.ruled(i) != "":
			s.added(i)
		}
	}
	for j, i := range m.was {
		if i < 0 && s.was.Sources[j].Enabled && s.counts(&s.was.Sources[j]) {
			s.gone(&s.was.Sources[j])
		}
	}
}

// field is one thing in which a source differs.
type field struct {
	name, was, is, severity string
}

// gather makes one finding of all in which a source differs, and says it in words.
func (f *Finding) gather(fields []field) string {
	var names, wants, haves, said []string
	f.Class, f.Severity = ChangedSource, Note
	for _, x := range fields {
		names, wants, haves = append(names, x.name), append(wants, x.was), append(haves, x.is)
		said = append(said, fmt.Sprintf("%s: %s instead of %s", x.name, orNone(x.is), orNone(x.was)))
		if Rank(x.severity) < Rank(f.Severity) {
			f.Severity = x.severity
		}
		if strings.HasPrefix(x.name, "signature check") && x.severity == Danger {
			f.Class = ChecksWeakened
		}
	}
	f.Field, f.Want, f.Have = strings.Join(names, ", "), strings.Join(wants, "; "), strings.Join(haves, "; ")
	return strings.Join(said, "; ")
}

// altered compares a source with what it was.
func (s *standing) altered(j, i int) {
	was, is := &s.was.Sources[j], &s.survey.Sources[i]
	f := Finding{Repository: s.ruled(i), File: is.File, Line: is.Line}
	if !was.Enabled && is.Enabled {
		return // it is not in the policy, or a rule wants it on
	}
	fields := s.fields(was, is, s.ruled(i) != "")
	if was.Enabled && !is.Enabled {
		switch {
		case s.sheetMayTake(is) && s.ruled(i) == "":
			return
		case s.ruled(i) == "" && len(fields) == 0:
			f.Class, f.Severity, f.Field, f.Want, f.Have = SwitchedOff, Fault, "enabled", "on", "off, by "+is.DisabledBy
			f.Message = fmt.Sprintf("%s is switched off; it was on when the policy came", shortly(is))
			s.add(f)
			return
		case s.ruled(i) == "":
			fields = append([]field{{"enabled", "on", "off", Fault}}, fields...)
		}
	}
	if len(fields) == 0 {
		return
	}
	f.Message = shortly(is) + " says something else than when the policy came: " + f.gather(fields)
	if file := s.included(is); file != "" {
		f.File, f.Line = file, 1
	}
	s.instead(was, is, f.Severity)
	s.add(f)
	s.told[i] = true
}

// instead takes out what was found of a source that is told of as changed, unless that was
// worse: one edit is one finding.
func (s *standing) instead(was, is *source.Source, severity string) {
	s.out = slices.DeleteFunc(s.out, func(f Finding) bool {
		unlisted := f.Class == UnlistedSource && s.sheet.Unlisted == source.UnlistedReport && f.File == is.File && f.Line == is.Line
		missing := f.Class == MissingSource && slices.Contains(was.EffSuites, f.Want) && !slices.Contains(is.EffSuites, f.Want)
		return (unlisted || missing) && Rank(f.Severity) >= Rank(severity)
	})
}

// places says of what a rule misses in which file it stood.
func (s *standing) places() {
	for n := range s.out {
		f := &s.out[n]
		if f.Class != MissingSource || f.File != "" && s.sheet.Family != deb.Family || f.Beside {
			continue
		}
		for i := range s.was.Sources {
			x := &s.was.Sources[i]
			speaks := func(r source.InPlace) bool { return r.Repository == f.Repository && deb.Speaks(r, x) }
			apts := x.ID == "" && x.Enabled && slices.Contains(x.EffSuites, f.Want) && slices.ContainsFunc(s.sheet.InPlace, speaks)
			if x.Family == s.sheet.Family && (x.ID != "" && x.ID == f.Want || apts) {
				f.File = x.File
			}
		}
	}
}

// included returns the file beside its own in which a source was changed: what pacman
// includes. It is empty where the source's own file differs.
func (s *standing) included(x *source.Source) (out string) {
	for _, f := range s.survey.Files {
		old, stood := s.then[f.Path]
		switch {
		case f.Path == x.File && old.Digest != f.Digest:
			return ""
		case stood && old.Digest != f.Digest && x.Family == arch.Family && strings.HasPrefix(f.Path, arch.Dir+"/") && !s.theirs[f.Path]:
			out = f.Path
		}
	}
	return out
}

// wholeFiles tells of a file that is gone once, whatever stood in it.
func (s *standing) wholeFiles() {
	if s.survey.Files == nil {
		return
	}
	digests, wants := s.digests(), map[string][]string{} // by file that is gone
	s.out = slices.DeleteFunc(s.out, func(f Finding) bool {
		_, stood := s.then[f.File]
		_, stands := digests[f.File]
		gone := stood && !stands && f.Class == MissingSource
		if gone {
			wants[f.File] = append(wants[f.File], f.Want)
		}
		return gone
	})
	for _, file := range s.was.Files {
		what := wants[file.Path]
		if len(what) == 0 {
			continue
		}
		slices.Sort(what)
		want := strings.Join(slices.Compact(what), "; ")
		s.add(Finding{Class: MissingFile, Severity: Fault, Field: "source", File: file.Path, Want: want, Message: wentWith + want})
	}
}

// How the sentence on a file begins that is not there any more, or empty, before what went with it.
const (
	wentWith    = "the file is gone, which stood there when the policy came, and with it "
	emptiedWith = "the file is empty, which was not so when the policy came; gone with what stood in it: "
)

// digests are those of the texts of the files of the host.
func (c *comparer) digests() map[string]string {
	if c.texts == nil {
		c.texts = make(map[string]string, len(c.survey.Files))
		for i := range c.survey.Files {
			c.texts[c.survey.Files[i].Path] = c.survey.Files[i].Digest
		}
	}
	return c.texts
}

// sheetMayTake reports whether the policy itself switches off or removes what it does not
// list.
func (c *comparer) sheetMayTake(x *source.Source) bool {
	return c.sheet.Unlisted != source.UnlistedReport || verdict.Doubles(x, c.court.Releases()) != nil
}

// shortly names a source in a sentence.
func shortly(x *source.Source) string {
	switch {
	case x.ID != "":
		return x.ID
	case len(x.EffSuites) > 0:
		return "the entry for " + strings.Join(x.EffSuites, " ")
	}
	return "the entry"
}

// fields lists in what two sources differ that counts. Where a rule of the policy covers
// the source, its components are the policy's to judge.
func (s *standing) fields(was, is *source.Source, ruled bool) (out []field) {
	add := func(name string, w, h []string, severity string) {
		if !source.SameSet(w, h) {
			out = append(out, field{name, strings.Join(w, " "), strings.Join(h, " "), severity})
		}
	}
	at := func(x *source.Source) []string {
		n := slices.Clone(s.at(x))
		for i, u := range n {
			if x.Options["proxy"] != "" { // which is told as that
				u = verdict.WithoutProxy(u)
			}
			n[i] = strings.TrimRight(u, "/")
		}
		return n
	}
	urls := at(is)
	if withLogin(was) == "" && withLogin(is) != "" && readable(s.modeOf(is.File)) { // which is told by itself
		urls = bare(urls)
	}
	add("URL", at(was), urls, Danger)
	add("list of mirrors", []string{was.Mirrorlist + was.Metalink}, []string{is.Mirrorlist + is.Metalink}, Danger)
	add("suites", was.EffSuites, is.EffSuites, Fault)
	if !ruled {
		add("components", was.Components, is.Components, Fault)
	}
	add("kinds", was.Kinds, is.Kinds, Fault)
	if was.Family == deb.Family && !source.SameSet(was.Archs, is.Archs) { // by dpkg's alone they change with the host
		add("architectures", was.EffArchs, is.EffArchs, Fault)
	}
	if was.Priority != nil && is.Priority != nil && *was.Priority != *is.Priority {
		out = append(out, field{"priority", strconv.Itoa(*was.Priority), strconv.Itoa(*is.Priority), Fault})
	}

	if !source.SameSet(was.SignedBy, is.SignedBy) { // what the files hold is told of the files
		severity := Danger
		if s.believedFewer(was, is) {
			severity = Note
		}
		add("signing keys", verdict.Fingerprints(s.was, was), verdict.Fingerprints(s.survey, is), severity)
	}
	options := s.differing(was, is)
	if len(options) > 0 || !s.easy[is.Family] {
		out = append(out, weaker("signature check", was.Checks.Metadata, is.Checks.Metadata)...)
		out = append(out, weaker("signature check of packages", was.Checks.Packages, is.Checks.Packages)...)
		if len(out) == 0 {
			add("trust", was.Checks.Trust, is.Checks.Trust, Danger)
		}
	}
	// What a switch of a check comes to is told above; where that is the same, it says nothing.
	options = slices.DeleteFunc(options, func(f field) bool {
		return source.OptionSwitches(f.name) && (len(out) > 0 || f.severity != Danger)
	})
	return append(out, options...)
}

// believedFewer reports whether a source is checked by keys by which it was checked before as well, and by no others: those that it
// named, or to apt, where it named none, those that are trusted for everything.
func (s *standing) believedFewer(was, is *source.Source) bool {
	now, before := verdict.Fingerprints(s.survey, is), verdict.Fingerprints(s.was, was)
	if len(was.SignedBy) == 0 && was.Family == deb.Family {
		for i := range s.was.Keys {
			if k := &s.was.Keys[i]; k.Scope == source.ScopeAny && k.Used && strings.HasPrefix(k.Where, "/etc/apt/") {
				before = append(before, k.Fingerprint)
			}
		}
	}
	return len(now) > 0 && !slices.ContainsFunc(now, func(key string) bool { return !slices.Contains(before, key) })
}

// weaker compares how strictly something is checked.
func weaker(name, was, is string) []field {
	strict := []string{source.CheckOff, source.CheckOptional, source.CheckRequired}
	w, h := slices.Index(strict, was), slices.Index(strict, is)
	switch {
	case w == h || w < 0 || h < 0:
		return nil
	case h < w:
		return []field{{name, was, is, Danger}}
	}
	return []field{{name, was, is, Note}}
}

// differing lists the options of two sources that differ and count.
func (s *standing) differing(was, is *source.Source) (out []field) {
	w, h := spelled(was, is), spelled(is, was)
	names := slices.Concat(slices.Collect(maps.Keys(w)), slices.Collect(maps.Keys(h)))
	slices.Sort(names)
	weak := !source.SameSet(was.Weakened(nil), is.Weakened(nil))
	for _, name := range slices.Compact(names) {
		if name == "include" { // the policy's own stand below whichever section is the last
			for _, m := range []map[string]string{w, h} {
				if list, said := m[name]; said {
					m[name] = s.foreign(list)
				}
			}
		}
		if source.SameOption(is.Family, name, w, h, s.survey.Settings) || name == "proxy" && s.court.Proxied(is) { // a rule says it
			continue
		}
		severity := Fault
		if slices.Contains([]string{"path", "snapshot", "inrelease-path"}, name) { // parts of a URL
			severity = Danger
		}
		before, after := source.Holding(is.Family, name, w, s.was.Settings), source.Holding(is.Family, name, h, s.survey.Settings)
		switch {
		case source.Stricter(is.Family, name, before, after):
			severity = Note
		case weak && source.OptionWeakens(is.Family, name, h), source.OptionAges(is.Family, name),
			slices.Contains(source.OptionTouches(is.Family, name), source.TouchesProgram):
			severity = Danger
		}
		out = append(out, field{name, source.Says(w, name), source.Says(h, name), severity})
	}
	return out
}

// spelled are the options of a source by their names in small letters: apt reads them however they are written, and so they are
// shown. Of a name that the other source spells in another way, to which the other families do not listen, the spelling stays.
func spelled(one, other *source.Source) map[string]string {
	out := map[string]string{}
	for name, value := range one.Options {
		lower := strings.ToLower(name)
		for beside := range other.Options {
			if one.Family != source.FamilyDeb && beside != name && strings.EqualFold(beside, name) {
				lower = name
			}
		}
		out[lower] = value
	}
	return out
}

// foreign leaves out of a list of files those that are the policy's.
func (s *standing) foreign(list string) string {
	return strings.Join(slices.DeleteFunc(strings.Fields(list), func(p string) bool { return s.theirs[p] }), " ")
}

// added tells of an entry that a rule covers and that was not there.
func (s *standing) added(i int) {
	x := &s.survey.Sources[i]
	s.add(
		Finding{
			Class:      UnlistedSource,
			Severity:   Fault,
			Field:      "source",
			Repository: s.ruled(i),
			File:       x.File,
			Line:       x.Line,
			Have:       Describe(x),
			Message:    "was added: " + Describe(x) + sinceThen,
		},
	)
}

// gone tells of an entry that was there and is not, where no rule misses it.
func (s *standing) gone(x *source.Source) {
	if s.sheetMayTake(x) || slices.ContainsFunc(s.out, func(f Finding) bool {
		return f.Class == MissingSource && f.Want != "" && (f.Want == x.ID || slices.Contains(x.EffSuites, f.Want))
	}) {
		return
	}
	s.add(Finding{Class: MissingSource, Severity: Fault, Field: "source", File: x.File, Want: Describe(x),
		Message: "is gone: " + Describe(x) + "; it stood there when the policy came"})
}

// packageOf is the package that a file belongs to, or did.
func (s *standing) packageOf(file string) string {
	if s.packages == nil {
		s.packages = map[string]string{}
		for _, list := range [][]source.File{s.was.Files, s.survey.Files} {
			for i := range list {
				if list[i].Package != "" {
					s.packages[list[i].Path] = list[i].Package
				}
			}
		}
	}
	return s.packages[file]
}
