package verdict

import (
	"cmp"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

// Releases maps what tells the sources of a sheet apart, as its package manager
// does, to the sources: under the URLs that stand in a list of mirrors too, and under
// those of upstream whose place a site's mirror takes.
func Releases(sheet *source.Sheet) map[string]*source.SheetSource {
	return index(sheet, sheet.Sources)
}

func index(sheet *source.Sheet, sources []source.SheetSource) map[string]*source.SheetSource {
	out := map[string]*source.SheetSource{}
	note := func(s *source.SheetSource, id string, urls []string) {
		for _, key := range keysOf(cmp.Or(s.Family, sheet.Family), id, urls, s.Suites) {
			if old := out[key]; old == nil || old.IfThere {
				out[key] = s
			}
		}
	}
	for i := range sources {
		note(&sources[i], sources[i].ID, sources[i].URLs)
	}
	for i := range sources { // what stands in no file of its own counts after what does
		s := &sources[i]
		if urls, _ := sheet.Reached(s); len(s.Upstream) > 0 || !slices.Equal(urls, s.URLs) {
			note(s, "", slices.Concat(urls, s.Upstream))
		}
	}
	return out
}

func keysOf(family, id string, urls, suites []string) (out []string) {
	if family == deb.Family || family == "" {
		for _, u := range urls {
			for _, suite := range suites {
				out = append(out, deb.ReleaseKey(u, suite))
			}
		}
		return out
	}
	lead := ""
	if family == flatpak.Family { // its remotes have a place of their own
		lead = family + " "
	}
	if id != "" {
		out = append(out, lead+"id "+id)
	}
	for _, u := range urls {
		out = append(out, lead+"url "+strings.TrimRight(u, "/"))
	}
	return out
}

// Doubles returns the source of the sheet that a source defines again, or nil.
// releases comes from Releases.
func Doubles(s *source.Source, releases map[string]*source.SheetSource) *source.SheetSource {
	for _, key := range keysOf(s.Family, s.ID, s.EffURLs, s.EffSuites) {
		if of := releases[key]; of != nil {
			return of
		}
	}
	return nil
}

// Fingerprints lists the primary keys behind what a source says that it is signed by; of a
// file without a key that is believed, its name.
func Fingerprints(survey *source.Survey, x *source.Source) []string {
	var out []string
	for _, b := range x.SignedBy {
		name, local := source.LocalFile(x.Family, b)
		switch {
		case strings.HasPrefix(b, "embedded:"):
			out = append(out, strings.Split(strings.TrimPrefix(b, "embedded:"), ",")...)
		case local:
			found := false
			for _, k := range survey.Keys {
				if k.Where == name && k.Good() {
					out, found = append(out, k.Fingerprint), true
				}
			}
			if !found {
				out = append(out, b)
			}
		default:
			out = append(out, strings.TrimSuffix(b, "!"))
		}
	}
	return out
}
