// Package preview says of a change what people should look at first.
package preview

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// Weakens lists what makes a host easier to attack than it is: checks that are switched
// off, keys that come to be trusted for everything, the distribution's own source
// switched off. What already stands so on the host is not named again.
func Weakens(sheet *source.Sheet, survey *source.Survey) (out []string) {
	releases := verdict.Releases(sheet)
	unchecked := map[string]bool{} // repositories that the host has unchecked already
	for i := range survey.Sources {
		s := &survey.Sources[i]
		if of := verdict.Doubles(s, releases); s.Enabled && of != nil && s.Checks.Metadata != source.CheckRequired &&
			s.Checks.Packages != source.CheckRequired {
			unchecked[of.Repository] = true
		}
	}
	seen := map[string]bool{}
	for i := range sheet.Sources {
		s := &sheet.Sources[i]
		if !s.Enabled || s.IfThere || s.Signatures != source.CheckOff || unchecked[s.Repository] || seen[s.Repository] {
			continue
		}
		seen[s.Repository] = true
		what := fmt.Sprintf("signatures of %s are not checked", s.Repository)
		if urls, _ := sheet.Reached(s); slices.ContainsFunc(urls, func(u string) bool { return strings.HasPrefix(u, "http://") }) {
			what += ", and it comes over http, which anybody on the way can change"
		}
		out = append(out, what)
	}
	for _, k := range sheet.Keys {
		if strings.HasPrefix(k.Path, arch.Dir+"/") &&
			!slices.ContainsFunc(
				survey.Keys,
				func(x source.Key) bool {
					return x.Fingerprint == k.Fingerprint && x.Scope == source.ScopeAny && x.Good()
				},
			) {
			out = append(out, fmt.Sprintf("the key %s comes to be trusted for every source: pacman knows no other way", k.Name))
		}
	}
	for _, rule := range sheet.InPlace {
		if !rule.Enabled {
			out = append(out, fmt.Sprintf("%s is switched off, so its updates do not come any more", rule.Repository))
		}
	}
	return append(out, takesOwn(sheet, survey)...)
}

// takesOwn names the distribution's own entries that unlisted: remove would take.
func takesOwn(sheet *source.Sheet, survey *source.Survey) (out []string) {
	own := map[string]bool{}
	for _, p := range deb.OwnFiles(survey.Traits.OS.ID) {
		own[p] = true
	}
	id := survey.Traits.OS.ID
	verdicts, _ := verdict.New(sheet, sheet, survey).Survey()
	for i := range survey.Sources {
		s, v := &survey.Sources[i], &verdicts[i]
		out = append(out, overHTTP(s, v)...)
		packaged := s.Owner != nil && *s.Owner != ""
		if v.Act != verdict.Remove || v.Of != nil || s.Family != sheet.Family ||
			!packaged && !own[s.File] && !(id != "" && strings.HasPrefix(s.ID, id)) {
			continue
		}
		what := strings.TrimSpace(strings.Join(append(slices.Clone(s.EffURLs), s.EffSuites...), " "))
		out = append(
			out,
			fmt.Sprintf(
				"%s:%d is the distribution's own (%s) and would be removed: unlisted: remove takes everything that the policy does not list; "+
					"list it with in-place: true",
				s.File,
				s.Line,
				what,
			),
		)
	}
	return out
}

// overHTTP names entries of which nobody checks the lists, and that would come over http from a
// site's mirror.
func overHTTP(s *source.Source, v *verdict.Verdict) (out []string) {
	begins := func(list []string, scheme string) bool {
		return slices.ContainsFunc(list, func(u string) bool { return strings.HasPrefix(u, scheme) })
	}
	for _, d := range v.Demands {
		came := append(slices.Clone(s.URLs), s.Metalink, s.Mirrorlist)
		goes := slices.Clone(d.URLs)
		for _, u := range d.URLs { // the mirror of a list stands among the others
			goes = append(goes, source.Mirrored(d.Rule.Mirrors, source.Far(d.Rule.Mirrors, u)))
		}
		if begins(came, "https://") && begins(goes, "http://") && s.Checks.Metadata != source.CheckRequired {
			out = append(out, fmt.Sprintf(
				"%s:%d would come over http from the site's mirror, and nobody checks the signature of its lists", s.File, s.Line))
		}
	}
	return out
}

// Overrides lists which repositories a change puts above others of the host: packages
// of the same name come from them then.
func Overrides(sheet *source.Sheet, edits []change.FileEdit) (out []string) {
	level := map[string]int{}
	var all []string
	note := func(repository string, n int) {
		if _, there := level[repository]; !there {
			all = append(all, repository)
			level[repository] = n
		}
	}
	for _, rule := range sheet.InPlace {
		note(rule.Repository, 0)
	}
	for i := range sheet.Sources {
		if s := &sheet.Sources[i]; s.Enabled && !s.IfThere {
			note(s.Repository, s.Level)
		}
	}
	slices.Sort(all)
	for _, name := range all {
		changes := slices.ContainsFunc(edits, func(e change.FileEdit) bool {
			return e.Action != change.Remove &&
				(slices.ContainsFunc(sheet.Files, func(f source.SheetFile) bool { return f.Path == e.Path && f.Repository == name }) ||
					e.Path == flatpak.Config &&
						slices.ContainsFunc(sheet.Sources, func(s source.SheetSource) bool { return s.Family != "" && s.Repository == name }))
		})
		var below []string
		for _, other := range all {
			if level[other] < level[name] {
				below = append(below, other)
			}
		}
		if changes && len(below) > 0 && level[name] > 0 {
			out = append(out, fmt.Sprintf("%s stands above %s: packages of the same name come from it", name, strings.Join(below, ", ")))
		}
	}
	return out
}
