package drift

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
)

// consequences leaves out what follows from a file that its package manager does not read: what
// stood there is gone because of it, and is told with the cause.
func (c *comparer) consequences(list []Finding, base *Base) []Finding {
	list = c.unchecked(c.moved(list))
	told := map[string]bool{} // lines at which a package manager gives up
	for _, f := range slices.Clone(list) {
		if f.Class != Refused || f.File == "" || f.Line == 0 {
			continue
		}
		at := fmt.Sprint(f.File, ":", f.Line)
		if told[at] {
			continue
		}
		told[at] = true
		var worse []string
		list = slices.DeleteFunc(list, func(x Finding) bool {
			follows := c.follows(x, f)
			if follows && x.Severity == Danger && (x.Class == UnlistedSource || x.Class == DoubledSource) { // waits for the first who mends it
				worse = append(worse, x.Message)
			}
			return follows
		})
		if n := slices.IndexFunc(list, func(x Finding) bool { return x == f }); n >= 0 && len(worse) > 0 {
			list[n].Severity, list[n].Message = Danger, f.Message+"; "+strings.Join(worse, "; ")
		}
	}
	list = c.keyrings(c.withFiles(renamed(c.wanted(list, base)), base), base)
	list = c.headings(c.oneOfASource(c.filesPassedOver(c.unread(list))), base)
	list = c.elsewhereNow(list, base)
	return c.folders(c.elsewhere(c.cutOff(list, base), base), base)
}

// follows reports whether a finding follows from the place at which the package manager gives
// up: what stood in that file and is not there, and the entry that it gives up at.
func (c *comparer) follows(x, cause Finding) bool {
	if x.Class == PinChanged && x.Have == "" && strings.HasPrefix(cause.File, "/etc/apt/preferences") {
		return true // of no file that apt reads after it
	}
	if x.File != cause.File {
		return false
	}
	switch x.Class {
	case Refused:
		return x.Line == 0 || x.Line == cause.Line && x.Message != cause.Message
	case MissingSource, SwitchedOff, MissingFile, ChangedText:
		return true
	case SettingChanged, HoldChanged, PinChanged, ServiceChanged:
		return x.Have == "" || x.Line == cause.Line
	case ChangedSource, ChecksWeakened, UnlistedSource, DoubledSource:
		return x.Line <= cause.Line && cause.Line <= endOf(c.survey.Sources, x.File, x.Line)
	}
	return false
}

// unchecked makes one finding of a source that was added and of the check that it does without.
func (c *comparer) unchecked(list []Finding) []Finding {
	for i := range list {
		f := &list[i]
		if f.Class != UnlistedSource || f.Severity == Danger {
			continue
		}
		file, line := f.File, f.Line
		of := func(x Finding) bool { return x.Class == ChecksWeakened && x.File == file && x.Line == line }
		if n := slices.IndexFunc(list, of); n >= 0 {
			f.Severity, f.Message = Danger, f.Message+"; "+strings.TrimPrefix(list[n].Message, f.Have+": ")
			return c.unchecked(slices.DeleteFunc(list, of))
		}
	}
	return list
}

// withFiles makes one finding of what is gone with the file that it stood in.
func (c *comparer) withFiles(list []Finding, base *Base) []Finding {
	if base == nil || c.survey.Files == nil {
		return list
	}
	digests, nothing := c.digests(), source.Digest(nil)
	for _, file := range base.Survey.Files {
		says := wentWith
		if now, there := digests[file.Path]; there && now != nothing {
			continue
		} else if there {
			says = emptiedWith
		}
		with := func(x Finding) bool {
			return x.File == file.Path && (goneAlone(&x) || x.Class == MissingFile)
		}
		first := slices.IndexFunc(list, with)
		if first < 0 {
			continue
		}
		one, what := list[first], []string{}
		for _, x := range list {
			if with(x) {
				what = append(what, strings.TrimSpace(x.Field+" "+x.Want))
				if x.Severity == Danger {
					one.Severity = Danger
				}
			}
		}
		if len(what) < 2 {
			continue
		}
		one.Class, one.Field, one.Line, one.Want = MissingFile, "file", 0, strings.Join(what, "; ")
		one.Message = says + one.Want
		list = append(slices.DeleteFunc(list, with), one)
	}
	return list
}

// keyrings makes one finding of the keys of a file none of which is believed any more, and of a keyring that is not read the
// keys that are not seen in it.
func (c *comparer) keyrings(list []Finding, base *Base) []Finding {
	if base == nil || base.Survey == nil {
		return list
	}
	ring := func(file string) bool { // of pacman's, or what it goes by
		return slices.ContainsFunc(base.Survey.Keys, func(k source.Key) bool {
			dir := path.Dir(k.Where)
			return k.Validity != "" && (path.Dir(file) == dir || file == dir || below(dir, file))
		})
	}
	if unread := slices.IndexFunc(list, func(f Finding) bool { return f.Class == NotRead && ring(f.File) }); unread >= 0 {
		ofIt := func(f Finding) bool {
			return f.Class == MissingKey && (ring(f.File) || !f.Beside && strings.HasPrefix(f.File, arch.Dir+"/"))
		}
		var with []string
		for _, f := range list {
			if ofIt(f) {
				with = append(with, f.Message)
			}
		}
		if len(with) > 0 {
			list[unread].Message += "; " + some(with)
		}
		return slices.DeleteFunc(list, ofIt)
	}
	lost, some := map[string][]string{}, map[string]bool{}
	for _, f := range list {
		if f.Class == MissingKey && f.Beside {
			lost[f.File] = append(lost[f.File], f.Want)
		}
	}
	for _, k := range believed(c.survey) {
		some[k.Where] = true
	}
	for file, keys := range lost {
		if len(keys) < 2 || some[file] {
			continue
		}
		of := func(x Finding) bool { // the policy's own that it held are told in their own files
			return x.Class == MissingKey && (x.Beside && x.File == file || !x.Beside && slices.Contains(keys, x.Want))
		}
		slices.Sort(keys)
		one := list[slices.IndexFunc(list, func(x Finding) bool { return of(x) && x.Beside })]
		one.Stays = !slices.ContainsFunc(list, func(x Finding) bool { return of(x) && !x.Stays })
		_, why, _ := strings.Cut(one.Message, ": ")
		one.Want = strings.Join(keys, " ")
		one.Message = fmt.Sprintf("none of the %d keys that stood here is believed any more: %s", len(keys), why)
		list = append(slices.DeleteFunc(list, of), one)
	}
	return list
}

// endOf is the last line of the entry that begins in a line of a file.
func endOf(sources []source.Source, file string, line int) int {
	last := int(^uint(0) >> 1)
	for i := range sources {
		if s := &sources[i]; s.File == file && s.Line > line {
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
			case MissingSource: // behind the place at which it was given up nothing is known of any
				return (x.File == file || x.File == "") && slices.Contains(ids, x.Want) || x.File == file && c.allInvalid(file)
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
		for _, x := range list {
			if of(x) && x.Class == MissingSource && x.File == file && !slices.Contains(ids, x.Want) {
				ids = append(ids, x.Want)
			}
		}
		list = slices.DeleteFunc(list, of)
		f := Finding{Class: SwitchedOff, Severity: Fault, Field: "enabled", Repository: at.Repository, Beside: at.Beside, File: file,
			Line: c.survey.Problems[because].Line, Want: "on", Have: "off, by " + source.OffAsInvalid}
		f.Message = fmt.Sprintf("%s does not take what stands here, and so %s off: %s",
			families.Program(first[file].Family), are(ids), c.survey.Problems[because].Message)
		list = append(list, f)
	}
	return list
}

// allInvalid reports whether of a file no source is taken.
func (c *comparer) allInvalid(file string) bool {
	return !slices.ContainsFunc(c.survey.Sources, func(s source.Source) bool { return s.File == file && s.DisabledBy != source.OffAsInvalid })
}
