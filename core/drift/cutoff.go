package drift

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// renamed makes one finding of a file that has another name and says what it said.
func renamed(list []Finding) []Finding {
	gone := map[string]string{} // what was said, by folder and what it touches → where
	of := func(f *Finding, says string) string { return path.Dir(f.File) + " " + f.Field + " " + says }
	for i := range list {
		if f := &list[i]; f.Class == SettingChanged && f.Beside && f.Have == "" && f.Want != "" {
			gone[of(f, f.Want)] = f.File
		}
	}
	went := map[string]bool{}
	for i := range list {
		f := &list[i]
		if f.Class != SettingChanged || !f.Beside || f.Want != "" || f.Have == "" {
			continue
		}
		if from := gone[of(f, f.Have)]; from != "" && from != f.File && !went[from] {
			went[from] = true
			f.Message += "; it stood in " + from
		}
	}
	return slices.DeleteFunc(list, func(f Finding) bool { return went[f.File] && f.Class == SettingChanged && f.Beside && f.Have == "" })
}

// came are the classes of what is told of a file that came, where all of it is taken.
var came = []string{PinChanged, SettingChanged, HoldChanged, ServiceChanged, UnlistedSource, DoubledSource, KeyAdded, KeyWider}

// elsewhereNow makes one finding of a file that has another name in its folder and says what it said, or is to say, and of what that
// comes to there.
func (c *comparer) elsewhereNow(list []Finding, base *Base) []Finding {
	if len(list) < 2 || base == nil || base.Survey == nil || c.survey.Files == nil {
		return list
	}
	said := map[string]string{} // file → digest of what it said, or is to say
	for _, was := range base.Survey.Files {
		said[was.Path] = was.Digest
	}
	arrived := map[string]string{} // folder and digest → file that came there
	for _, f := range c.survey.Files {
		if _, stood := said[f.Path]; !stood && !c.owned[f.Path] {
			arrived[path.Dir(f.Path)+" "+f.Digest] = f.Path
		}
	}
	if len(arrived) == 0 {
		return list
	}
	for i := range c.sheet.Files {
		f := &c.sheet.Files[i]
		said[f.Path] = source.Digest([]byte(f.Text))
	}
	from := map[string]int{} // file that came → finding about the one that is gone
	for i := range list {
		if f := &list[i]; f.Class == MissingFile {
			if now := arrived[path.Dir(f.File)+" "+said[f.File]]; now != "" {
				from[now] = i
			}
		}
	}
	gone := map[int]bool{}
	for i := range list {
		x := &list[i]
		n, moved := from[x.File]
		if !moved || !slices.Contains(came, x.Class) {
			continue
		}
		gone[i] = true
		f := &list[n]
		if Rank(x.Severity) < Rank(f.Severity) {
			f.Severity = x.Severity
		}
		if in := "; it stands in " + x.File; !strings.HasSuffix(f.Message, in) {
			f.Message += in
		}
	}
	return leaving(list, gone)
}

// wanted tells of a file that is gone and without which a package manager does not work, where it was, and not where it is asked for.
func (c *comparer) wanted(list []Finding, base *Base) []Finding {
	if base == nil || base.Survey == nil || c.survey.Files == nil {
		return list
	}
	var digests map[string]string
	for i := range list {
		f := &list[i]
		if f.Class != Refused {
			continue
		}
		if digests == nil {
			digests = c.digests()
		}
		for _, was := range base.Survey.Files {
			if _, there := digests[was.Path]; !there && NamesFile(f.Message, was.Path) && was.Path != f.File && c.blind(was.Path) == nil {
				stops, _, _ := strings.Cut(strings.TrimPrefix(f.Message, "this "), ":")
				*f = Finding{Class: MissingFile, Severity: f.Severity, Field: "file", Beside: true, File: was.Path,
					Message: "the file is gone, which stood there when the policy came, which " + stops}
				break
			}
		}
	}
	return list
}

// cutOff makes one finding of what is gone with the end of a file, and of the entry in the middle of which it ends.
func (c *comparer) cutOff(list []Finding, base *Base) []Finding {
	if len(list) < 2 || base == nil || base.Survey == nil || c.survey.Files == nil {
		return list
	}
	files := map[string]bool{}
	for i := range list {
		if goneAlone(&list[i]) {
			files[list[i].File] = true
		}
	}
	for file := range files {
		if !c.endsSooner(file, base.Survey) {
			continue
		}
		with := func(x Finding) bool { return x.File == file && (goneAlone(&x) || c.atEnd(&x)) }
		one, all := Finding{}, []string{}
		for _, f := range list {
			if !with(f) {
				continue
			}
			if all = append(all, f.Message); len(all) == 1 || Rank(f.Severity) < Rank(one.Severity) {
				one = f
			}
		}
		if len(all) < 2 {
			continue
		}
		said := strings.Join(all[:min(len(all), mostNamed)], "; ")
		one.Message = "the end of the file does not say any more what it did when the policy came: " + said
		if more := len(all) - mostNamed; more > 0 {
			one.Message += fmt.Sprintf("; and %d more", more)
		}
		list = append(slices.DeleteFunc(list, with), one)
	}
	return list
}

// goneAlone reports whether a finding tells of something that stands in its file no more, of which healing writes it anew.
func goneAlone(f *Finding) bool {
	switch f.Class {
	case MissingSource:
		return !f.Stays
	case SettingChanged, HoldChanged, PinChanged, ServiceChanged:
		return f.Have == "" && !f.Stays
	}
	return false
}

// atEnd reports whether a finding is of the last entry of its file.
func (c *comparer) atEnd(f *Finding) bool {
	begins := f.Line
	switch f.Class {
	case ChangedSource, ChecksWeakened, SwitchedOff:
		if at := c.sourceAt(f); at != nil {
			begins = at.Line
		}
	case SettingChanged:
	default:
		return false
	}
	last := 0
	heldIn(c.survey, f.File, func(_ string, line int) { last = max(last, line) })
	return begins > 0 && begins == last
}

// endsSooner reports whether what stood in a file and does not any more stood behind all that still does.
func (c *comparer) endsSooner(file string, was *source.Survey) bool {
	stands := map[string]bool{}
	heldIn(c.survey, file, func(name string, _ int) { stands[name] = true })
	first, last := 0, 0 // of those that are gone, and of those that stand
	heldIn(was, file, func(name string, line int) {
		switch {
		case stands[name]:
			last = max(last, line)
		case first == 0 || line < first:
			first = line
		}
	})
	return first > last
}

// heldIn names what stands in a file, with its lines.
func heldIn(of *source.Survey, file string, each func(name string, line int)) {
	for i := range of.Sources {
		if s := &of.Sources[i]; s.File == file {
			name := "source " + s.ID
			if s.ID == "" {
				name += fmt.Sprint(s.Kinds, s.URLs, s.Suites)
			}
			each(name, s.Line)
		}
	}
	for i := range of.Settings {
		if t := &of.Settings[i]; t.File == file {
			each("setting "+t.Name, t.Line)
		}
	}
	for i := range of.Pins {
		if p := of.Pins[i]; p.File == file {
			line := p.Line
			p.Line = 0
			each(fmt.Sprint("pin ", p), line)
		}
	}
	for i := range of.Holds {
		if h := of.Holds[i]; h.File == file {
			line := h.Line
			h.Line = 0
			each(fmt.Sprint("hold ", h), line)
		}
	}
	for i := range of.Services {
		if s := &of.Services[i]; s.File == file {
			each("service "+s.ID, s.Line)
		}
	}
}
