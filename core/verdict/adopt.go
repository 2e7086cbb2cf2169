package verdict

import (
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

// Adoption is what stands on a host already, in files that are not the policy's, and is
// equal to what the sheet would write. It is left where it stands: written twice, the
// package manager would complain, or refuse to work where the two ever differ.
type Adoption struct {
	sheet   *source.Sheet
	survey  *source.Survey
	sources []*source.SheetSource
	files   map[string]bool
	owned   map[string]bool // files that are the policy's, or were
	leaving map[int]bool    // sources that a rule switches off or rewrites
}

// Adopt finds it. before is the sheet that was carried out last, or nil: what a change
// to the new one takes away or switches off is not there already.
func Adopt(sheet, before *source.Sheet, survey *source.Survey) *Adoption {
	return New(sheet, before, survey).Adopted
}

func adopt(sheet, before *source.Sheet, survey *source.Survey, owned map[string]bool, rules []judged) *Adoption {
	a := &Adoption{sheet: sheet, survey: survey, files: map[string]bool{}, leaving: map[int]bool{}}
	for _, r := range rules {
		for _, d := range r.demands {
			a.leaving[d.source] = a.leaving[d.source] || d.Off || d.Components != nil
		}
	}
	if before != nil && before != sheet {
		owned = maps.Clone(owned)
		for i := range before.Files {
			owned[before.Files[i].Path] = true
		}
	}
	a.owned = owned
	stands := map[string]bool{} // files that are on the host
	for _, f := range survey.Files {
		stands[f.Path] = true
	}
	for i := range survey.Sources {
		stands[survey.Sources[i].File] = true
	}
	standing := make([][]string, len(survey.Sources)) // what each of the host's sources gives, taken apart when it is asked for
	for i := range sheet.Sources {
		s := &sheet.Sources[i]
		if s.Family == flatpak.Family && s.Enabled && !s.IfThere {
			a.remote(s)
			continue
		}
		if !s.Enabled || s.IfThere || s.Contract != "" || s.While != "" || s.Family != "" || s.Level != 0 ||
			s.Priority != nil && sheet.Family == deb.Family ||
			stands[s.File] {
			continue
		}
		want := pieces(sheet.Family, s.URLs, s.Mirrorlist, s.Suites, s.Components, s.Kinds)
		found := map[string]bool{}
		equal := len(want) > 0
		for j := range survey.Sources {
			have := &survey.Sources[j]
			if !have.Enabled || owned[have.File] || have.Family != sheet.Family || a.leaving[j] {
				continue
			}
			if standing[j] == nil {
				standing[j] = pieces(have.Family, have.EffURLs, have.Mirrorlist, have.EffSuites, have.Components, have.Kinds)
			}
			its := standing[j]
			if !slices.ContainsFunc(its, func(p string) bool { return slices.Contains(want, p) }) {
				continue
			}
			for _, p := range its {
				found[p] = true
				equal = equal && slices.Contains(want, p)
			}
			equal = equal && a.trusted(s, have)
		}
		if equal && len(found) == len(want) {
			a.sources = append(a.sources, s)
			a.files[s.File] = true
		}
	}
	if len(a.sources) > 0 {
		a.spare()
	}
	return a
}

// spare finds the keys and mirrors of adopted sources alone, which need not be there either.
func (a *Adoption) spare() {
	sheet := a.sheet
	needed := map[string]bool{}
	for i := range sheet.Sources {
		if s := &sheet.Sources[i]; !a.files[s.File] {
			for _, fpr := range s.SignedBy {
				needed[fpr] = true
			}
			needed[s.Mirrorlist] = true
		}
	}
	if sheet.Family != arch.Family {
		for _, k := range sheet.Keys {
			if k.Path != "" && !needed[k.Fingerprint] {
				a.files[k.Path] = true
			}
		}
	}
	for _, s := range a.sources {
		if list := strings.TrimPrefix(s.Mirrorlist, "file://"); list != "" && !needed[s.Mirrorlist] {
			a.files[list] = true
		}
	}
}

// remote spares the key files of a remote that has the same keys by another way:
// flatpak's own is a keyring beside its configuration.
func (a *Adoption) remote(want *source.SheetSource) {
	for i := range a.survey.Sources {
		have := &a.survey.Sources[i]
		if have.Family != flatpak.Family || have.ID != want.ID || have.File != want.File ||
			!source.SameSet(want.SignedBy, Fingerprints(a.survey, have)) {
			continue
		}
		for _, k := range a.sheet.Keys {
			if slices.Contains(want.SignedBy, k.Fingerprint) && k.Path == flatpak.KeyPath(k.Name) &&
				!slices.Contains(have.SignedBy, k.Path) {
				a.files[k.Path] = true
			}
		}
	}
}

// Spares reports whether a file of the sheet need not be written.
func (a *Adoption) Spares(path string) bool { return a.files[path] }

// Covers reports whether a source of the host is one that is left where it stands.
func (a *Adoption) Covers(have *source.Source) bool { return a.coverer(have) != nil }

// coverer is the source of the sheet that one of the host stands for.
func (a *Adoption) coverer(have *source.Source) *source.SheetSource {
	if len(a.sources) == 0 || !have.Enabled || have.Family != a.sheet.Family || a.owned[have.File] {
		return nil
	}
	its := pieces(have.Family, have.EffURLs, have.Mirrorlist, have.EffSuites, have.Components, have.Kinds)
	for _, s := range a.sources {
		want := pieces(a.sheet.Family, s.URLs, s.Mirrorlist, s.Suites, s.Components, s.Kinds)
		if len(its) > 0 && !slices.ContainsFunc(its, func(p string) bool { return !slices.Contains(want, p) }) && a.trusted(s, have) {
			return s
		}
	}
	return nil
}

// usual is the priority of dnf and zypper where none is given.
const usual = 99

// trusted reports whether a source is trusted by the same keys, checked as strictly and
// restricted in no other way.
func (a *Adoption) trusted(want *source.SheetSource, have *source.Source) bool {
	strict := source.CheckRequired
	if want.Signatures == source.CheckOff {
		return false // what is unchecked is the policy's own to say
	}
	if have.ID != "" && have.ID != want.ID && slices.ContainsFunc(a.sheet.Sources, func(x source.SheetSource) bool {
		return x.ID == have.ID && x.Family == want.Family
	}) {
		return false // it has the name of another one of the policy's, which would be passed over
	}
	if have.Checks.Metadata != strict && have.Family != arch.Family || have.Family != deb.Family && have.Checks.Packages != strict {
		return false
	}
	if want.Priority != nil && (have.Priority == nil || *have.Priority != *want.Priority) ||
		want.Priority == nil && have.Priority != nil && *have.Priority != usual {
		return false
	}
	if have.Family == arch.Family {
		return true // its keyring is for all sources alike
	}
	return len(want.Archs) == len(have.Archs) && source.SameSet(want.Archs, have.Archs) &&
		source.SameSet(want.SignedBy, Fingerprints(a.survey, have))
}

// pieces takes a source apart into the smallest things that can be fetched.
func pieces(family string, urls []string, mirrorlist string, suites, components, kinds []string) (out []string) {
	if family != deb.Family {
		for _, u := range urls {
			out = append(out, "url "+strings.TrimRight(u, "/"))
		}
		if mirrorlist != "" {
			out = append(out, "list "+mirrorlist)
		}
		return out
	}
	if len(components) == 0 {
		components = []string{""}
	}
	for _, u := range urls {
		for _, s := range suites {
			for _, c := range components {
				for _, k := range kinds {
					out = append(out, strings.Join([]string{deb.ReleaseKey(u, s), c, k}, " "))
				}
			}
		}
	}
	return out
}
