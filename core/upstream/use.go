package upstream

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/trust"
)

// Use is how a host asks for a place.
type Use struct {
	Place
	Key    string   // of the place
	File   string   // where the source stands
	ID     string   // of its section
	Keys   []string // fingerprints that the host believes it by
	Checks string   // of its metadata: required, optional or off
	At     int      // index of the source in the survey
}

// Uses are the places of a survey.
func Uses(s *source.Survey) (out []Use) {
	believed := trust.Of(s)
	for i := range s.Sources {
		x := &s.Sources[i]
		for _, p := range Places(x) {
			out = append(out, Use{
				Place: p, Key: p.Key(), File: x.File, ID: x.ID, Keys: trust.Believed(believed, x), Checks: x.Checks.Metadata, At: i,
			})
		}
	}
	return out
}

// Of names the repository of a sheet that a use is of, and the contract that opens it; empty
// for a source that the policy says nothing of.
func (u *Use) Of(sheet *source.Sheet) (repository, contract string) {
	for i := range sheet.Sources {
		x := &sheet.Sources[i]
		family := x.Family
		if family == "" {
			family = sheet.Family
		}
		if family != u.Family || !x.Enabled {
			continue
		}
		if u.Family == deb.Family && slices.Contains(x.Suites, u.Suite) && meet(x.URLs, u.URLs) ||
			u.Family != deb.Family && x.ID == u.ID && (x.File == u.File || meet(x.URLs, u.URLs)) {
			return x.Repository, x.Contract
		}
	}
	for i := range sheet.InPlace {
		r := &sheet.InPlace[i]
		if u.Family != sheet.Family {
			continue
		}
		if len(r.Sections) > 0 && slices.Contains(r.Sections, u.ID) ||
			len(r.Sections) == 0 && slices.Contains(r.Suites, u.Suite) &&
				(meet(r.URLs, u.URLs) || len(r.URLs) == 0 && slices.Contains(r.Files, u.File)) {
			return r.Repository, ""
		}
	}
	return "", ""
}

// meet reports whether two lists have an address in common.
func meet(a, b []string) bool {
	return slices.ContainsFunc(a, func(u string) bool {
		return slices.ContainsFunc(b, func(v string) bool { return strings.TrimRight(open(u), "/") == strings.TrimRight(open(v), "/") })
	})
}
