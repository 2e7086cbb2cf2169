package drift

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
)

// mostElsewhere is how many findings are looked at for what they follow from: of very many nobody needs to know.
const mostElsewhere = 1_000

// What follows from a finding stands in its sentence: so much of it whole, of so many more the name; the others are counted.
const (
	mostWith  = 2
	mostNamed = 8
)

// elsewhere makes one finding of a file that somebody changed and of what is otherwise because of it in files that say what they
// said: a setting decides on sources that say nothing of it, a list is read as part of a section, and to pacman all files are one.
func (c *comparer) elsewhere(list []Finding, base *Base) []Finding {
	if len(list) < 2 || len(list) > mostElsewhere || base == nil || base.Survey == nil || base.Survey.Files == nil || c.survey.Files == nil {
		return list
	}
	e := edited{c, base, map[string]bool{}}
	var causes []int
	for i := range list {
		if x := &list[i]; x.Class == SystemChanged || x.Class == NotRead && x.File != "" ||
			x.File != "" && (!x.Stays || x.Class == UnlistedSource) && slices.Contains(cause, x.Class) && e.changed(x.File) {
			causes = append(causes, i)
		}
	}
	if len(causes) == 0 {
		return list
	}
	gone, with := map[int]bool{}, map[int][]int{}
	for i := range list {
		f := &list[i]
		if len(with[i]) > 0 || f.File == "" || !slices.Contains(follow, f.Class) || !e.since(f) {
			continue
		}
		itself := e.changed(f.File) && e.stood(f) == nil
		why := -1
		for _, n := range causes {
			if n == i || gone[n] || itself && !withdrawn(&list[n], f) {
				continue
			}
			if e.decides(&list[n], f) && (why < 0 || list[why].Class == SystemChanged) { // another release comes last
				why = n
			}
		}
		if why >= 0 {
			gone[i] = true
			with[why] = append(with[why], i)
		}
	}
	for _, n := range causes {
		if len(with[n]) > 0 {
			c.tellWith(list, n, with[n])
		}
	}
	return leaving(list, gone)
}

// withdrawn reports whether a finding tells of a file that went or of which nothing is read, and another of what that comes to
// where it stood, or of where it went.
func withdrawn(why, f *Finding) bool {
	if why.Class == Refused {
		return f.Class == MissingSource && f.File == why.File
	}
	ofIt := f.Class == Refused && f.File == why.File || f.Class == DoubledSource
	return why.lost() && (ofIt || why.File == arch.Config && f.Class == SettingChanged && f.Have == "")
}

// gone reports whether a finding tells that a file, or all that counts in it, is not there any more.
func (f *Finding) gone() bool { return f.Class == MissingFile || f.Class == MissingKey }

// lost reports whether a finding tells that nothing is known to stand in a file or below a folder.
func (f *Finding) lost() bool { return f.gone() || f.Class == NotRead }

// tellWith tells with a finding of a list what follows from it: it weighs as much as the worst, and where nothing works any more, that
// is what it says.
func (c *comparer) tellWith(list []Finding, n int, follows []int) {
	why := &list[n]
	stops := slices.IndexFunc(follows, func(i int) bool { return list[i].Class == Refused })
	var also, names []string
	said := 0
	for _, i := range follows {
		f := &list[i]
		severity := f.Severity
		if why.Class == SystemChanged && !strings.Contains(f.Field, "key") && !strings.Contains(f.Field, "check") {
			severity = Fault // the distribution's own still say where its packages are
		}
		nothing := why.gone() || why.Class == NotRead && (why.File == osRelease || strings.HasPrefix(why.Message, source.NothingBelow))
		if nothing && (f.Class == ChangedSource || f.Class == MissingSource) {
			severity = Fault // what is not there supplies nothing
		}
		if Rank(severity) < Rank(why.Severity) {
			why.Severity = severity
		}
		if why.Class == SettingChanged && f.Class == ChecksWeakened { // who has checks healed has this healed
			why.Class = SettingWeakened
		}
		if why.lost() && strings.Contains(f.Field, "key") { // says so itself
			continue
		}
		if f.Class == DoubledSource {
			also = append(also, "; "+f.Place()+" "+f.Message)
		} else if said < mostWith {
			also = append(also, "; with it "+c.says(f))
			said++
		} else if s := c.sourceAt(f); s != nil {
			names = append(names, cmp.Or(s.ID, strings.Join(s.EffSuites, " "), f.Place()))
		} else {
			names = append(names, f.Place())
		}
	}
	switch {
	case stops >= 0 && why.lost():
		program, _, _ := strings.Cut(list[follows[stops]].Message, ":")
		why.Message += ", which " + strings.TrimPrefix(program, "this ")
	case why.lost() && strings.HasSuffix(why.Message, stopsAll): // so what there is comes to nothing
	case stops >= 0 && why.Class != Refused:
		why.Class, why.Field, why.Message = Refused, "", list[follows[stops]].Message+"; "+why.Message
	case stops < 0:
		why.Message += strings.Join(also, "")
		if len(names) > 0 {
			why.Message += "; and so of " + some(names)
		}
	}
}

// some are the first of some names, and how many more there are.
func some(names []string) string {
	if more := len(names) - mostNamed; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:mostNamed], ", "), more)
	}
	return strings.Join(names, ", ")
}

// follow are the classes of what may be so because of another file.
var follow = []string{Refused, ChangedSource, ChecksWeakened, MissingSource, SettingChanged, SwitchedOff, DoubledSource}

// cause are the classes of what may be why.
var cause = []string{Refused, SettingChanged, SettingWeakened, MissingSource, ChangedSource, MissingFile, MissingKey, UnlistedSource}

// says is the sentence of a finding with the name of the source that it is of in it.
func (c *comparer) says(f *Finding) string {
	s := c.sourceAt(f)
	if s == nil || s.ID == "" {
		return f.Message
	}
	short := strings.TrimPrefix(f.Message, Describe(s)+": ") // of hosts of every release the same
	if strings.Contains(short, s.ID) {
		return short
	}
	return s.ID + ": " + short
}

// sourceAt is the source at or in which a finding is.
func (c *comparer) sourceAt(f *Finding) (at *source.Source) {
	for i := range c.survey.Sources {
		if s := &c.survey.Sources[i]; s.File == f.File && s.Line <= f.Line && (at == nil || s.Line > at.Line) {
			at = s
		}
	}
	return at
}

// edited are the files that say something else than they did.
type edited struct {
	*comparer
	base  *Base
	known map[string]bool // that were asked for
}

// stood is what the source that a finding is of was when the policy came, where it said the same, so that only what it comes to is
// otherwise; nil where it did not.
func (e *edited) stood(f *Finding) *source.Source {
	s := e.sourceAt(f)
	if s == nil {
		return nil
	}
	i := slices.IndexFunc(e.base.Survey.Sources, func(was source.Source) bool {
		return was.Family == s.Family && was.File == s.File && was.ID == s.ID && slices.Equal(was.URLs, s.URLs) &&
			slices.Equal(was.Suites, s.Suites) && slices.Equal(was.Components, s.Components) && slices.Equal(was.SignedBy, s.SignedBy) &&
			was.Mirrorlist == s.Mirrorlist && was.Metalink == s.Metalink && maps.Equal(was.Options, s.Options)
	})
	if i < 0 {
		return nil
	}
	return &e.base.Survey.Sources[i]
}

// since reports whether what a finding says may be so only since the policy came: what was so before follows from no edit.
func (e *edited) since(f *Finding) bool {
	was, is := e.stood(f), e.sourceAt(f)
	switch {
	case f.Beside || was == nil || f.Class == Refused || strings.Contains(f.Field, "signing keys"):
		return true
	case f.Class == ChecksWeakened:
		return len(Unchecked(was, e.base.Survey.Settings)) == 0
	}
	return !slices.Equal(was.EffURLs, is.EffURLs) || was.Enabled != is.Enabled || was.Checks.Packages != is.Checks.Packages ||
		was.Checks.Metadata != is.Checks.Metadata
}

// changed reports whether a file says something else than it did, or than the policy says that it does.
func (e *edited) changed(path string) bool {
	is, known := e.known[path]
	if !known {
		is = e.differs(path)
		e.known[path] = is
	}
	return is
}

func (e *edited) differs(path string) bool {
	at := func(list []source.File) *source.File {
		i := slices.IndexFunc(list, func(f source.File) bool { return f.Path == path })
		if i < 0 {
			return nil
		}
		return &list[i]
	}
	now, was := at(e.survey.Files), at(e.base.Survey.Files)
	for i := range e.sheet.Files {
		if f := &e.sheet.Files[i]; f.Path == path {
			return now == nil || !saysOf(f, now)
		}
	}
	if now == nil {
		return was != nil
	}
	return was == nil || was.Digest != now.Digest
}

// decides reports whether what a finding says of a file may be why another one holds.
func (e *edited) decides(why, f *Finding) bool {
	s := e.sourceAt(f)
	lines := e.sheet.Family == arch.Family && strings.HasPrefix(f.File, "/etc/pacman")
	switch why.Class {
	case SystemChanged: // a release is part of URLs and of names of keys where there are variables
		return f.Class == ChangedSource && f.Beside && s != nil && ofRelease(s)
	case NotRead:
		if why.File == osRelease {
			return f.Class == ChangedSource && f.Beside && s != nil && ofRelease(s)
		}
		return e.went(why, f, lines && strings.HasPrefix(why.File, "/etc/pacman") && !strings.Contains(why.File, "/gnupg"))
	case MissingFile, MissingKey:
		return e.went(why, f, lines && strings.HasPrefix(why.File, "/etc/pacman"))
	case UnlistedSource: // and counts in its place
		added, instead := e.sourceAt(why), f.Class == SwitchedOff || f.Class == DoubledSource && f.Severity == Note
		return instead && s != nil && added != nil && s.ID != "" && added.ID == s.ID
	case Refused:
		return f.Class == MissingSource || f.Class == ChecksWeakened || f.Class == SettingChanged && f.Have == ""
	case SettingChanged, SettingWeakened:
		return s != nil && f.Class != MissingSource &&
			about(e.touches(why, s.Family), f)
	case MissingSource: // its lines go on with those above it
		return lines && (f.Class == ChangedSource || f.Class == SettingChanged)
	case ChangedSource:
		return f.Class == ChangedSource && (lists(s, why.File) || lines && why.Beside && strings.HasSuffix(strings.ToLower(why.Field), "include"))
	}
	return false
}

// ofRelease reports whether a source is of a family whose variables say the release of the system.
func ofRelease(s *source.Source) bool {
	return s.Family == source.FamilyRpm || s.Family == source.FamilyZypp
}

// went reports whether what a finding says follows from a file that went; lines: of pacman's both, whose files are one.
func (e *edited) went(why, f *Finding, lines bool) bool {
	s := e.sourceAt(f)
	switch f.Class {
	case Refused:
		return f.File == why.File || NamesFile(f.Message, why.File) || strings.Contains(f.Message, why.File+"/")
	case DoubledSource: // where it went
		return f.Repository != "" && f.Repository == why.Repository
	case ChangedSource:
		if strings.Contains(f.Field, "signing keys") {
			return s != nil && e.signed(s, why.File)
		}
		return lines || lists(s, why.File) || s != nil && about(e.saidIn(why.File, s.Family), f)
	case ChecksWeakened:
		return lines || s != nil && about(e.saidIn(why.File, s.Family), f)
	}
	return lines
}

// signed reports whether a source was believed by the keys in a file, or is to be.
func (e *edited) signed(s *source.Source, file string) bool {
	return slices.Contains(s.SignedBy, file) || slices.ContainsFunc(e.base.Survey.Sources, func(was source.Source) bool {
		return was.Family == s.Family && was.ID == s.ID && slices.ContainsFunc(was.SignedBy, func(by string) bool {
			at, local := source.LocalFile(was.Family, by)
			return local && at == file
		})
	})
}

// saidIn is what the settings and variables of a family touched that stood in a file, or below a folder.
func (e *edited) saidIn(file, family string) (touches []string) {
	for i := range e.base.Survey.Settings {
		if t := &e.base.Survey.Settings[i]; (t.File == file || below(t.File, file)) && t.Family == family {
			touches = append(touches, t.Touches...)
		}
	}
	for i := range e.base.Survey.Deciding {
		if d := &e.base.Survey.Deciding[i]; (d.File == file || below(d.File, file)) && d.Family == family {
			touches = append(touches, d.Touches...)
		}
	}
	return touches
}

// lists reports whether a source takes its mirrors from a file.
func lists(s *source.Source, file string) bool {
	return s != nil && (strings.Contains(s.Options["Include"], file) || strings.HasSuffix(s.Mirrorlist, file))
}

// about reports whether what touches something is about what a finding says of a source.
func about(touches []string, f *Finding) bool {
	checks := f.Class == ChecksWeakened || strings.Contains(f.Field, "check") || strings.Contains(f.Field, "trust")
	return checks && slices.Contains(touches, source.TouchesTrust) ||
		f.Class != ChecksWeakened && slices.Contains(touches, source.TouchesOrigin)
}

// touches is what the setting of a family touches that a finding is of, or the file that decides beside its configuration.
func (e *edited) touches(why *Finding, of string) []string {
	for _, from := range []*source.Survey{e.survey, e.base.Survey} {
		for i := range from.Settings {
			if t := &from.Settings[i]; t.Name == why.Field && t.Family == of {
				return t.Touches
			}
		}
		for i := range from.Deciding {
			if d := &from.Deciding[i]; d.File == why.File && d.Family == of {
				return d.Touches
			}
		}
	}
	return nil
}
