package drift

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// match pairs sources of the base with those that stand in their place now; -1 where none
// does.
type match struct{ was, is []int }

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
	counts := s.counts
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
			[]string{x.Family, x.ID, s.urls(x), x.Mirrorlist, x.Metalink, strings.Join(x.EffSuites, " ")},
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
	most(s.urls)
	most(func(x *source.Source) string { return "any" })
	return m
}

// at are the places that a source comes from, or would at the host's site: a rule wants those.
func (s *standing) at(x *source.Source) []string {
	if !s.court.Sited() {
		return x.EffURLs
	}
	return slices.Concat(s.court.Places(x.EffURLs)...)
}

func (s *standing) urls(x *source.Source) string { return strings.Join(s.at(x), " ") }

// counts reports whether a source is none of the policy's own, then or now: what stands in
// its files is held against its sheet.
func (s *standing) counts(x *source.Source) bool {
	return s.court.Concerns(x.Family) && !s.theirs[x.File] && !s.remote(x)
}

// untouched pairs the sources of files of which no byte has changed, in their order.
func (s *standing) untouched(m match, counts func(*source.Source) bool) {
	same := make(map[string]bool, len(s.survey.Files))
	for _, f := range s.survey.Files {
		same[f.Path] = s.then[f.Path].Digest == f.Digest
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

// remotes compares what the sections of the policy's own remotes of flatpak say that the policy says nothing of, and leaves
// as it is: filters, proxies, certificates, a priority.
func (s *standing) remotes() {
	for i := range s.survey.Sources {
		is := &s.survey.Sources[i]
		want := verdict.Remote(s.sheet, is)
		j := slices.IndexFunc(s.was.Sources, func(x source.Source) bool { return x.Family == is.Family && x.ID == is.ID && x.File == is.File })
		if want == nil || j < 0 {
			continue
		}
		was, now := s.was.Sources[j], *is
		was.Options, now.Options = maps.Clone(was.Options), maps.Clone(now.Options)
		for _, options := range []map[string]string{was.Options, now.Options} {
			for _, given := range []string{"url", "gpgkeypath", "xa.prio"} { // told of as what they come to
				delete(options, given)
			}
		}
		fields := options(&was, &now, nil, s.survey.Settings)
		if want.Priority == nil && was.Priority != nil && is.Priority != nil && *was.Priority != *is.Priority {
			fields = append(fields, field{"priority", strconv.Itoa(*was.Priority), strconv.Itoa(*is.Priority), Fault})
		}
		if was.Metalink != is.Metalink {
			fields = append(fields, field{"list of mirrors", was.Metalink, is.Metalink, Danger})
		}
		if len(fields) == 0 {
			continue
		}
		f := Finding{Repository: want.Repository, File: is.File, Line: is.Line}
		f.Message = shortly(is) + " says something else than when the policy came: " + f.gather(fields)
		s.add(f)
	}
}

// remote reports whether a source is a remote of flatpak's that is the policy's own: those
// stand in a file that is not.
func (s *standing) remote(x *source.Source) bool {
	return verdict.Remote(s.sheet, x) != nil
}

// whole says everything that counts of a source.
func (s *standing) whole(x *source.Source, of *source.Survey) []string {
	return []string{
		strconv.FormatBool(x.Enabled),
		strings.Join(x.Components, " "),
		strings.Join(x.Kinds, " "),
		strings.Join(x.EffArchs, " "),
		strings.Join(verdict.Fingerprints(of, x), " "),
		fmt.Sprint(x.Checks),
		strings.Join(x.Weakened(nil), " "),
	}
}
