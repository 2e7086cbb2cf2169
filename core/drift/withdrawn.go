package drift

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// KeyWithdrawn is the class of a key that the policy has taken away, and that a package manager
// believes all the same.
const KeyWithdrawn = "key-withdrawn"

// InDatabase reports whether a key stands where its package manager alone writes: rpm's keyring,
// pacman's.
func InDatabase(family string, k *source.Key) bool {
	if k.Scope != source.ScopeAny {
		return false
	}
	switch family {
	case rpm.Family, zypp.Family:
		return true
	case arch.Family:
		return strings.HasPrefix(path.Base(k.Where), "pubring.")
	}
	return false
}

// StillBelieved finds the keys that no host may believe any more and that this one does. owned are
// the files of the policy's own, and verdicts those of the survey's sources.
func StillBelieved(sheet *source.Sheet, survey *source.Survey, owned map[string]bool, verdicts []verdict.Verdict) (out []Finding) {
	if len(sheet.Withdrawn) == 0 {
		return nil
	}
	distributions := DistributionsKeys(survey, verdicts)
	for i := range survey.Keys {
		k := &survey.Keys[i]
		w := sheet.WithdrawnKey(k.Fingerprint)
		if w == nil || !k.Good() || k.Scope != source.ScopeAny && !keysNamed(survey, k.Where) {
			continue
		}
		f := Finding{Class: KeyWithdrawn, Severity: Danger, Field: "key", File: k.Where, Have: k.Fingerprint}
		whom := "for the sources that name this file"
		if k.Scope == source.ScopeAny {
			whom = "for every source"
		}
		name := w.Key
		if name != k.Fingerprint {
			name += " (" + k.Fingerprint + ")"
		}
		f.Message = fmt.Sprintf("the key %s is withdrawn (%s), and is believed here %s", name, w.Because, whom)
		stays := w.Stays || distributions[k.Fingerprint]
		inSource := slices.ContainsFunc(survey.Sources, func(s source.Source) bool { return s.File == k.Where })
		switch {
		case owned[k.Where]: // goes with what the policy says of its own files
		case stays:
			f.Stays = true
			f.Message += "; the distribution's own entries go by it, so it is not taken away"
		default:
			f.Stays = !InDatabase(sheet.Family, k) && (inSource || !strings.HasPrefix(k.Where, "/etc/"))
		}
		out = append(out, f)
	}
	return out
}

// DistributionsKeys are the keys that the distribution's own entries go by, as far as they name them or a package
// has brought them: without those a host would get no updates.
func DistributionsKeys(survey *source.Survey, verdicts []verdict.Verdict) map[string]bool {
	out := map[string]bool{}
	for i := range survey.Sources {
		if s := &survey.Sources[i]; s.Enabled && verdicts[i].Kind == verdict.Ruled {
			for _, fingerprint := range verdict.Fingerprints(survey, s) {
				out[fingerprint] = true
			}
		}
	}
	brought := map[string]bool{}
	for i := range survey.Files {
		brought[survey.Files[i].Path] = survey.Files[i].Package != ""
	}
	for i := range survey.Keys {
		out[survey.Keys[i].Fingerprint] = out[survey.Keys[i].Fingerprint] || brought[survey.Keys[i].Where]
	}
	return out
}

// keysNamed reports whether a source of the host that is on names a file of keys, or holds the key itself.
func keysNamed(survey *source.Survey, file string) bool {
	return fileNamed(survey, file) || slices.ContainsFunc(survey.Sources, func(x source.Source) bool { return x.Enabled && x.File == file })
}

// distrust tells of keys that are withdrawn.
func (c *comparer) distrust() {
	c.out = append(c.out, StillBelieved(c.sheet, c.survey, c.owned, c.verdicts)...)
}
