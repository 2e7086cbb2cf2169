package drift

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

// match pairs sources of the base with those that stand in their place now; -1 where none
// does.
type match struct{ was, is []int }

// sources compares the sources that are not the policy's own.
func (s *standing) sources() {
	m := s.pair()
	for i, j := range m.is {
		switch {
		case j >= 0 && alike(&s.was.Sources[j], &s.survey.Sources[i]):
		case j >= 0 && (s.was.Sources[j].Enabled || s.survey.Sources[i].Enabled):
			s.altered(j, i)
		case j < 0 && s.survey.Sources[i].Enabled && s.ruled[i] != "":
			s.added(i)
		}
	}
	for j, i := range m.was {
		if i < 0 && s.was.Sources[j].Enabled {
			s.gone(&s.was.Sources[j])
		}
	}
}

// pair finds for each source what it was: the same definition first, in its file or in
// another one; then one of the same name; then what is most alike in the same file.
func (s *standing) pair() match {
	m := match{make([]int, len(s.was.Sources)), make([]int, len(s.survey.Sources))}
	for j := range m.was {
		m.was[j] = -1
	}
	for i := range m.is {
		m.is[i] = -1
	}
	counts := func(x *source.Source) bool { return s.concerns(x.Family) && !s.theirs[x.File] && !s.remote(x) }
	s.untouched(m, counts)
	by := func(key func(*source.Source, *source.Survey) string) {
		if !s.open(m, counts) {
			return
		}
		free := map[string][]int{}
		for j := range s.was.Sources {
			if x := &s.was.Sources[j]; m.was[j] < 0 && counts(x) {
				if k := key(x, s.was); k != "" {
					free[k] = append(free[k], j)
				}
			}
		}
		for i := range s.survey.Sources {
			x := &s.survey.Sources[i]
			if m.is[i] >= 0 || !counts(x) {
				continue
			}
			if list := free[key(x, s.survey)]; len(list) > 0 {
				m.is[i], m.was[list[0]] = list[0], i
				free[key(x, s.survey)] = list[1:]
			}
		}
	}
	same := func(x *source.Source) string {
		return strings.Join(
			[]string{x.Family, x.ID, strings.Join(x.EffURLs, " "), x.Mirrorlist, x.Metalink, strings.Join(x.EffSuites, " ")},
			"\x00",
		)
	}
	by(func(x *source.Source, v *source.Survey) string {
		return x.File + "\x00" + same(x) + "\x00" + strings.Join(s.whole(x, v), "\x00")
	})
	by(func(x *source.Source, _ *source.Survey) string {
		return fmt.Sprintf("%s\x00%s\x00%t", x.File, same(x), x.Enabled)
	})
	by(func(x *source.Source, _ *source.Survey) string { return x.File + "\x00" + same(x) })
	by(func(x *source.Source, _ *source.Survey) string { // it stands in another file
		if !x.Enabled {
			return ""
		}
		return same(x)
	})
	by(func(x *source.Source, _ *source.Survey) string {
		if x.ID == "" {
			return ""
		}
		return x.Family + "\x00" + x.File + "\x00" + x.ID
	})
	most := func(key func(*source.Source) string) {
		by(func(x *source.Source, _ *source.Survey) string {
			if k := key(x); x.Enabled && x.ID == "" && k != "" {
				return strings.Join([]string{x.Family, x.File, strings.Join(x.Kinds, " "), k}, "\x00")
			}
			return ""
		})
	}
	most(func(x *source.Source) string { return strings.Join(x.EffSuites, " ") })
	most(func(x *source.Source) string { return strings.Join(x.EffURLs, " ") })
	most(func(x *source.Source) string { return "any" })
	return m
}

// untouched pairs the sources of files of which no byte has changed, in their order.
func (s *standing) untouched(m match, counts func(*source.Source) bool) {
	digests := make(map[string]string, len(s.was.Files))
	for _, f := range s.was.Files {
		digests[f.Path] = f.Digest
	}
	same := make(map[string]bool, len(s.survey.Files))
	for _, f := range s.survey.Files {
		same[f.Path] = digests[f.Path] == f.Digest
	}
	before, now := byFile(s.was.Sources, same, counts), byFile(s.survey.Sources, same, counts)
	for file, list := range now {
		if was := before[file]; len(was) == len(list) {
			for n, i := range list {
				m.is[i], m.was[was[n]] = was[n], i
			}
		}
	}
}

// open reports whether a source on either side stands alone yet, while another may be its pair.
func (s *standing) open(m match, counts func(*source.Source) bool) bool {
	was, is := false, false
	for j := range m.was {
		was = was || m.was[j] < 0 && counts(&s.was.Sources[j])
	}
	for i := range m.is {
		is = is || m.is[i] < 0 && counts(&s.survey.Sources[i])
	}
	return was && is
}

// byFile lists the places of the sources of some files, in order.
func byFile(list []source.Source, of map[string]bool, counts func(*source.Source) bool) map[string][]int {
	out := map[string][]int{}
	for i := range list {
		if x := &list[i]; of[x.File] && counts(x) {
			out[x.File] = append(out[x.File], i)
		}
	}
	return out
}

// alike reports whether two sources come to the same in all that a file which has not
// changed leaves open: variables, settings for all, what else is configured.
func alike(a, b *source.Source) bool {
	return a.Line == b.Line && a.Enabled == b.Enabled && a.ID == b.ID && a.Mirrorlist == b.Mirrorlist && a.Metalink == b.Metalink &&
		a.Checks.Metadata == b.Checks.Metadata && a.Checks.Packages == b.Checks.Packages && slices.Equal(a.Checks.Trust, b.Checks.Trust) &&
		slices.Equal(a.EffURLs, b.EffURLs) && slices.Equal(a.EffSuites, b.EffSuites) && slices.Equal(a.EffArchs, b.EffArchs) &&
		slices.Equal(a.SignedBy, b.SignedBy) && slices.Equal(a.Components, b.Components) && slices.Equal(a.Kinds, b.Kinds) &&
		(a.Priority == nil) == (b.Priority == nil) && (a.Priority == nil || *a.Priority == *b.Priority) && maps.Equal(a.Options, b.Options)
}

// remote reports whether a source is a remote of flatpak's that is the policy's own: those
// stand in a file that is not.
func (s *standing) remote(x *source.Source) bool {
	return x.Family == flatpak.Family && slices.ContainsFunc(s.sheet.Sources, func(y source.SheetSource) bool {
		return y.Family == x.Family && y.ID == x.ID && y.File == x.File
	})
}

// whole says everything that counts of a source.
func (s *standing) whole(x *source.Source, of *source.Survey) []string {
	c := &comparer{sheet: s.sheet, survey: of}
	return []string{
		strconv.FormatBool(x.Enabled),
		strings.Join(x.Components, " "),
		strings.Join(x.Kinds, " "),
		strings.Join(x.EffArchs, " "),
		strings.Join(c.fingerprints(x.SignedBy), " "),
		fmt.Sprint(x.Checks),
		strings.Join(x.Weakened(nil), " "),
	}
}

// field is one thing in which a source differs.
type field struct {
	name, was, is, severity string
}

// altered compares a source with what it was.
func (s *standing) altered(j, i int) {
	was, is := &s.was.Sources[j], &s.survey.Sources[i]
	f := Finding{Class: ChangedSource, Repository: s.ruled[i], File: is.File, Line: is.Line}
	switch {
	case was.Enabled && !is.Enabled:
		if s.ruled[i] == "" && !s.sheetMayTake(is) {
			f.Class, f.Severity, f.Field, f.Want, f.Have = SwitchedOff, Fault, "enabled", "on", "off, by "+is.DisabledBy
			f.Message = fmt.Sprintf("%s is switched off; it was on when the policy came", shortly(is))
			s.add(f)
		}
		return
	case !was.Enabled && is.Enabled:
		return // it is not in the policy, or a rule wants it on
	}
	fields := s.fields(was, is, s.ruled[i] != "")
	if len(fields) == 0 {
		return
	}
	var names, wants, haves, said []string
	f.Severity = Note
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
	f.Message = shortly(is) + " says something else than when the policy came: " + strings.Join(said, "; ")
	if file := s.included(is); file != "" {
		f.File, f.Line = file, 1
	}
	s.instead(was, is)
	s.add(f)
	s.told[i] = true
}

// instead takes out what was found of a source that is told of as changed: one edit is one
// finding.
func (s *standing) instead(was, is *source.Source) {
	s.out = slices.DeleteFunc(s.out, func(f Finding) bool {
		return f.Class == UnlistedSource && s.sheet.Unlisted == source.UnlistedReport && f.File == is.File && f.Line == is.Line ||
			f.Class == MissingSource && slices.Contains(was.EffSuites, f.Want) && !slices.Contains(is.EffSuites, f.Want)
	})
}

// places says of a section that a rule misses in which file it stood.
func (s *standing) places() {
	for n := range s.out {
		f := &s.out[n]
		if f.Class != MissingSource || f.File != "" {
			continue
		}
		for i := range s.was.Sources {
			if x := &s.was.Sources[i]; x.ID != "" && x.ID == f.Want && x.Family == s.sheet.Family {
				f.File = x.File
			}
		}
	}
}

// included returns the file beside its own in which a source was changed: what pacman
// includes. It is empty where the source's own file differs.
func (s *standing) included(x *source.Source) (out string) {
	was := map[string]string{}
	for _, f := range s.was.Files {
		was[f.Path] = f.Digest
	}
	for _, f := range s.survey.Files {
		old, stood := was[f.Path]
		switch {
		case f.Path == x.File && old != f.Digest:
			return ""
		case stood && old != f.Digest && x.Family == arch.Family && strings.HasPrefix(f.Path, arch.Dir+"/") && !s.theirs[f.Path]:
			out = f.Path
		}
	}
	return out
}

// wholeFiles tells of a file that is gone once, whatever stood in it.
func (s *standing) wholeFiles() {
	there := map[string]bool{}
	for _, f := range s.survey.Files {
		there[f.Path] = true
	}
	for _, file := range s.was.Files {
		missed := func(f Finding) bool { return f.Class == MissingSource && f.File == file.Path }
		if there[file.Path] || s.survey.Files == nil || !slices.ContainsFunc(s.out, missed) {
			continue
		}
		var what []string
		for _, f := range s.out {
			if missed(f) {
				what = append(what, f.Want)
			}
		}
		slices.Sort(what)
		s.out = slices.DeleteFunc(s.out, missed)
		s.add(Finding{Class: MissingFile, Severity: Fault, Field: "source", File: file.Path, Want: strings.Join(slices.Compact(what), "; "),
			Message: "the file is gone, which stood there when the policy came, and with it " + strings.Join(slices.Compact(what), "; ")})
	}
}

// sheetMayTake reports whether the policy itself switches off or removes what it does not
// list.
func (c *comparer) sheetMayTake(x *source.Source) bool {
	return c.sheet.Unlisted != source.UnlistedReport || Doubles(x, c.releases()) != nil
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
	trimmed := func(list []string) []string {
		n := make([]string, len(list))
		for i, u := range list {
			n[i] = strings.TrimRight(u, "/")
		}
		return n
	}
	add("URL", trimmed(was.EffURLs), trimmed(is.EffURLs), Danger)
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
	then := &comparer{sheet: s.sheet, survey: s.was}
	if !source.SameSet(was.SignedBy, is.SignedBy) { // what the files hold is told of the files
		add("signing keys", then.fingerprints(was.SignedBy), s.fingerprints(is.SignedBy), Danger)
	}
	options := s.differing(was, is)
	if len(options) > 0 || !s.eased[is.Family] {
		out = append(out, weaker("signature check", was.Checks.Metadata, is.Checks.Metadata)...)
		out = append(out, weaker("signature check of packages", was.Checks.Packages, is.Checks.Packages)...)
		if len(out) == 0 {
			add("trust", was.Checks.Trust, is.Checks.Trust, Danger)
		}
		if len(out) > 0 {
			options = slices.DeleteFunc(options, func(f field) bool { return source.OptionSwitches(f.name) })
		}
	}
	return append(out, options...)
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
	lower := func(m map[string]string) map[string]string {
		n := map[string]string{}
		for k, v := range m {
			n[strings.ToLower(k)] = v
		}
		return n
	}
	w, h := lower(was.Options), lower(is.Options)
	names := slices.Concat(slices.Collect(maps.Keys(w)), slices.Collect(maps.Keys(h)))
	slices.Sort(names)
	weak := !source.SameSet(was.Weakened(nil), is.Weakened(nil))
	for _, name := range slices.Compact(names) {
		if source.SameOption(is.Family, name, w[name], h[name]) {
			continue
		}
		severity := Fault
		if slices.Contains([]string{"path", "snapshot", "inrelease-path"}, name) { // parts of a URL
			severity = Danger
		}
		if weak && source.OptionWeakens(is.Family, name, h[name]) ||
			slices.Contains(source.OptionTouches(is.Family, name), source.TouchesProgram) {
			severity = Danger
		}
		out = append(out, field{name, w[name], h[name], severity})
	}
	return out
}

// added tells of an entry that a rule covers and that was not there.
func (s *standing) added(i int) {
	x := &s.survey.Sources[i]
	s.add(
		Finding{
			Class:      UnlistedSource,
			Severity:   Fault,
			Field:      "source",
			Repository: s.ruled[i],
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

// keys compares which keys are believed.
func (s *standing) keys() {
	before, now := believed(s.was), believed(s.survey)
	wanted := map[string]bool{} // the policy's own
	for _, k := range s.sheet.Keys {
		wanted[k.Fingerprint] = true
	}
	anywhere := map[string]bool{} // believed by some source of the base
	for key := range before {
		anywhere[key.fingerprint] = true
	}
	for _, key := range sortedKeys(now) {
		k := now[key]
		if _, stood := before[key]; stood || s.theirs[k.Where] {
			continue
		}
		f := Finding{Class: KeyAdded, Severity: Danger, Field: "key", File: k.Where, Have: k.Fingerprint}
		whose := k.Fingerprint
		if len(k.UserIDs) > 0 {
			whose += " of " + k.UserIDs[0]
		}
		if k.Validity == "ultimate" {
			whose += ", which vouches for others,"
		}
		mayCome := !strings.HasPrefix(k.Where, "/etc/apt/") && (wanted[k.Fingerprint] || anywhere[k.Fingerprint])
		switch {
		case key.scope != source.ScopeAny && !s.names(k.Where):
			continue // no source names it
		case key.scope != source.ScopeAny:
			f.Message = fmt.Sprintf("the key %s is believed for the sources that name this file%s", whose, sinceThen)
		case mayCome:
			continue // its package manager takes up the keys that its sources name
		case wanted[k.Fingerprint] || anywhere[k.Fingerprint]:
			f.Class = KeyWider
			f.Message = fmt.Sprintf("the key %s is believed for every source here; the policy gives it to its own alone", whose)
		default:
			f.Message = fmt.Sprintf("the key %s is believed for every source%s", whose, sinceThen)
		}
		s.add(f)
	}
	for _, key := range sortedKeys(before) {
		k := before[key]
		if _, stands := now[key]; stands || s.theirs[k.Where] || key.scope != source.ScopeAny && !s.names(k.Where) {
			continue
		}
		f := Finding{Class: MissingKey, Severity: Fault, Field: "key", File: k.Where, Want: k.Fingerprint,
			Message: fmt.Sprintf("the key %s is believed no more: it is gone", k.Fingerprint)}
		for i := range s.survey.Keys {
			if n := &s.survey.Keys[i]; n.Fingerprint == k.Fingerprint && n.Where == k.Where {
				f.Have = n.UnusedBecause
				f.Message = fmt.Sprintf("the key %s is believed no more: %s", k.Fingerprint, n.UnusedBecause)
			}
		}
		s.add(f)
	}
}

// names reports whether a source of the host that is on names a file of keys.
func (s *standing) names(file string) bool {
	return slices.ContainsFunc(s.survey.Sources, func(x source.Source) bool { return x.Enabled && slices.Contains(x.Reads(), file) })
}

// belief is a key and for what it is believed.
type belief struct{ scope, place, fingerprint string }

func sortedKeys(m map[belief]*source.Key) []belief {
	return slices.SortedFunc(maps.Keys(m), func(a, b belief) int {
		return strings.Compare(a.place+a.scope+a.fingerprint, b.place+b.scope+b.fingerprint)
	})
}

// believed lists the keys of a survey that its package managers take.
func believed(v *source.Survey) map[belief]*source.Key {
	out := map[belief]*source.Key{}
	for i := range v.Keys {
		k := &v.Keys[i]
		if !k.Good() {
			continue
		}
		at := belief{k.Scope, k.Where, k.Fingerprint}
		if k.Scope == source.ScopeAny {
			at.place = place(k)
		}
		out[at] = k
	}
	return out
}
