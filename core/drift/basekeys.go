package drift

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// keys compares which keys are believed.
func (s *standing) keys() {
	before, now := believed(s.was), believed(s.survey)
	wanted := map[string]bool{} // the policy's own
	for _, k := range s.sheet.Keys {
		wanted[k.Fingerprint] = true
	}
	expected := map[string]bool{} // the distribution's own, as the policy names them
	for i := range s.sheet.InPlace {
		for _, fingerprint := range s.sheet.InPlace[i].Keys {
			expected[fingerprint] = true
		}
	}
	anywhere := map[string]bool{} // believed by some source of the base
	for key := range before {
		anywhere[key.fingerprint] = true
	}
	for _, key := range without(now, before) {
		k := now[key]
		if s.owned[k.Where] || expected[k.Fingerprint] || k.Agents ||
			s.sheet.WithdrawnKey(k.Fingerprint) != nil {
			continue
		}
		f := Finding{Class: KeyAdded, Severity: Danger, Field: "key", File: k.Where, Have: k.Fingerprint, Stays: InDatabase(s.sheet.Family, k)}
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
	for _, key := range without(before, now) {
		k := before[key]
		if s.theirs[k.Where] || key.scope != source.ScopeAny && !s.names(k.Where) ||
			s.sheet.WithdrawnKey(k.Fingerprint) != nil || s.released(k) {
			continue
		}
		f := Finding{Class: MissingKey, Severity: Fault, Field: "key", File: k.Where, Want: k.Fingerprint, Stays: InDatabase(s.sheet.Family, k),
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

// released reports whether a key stood in a keyring for a repository that the policy gives the host no more, or was that
// of a keyring which stands there anew.
func (s *standing) released(k *source.Key) bool {
	of := func(sheet *source.Sheet) bool {
		return sheet != nil && slices.ContainsFunc(sheet.Keys, func(x source.SheetKey) bool { return x.Fingerprint == k.Fingerprint })
	}
	if k.Agents { // of a keyring that the agent had made, and made again
		return slices.ContainsFunc(s.survey.Keys, func(x source.Key) bool { return x.Agents })
	}
	return InDatabase(s.sheet.Family, k) && of(s.came) && !of(s.sheet)
}

// names reports whether a source of the host that is on names a file of keys.
func (s *standing) names(file string) bool { return fileNamed(s.survey, file) }

// fileNamed reports whether a source that is on names a file.
func fileNamed(survey *source.Survey, file string) bool {
	return slices.ContainsFunc(survey.Sources, func(x source.Source) bool { return x.Enabled && slices.Contains(x.Reads(), file) })
}

// belief is a key and for what it is believed.
type belief struct{ scope, place, fingerprint string }

// without returns what is believed by the first and not by the second, in an order that does not change.
func without(m, others map[belief]*source.Key) (out []belief) {
	for key := range m {
		if _, is := others[key]; !is {
			out = append(out, key)
		}
	}
	said := func(b belief) string { return b.place + b.scope + b.fingerprint }
	sort.Slice(out, func(i, j int) bool { return said(out[i]) < said(out[j]) })
	return out
}

// believed lists the keys of a survey that its package managers take.
func believed(v *source.Survey) map[belief]*source.Key {
	out := make(map[belief]*source.Key, len(v.Keys))
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
