package verdict

import (
	"slices"

	"patientlantern.example/lantern/core/source"
)

// baseURL is the key of dnf's and zypper's sections that names no list.
const baseURL = "baseurl"

// listed is where a section of the distribution's own that goes by a metalink or a list of mirrors comes from at the host's
// site, or where one that was taken to a site that is the host's no more came from: the key, and the URL as it is written.
// url is empty where all is right. One that names a base URL beside its list stays as it is: both of them count.
func listed(near, away []source.Mirror, s *source.Source) (key, url string) {
	if list, of := listOf(s); list != "" {
		if m := mirrorOf(near, list, of); m != nil {
			return baseURL, m.At
		}
		return "", ""
	}
	for _, m := range away {
		if m.List == "" || !cameBy(s, m) {
			continue
		}
		at := slices.IndexFunc(near, func(n source.Mirror) bool { return n.List == m.List && n.Of == m.Of })
		switch {
		case at < 0:
			return m.List, m.Of
		case near[at].At != m.At:
			return baseURL, near[at].At
		}
		return "", ""
	}
	return "", ""
}

// ListedUnder is what listed is, for a section that was written under another sheet.
func (c *Court) ListedUnder(sheet *source.Sheet, s *source.Source) (key, url string) {
	return listed(c.near, slices.Concat(c.away, mirrorsOf(sheet)), s)
}

// listOf is the list that a section goes by, and by nothing else.
func listOf(s *source.Source) (list, of string) {
	switch {
	case len(s.URLs) > 0 || s.Metalink != "" && s.Mirrorlist != "":
		return "", ""
	case s.Metalink != "":
		return "metalink", s.Metalink
	case s.Mirrorlist != "":
		return "mirrorlist", s.Mirrorlist
	}
	return "", ""
}

// mirrorOf is what a site has of a list; nil for nothing.
func mirrorOf(near []source.Mirror, list, of string) *source.Mirror {
	for i := range near {
		if _, fits := source.FitsVariables(near[i].Of, of); fits && near[i].List == list {
			return &near[i]
		}
	}
	return nil
}

// cameBy reports whether a section comes from a mirror in the place of its list.
func cameBy(s *source.Source, m source.Mirror) bool {
	return s.Metalink == "" && s.Mirrorlist == "" && len(s.URLs) == 1 && s.URLs[0] == m.At
}

// alikeLists makes sources of another time come from where those of today do, where the one goes by a list and the other by
// a site's mirror of the same: which of them is right is the rules' business. under is the sheet of then.
func (c *Court) alikeLists(list []source.Source, under *source.Sheet) {
	mirrors := slices.Concat(c.near, c.away, mirrorsOf(under))
	if !slices.ContainsFunc(mirrors, func(m source.Mirror) bool { return m.List != "" }) {
		return
	}
	for i := range list {
		was := &list[i]
		if was.ID == "" || was.Family != c.sheet.Family || !c.sheet.Rules(was.ID) && !c.before.Rules(was.ID) {
			continue
		}
		for n := range c.survey.Sources {
			if is := &c.survey.Sources[n]; is.ID == was.ID && is.File == was.File && oneList(mirrors, was, is) {
				was.URLs, was.EffURLs, was.Metalink, was.Mirrorlist = is.URLs, is.EffURLs, is.Metalink, is.Mirrorlist
			}
		}
	}
}

// oneList reports whether one of two sources goes by a list, and the other by a mirror of the same.
func oneList(mirrors []source.Mirror, a, b *source.Source) bool {
	list, of := listOf(a)
	if list == "" {
		a, b = b, a
		list, of = listOf(a)
	}
	if list == "" || len(b.EffURLs) == 0 {
		return false
	}
	return slices.ContainsFunc(mirrors, func(m source.Mirror) bool {
		if m.List != list || !cameBy(b, m) {
			return false
		}
		ofs, fits := source.FitsVariables(m.Of, of)
		ats, there := source.FitsVariables(m.At, WithoutProxy(b.EffURLs[0]))
		for name, value := range ats {
			if other, named := ofs[name]; named && other != value {
				return false // another release's, say
			}
		}
		return fits && there
	})
}
