package upstream

import (
	"cmp"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
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
func Uses(s *source.Survey) []Use { return UsesWith(s, trust.Of(s), (*Place).Key) }

// UsesWith is Uses for who knows which keys the survey has, and remembers those of places.
func UsesWith(s *source.Survey, believed []trust.Use, key func(*Place) string) (out []Use) {
	for i := range s.Sources {
		x := &s.Sources[i]
		for _, p := range places(x, s.MirrorLines) {
			out = append(out, Use{
				Place: p, Key: key(&p), File: x.File, ID: x.ID, Keys: trust.Believed(believed, x), Checks: x.Checks.Metadata, At: i,
			})
		}
	}
	return out
}

// Brought are the places that the sources of a sheet are got from on a host of some architectures,
// its own first. What is edited in the distribution's own entries is none of them: what those say
// beside stands on the host alone.
func Brought(sheet *source.Sheet, architectures []string) (out []Use) {
	for i := range sheet.Sources {
		out = append(out, BroughtBy(sheet, &sheet.Sources[i], architectures)...)
	}
	return out
}

// BroughtBy are the places of one source of a sheet.
func BroughtBy(sheet *source.Sheet, x *source.SheetSource, architectures []string) (out []Use) {
	src := source.Source{
		Family: cmp.Or(x.Family, sheet.Family), ID: x.ID, Enabled: x.Enabled && !x.IfThere, Kinds: x.Kinds, EffURLs: starred(x.URLs),
		EffSuites: x.Suites, Components: x.Components, EffArchs: x.Archs, Mirrorlist: x.Mirrorlist,
	}
	if len(x.Archs) == 0 {
		src.EffArchs = architectures
	}
	checks := source.CheckRequired
	switch {
	case x.Signatures != source.CheckRequired:
		checks = source.CheckOff
	case src.Family == arch.Family: // what is written for pacman asks for signed packages, and takes a database without
		checks = source.CheckOptional
	}
	for _, p := range places(&src, sheet.Lines) {
		out = append(out, Use{Place: p, Key: p.Key(), File: x.File, ID: x.ID, Keys: x.SignedBy, Checks: checks})
	}
	return out
}

// starred puts stars where an address holds a secret, as surveys do.
func starred(urls []string) []string {
	out := make([]string, len(urls))
	for i, u := range urls {
		parts := strings.Split(u, "/")
		for j := 3; j < len(parts); j++ { // behind the scheme and the server
			if strings.HasPrefix(parts[j], "$") {
				parts[j] = "***"
			}
		}
		out[i] = strings.Join(parts, "/")
	}
	return out
}

// Of names the repository of a sheet that a use is of, and the contract that opens it; empty
// for a source that the policy says nothing of.
func (u *Use) Of(sheet *source.Sheet) (repository, contract string) {
	repository, contract, _ = u.of(sheet)
	return repository, contract
}

// Own reports whether the place stands at an address that the sheet gives for its repository.
// Only there is access of the policy's given out: somebody may have edited the host's file.
func (u *Use) Own(sheet *source.Sheet) bool {
	_, _, own := u.of(sheet)
	return own
}

func (u *Use) of(sheet *source.Sheet) (repository, contract string, own bool) {
	for i := range sheet.Sources {
		x := &sheet.Sources[i]
		family := x.Family
		if family == "" {
			family = sheet.Family
		}
		if family != u.Family || !x.Enabled {
			continue
		}
		urls, list := sheet.Reached(x)
		urls = asked(family, urls)
		stands := meet(urls, u.URLs) || meet(asked(family, x.Upstream), u.URLs) // or did, before the site came
		if u.Family == deb.Family && slices.Contains(x.Suites, u.Suite) && stands ||
			u.Family != deb.Family && x.ID == u.ID && (x.File == u.File || stands) {
			return x.Repository, x.Contract, u.only(urls, list)
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
			return r.Repository, "", u.only(asked(u.Family, r.URLs), "")
		}
	}
	return "", "", false
}

// only reports whether a place stands at given addresses and at no other.
func (u *Use) only(urls []string, mirrorlist string) bool {
	if u.Metalink != "" || u.Mirrorlist != "" && u.Mirrorlist != mirrorlist {
		return false
	}
	for _, v := range u.URLs {
		if !meet(urls, []string{v}) {
			return false
		}
	}
	return len(u.URLs) > 0
}

// meet reports whether two lists have an address in common.
func meet(a, b []string) bool {
	return slices.ContainsFunc(a, func(u string) bool {
		return slices.ContainsFunc(b, func(v string) bool { return same(u, v) })
	})
}

// same reports whether two addresses are one: bare tells, and most need not be asked of it.
func same(u, v string) bool {
	switch {
	case u == v:
		return true
	case plain(u) && plain(v):
		return strings.TrimRight(u, "/") == strings.TrimRight(v, "/")
	}
	return bare(u) == bare(v)
}

// plain reports whether an address has nothing in it that may be a login or a secret.
func plain(u string) bool { return !strings.ContainsAny(u, "@*$?") }

// bare is an address without logins, and with a sign for the elements of its path that stand for
// a secret: a variable in a sheet, stars in a survey.
func bare(u string) string {
	parts := strings.Split(strings.TrimRight(open(u), "/"), "/")
	for i := 3; i < len(parts); i++ { // behind the scheme and the server
		if strings.Contains(parts[i], "***") || strings.HasPrefix(parts[i], "$") {
			parts[i] = "*"
		}
	}
	return strings.Join(parts, "/")
}
