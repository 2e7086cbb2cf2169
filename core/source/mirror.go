package source

import (
	"slices"
	"strings"
	"unicode"
)

// Mirror is where a site has what stands at another place. Both are beginnings of URLs that
// end in a slash, but for that of a list.
type Mirror struct {
	Of string `json:"of"`
	At string `json:"at"`
	// List is the key of dnf's and zypper's sections under which the URL of a list of mirrors stands: metalink or
	// mirrorlist. Of is that URL then, and At the baseurl that takes its place, both as they are written, with variables.
	List string `json:"list,omitempty"`
	// Whole is true where At takes the place of Of alone, and of nothing below it: apt's own lists of mirrors.
	Whole bool `json:"whole,omitempty"`
	// Before is true where At stands in front of Of, which is tried where it does not answer.
	Before bool `json:"before,omitempty"`
}

// Map is the URL at which the mirror has what stands at another; false where it has it not.
func (m Mirror) Map(url string) (string, bool) {
	if m.List != "" || m.Whole && !alike(m.Of, url) {
		return url, false
	}
	return below(m.Of, m.At, url)
}

// back is the URL of which the mirror has what stands at another.
func (m Mirror) back(url string) (string, bool) {
	if m.List != "" || m.Whole && !alike(m.At, url) {
		return url, false
	}
	return below(m.At, m.Of, url)
}

// MirrorListAt is where apt finds what a list of mirrors on the host gives.
func MirrorListAt(file string) string { return "mirror+file:" + file + "/" }

// MirrorListOf is the file of such a list; false for any other URL.
func MirrorListOf(url string) (file string, list bool) {
	file, list = strings.CutPrefix(url, "mirror+file:")
	return strings.TrimSuffix(file, "/"), list
}

// alike reports whether two URLs are one, but for the last slash.
func alike(a, b string) bool { return strings.TrimSuffix(a, "/") == strings.TrimSuffix(b, "/") }

// AtMirror reports whether a URL is one of a mirror.
func AtMirror(list []Mirror, url string) bool {
	return slices.ContainsFunc(list, func(m Mirror) bool {
		if m.List != "" {
			_, fits := FitsVariables(m.At, url)
			return fits
		}
		_, there := m.back(url)
		return there
	})
}

// FitsVariables reports whether a URL is one with variables ($releasever, ${basearch}) once something is put in for each of
// them, and what. What is put in parts no URL: it holds none of "/?&#".
func FitsVariables(pattern, url string) (values map[string]string, fits bool) {
	names, literals := variables(pattern)
	rest, fits := strings.CutPrefix(url, literals[0])
	if !fits {
		return nil, false
	}
	values = make(map[string]string, len(names))
	for i, name := range names {
		literal := literals[i+1]
		segment := len(rest)
		if end := strings.IndexAny(rest, "/?&#"); end >= 0 {
			segment = end
		}
		at := 1 // of two that stand beside each other
		if literal != "" {
			at = strings.Index(rest[min(1, len(rest)):], literal) + 1
		}
		if i == len(names)-1 { // it takes all that is left
			at = len(rest) - len(literal)
		}
		if at < 1 || at > segment || !strings.HasPrefix(rest[at:], literal) {
			return nil, false
		}
		values[name] = rest[:at]
		rest = rest[at+len(literal):]
	}
	return values, rest == ""
}

// variables parts a URL with variables into their names and what stands between them.
func variables(pattern string) (names, literals []string) {
	word := func(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }
	literal := ""
	for {
		before, after, has := strings.Cut(pattern, "$")
		if !has {
			return names, append(literals, literal+pattern)
		}
		end := len(after) - len(strings.TrimLeftFunc(after, word))
		name, rest := after[:end], after[end:]
		if braced, inside := strings.CutPrefix(after, "{"); inside {
			if name, rest, has = strings.Cut(braced, "}"); !has || strings.TrimLeftFunc(name, word) != "" {
				name = ""
			}
		}
		if name == "" {
			literal, pattern = literal+before+"$", after
			continue
		}
		names, literals = append(names, name), append(literals, literal+before)
		literal, pattern = "", rest
	}
}

// Outside reports whether one of some URLs is of the network, and at none of the mirrors.
func Outside(list []Mirror, urls []string) bool {
	return slices.ContainsFunc(urls, func(u string) bool {
		scheme, _, _ := strings.Cut(u, "://")
		return (scheme == "http" || scheme == "https") && !AtMirror(list, u)
	})
}

// Near is the URL at which a site has what stands at another; had is false where it has no mirror
// of that. One that is a mirror of the site's already stays. The first that fits counts: the
// longest stands first.
func Near(list []Mirror, url string) (at string, had bool) {
	if AtMirror(list, url) {
		return url, true
	}
	at, m := first(list, url)
	return at, m != nil
}

// Mirrored is the URL at which a site's mirror itself has what stands at another, where a list of both takes its place.
func Mirrored(list []Mirror, url string) string {
	for _, m := range list {
		if at, fits := m.Map(url); fits && !m.Whole {
			return at
		}
	}
	return url
}

// first is the mirror that has what stands at a URL, and where; nil for none.
func first(list []Mirror, url string) (at string, by *Mirror) {
	for i := range list {
		if at, fits := list[i].Map(url); fits {
			return at, &list[i]
		}
	}
	return url, nil
}

// Far is the URL of what a mirror has, which is none of the site's any more.
func Far(list []Mirror, url string) string {
	longest, out := 0, url
	for _, m := range list {
		if of, fits := m.back(url); fits && len(m.At) > longest {
			longest, out = len(m.At), of
		}
	}
	return out
}

// Placed are the places that an entry comes from at a site which names some: for each of them those that take its place, the
// site's mirror in front where upstream stays behind it, none for a mirror whose upstream stands among them, and so has it in
// front again. near are the site's mirrors, away those of the sites that the entry may have been at before.
func Placed(near, away []Mirror, urls []string) [][]string {
	out := make([][]string, len(urls))
	for i, u := range urls {
		if !inFrontOf(near, u, urls) && !inFrontOf(away, u, urls) {
			out[i] = placed(near, away, u)
		}
	}
	return out
}

func placed(near, away []Mirror, url string) []string {
	there := AtMirror(near, url)
	far := Far(away, url)
	if there {
		far = Far(near, url)
	}
	switch at, by := first(near, far); {
	case by == nil && there:
		return []string{url}
	case by == nil:
		return []string{far}
	case by.Before:
		return []string{at, far}
	case there && !by.Whole:
		return []string{url}
	default:
		return []string{at}
	}
}

// inFrontOf reports whether a URL is a mirror that stands in front of what it mirrors, and that stands among some.
func inFrontOf(list []Mirror, url string, urls []string) bool {
	for _, m := range list {
		if _, there := m.back(url); !there || !m.Before {
			continue
		}
		for _, u := range urls {
			if at, fits := m.Map(u); fits && at == url && u != url {
				return true
			}
		}
	}
	return false
}

// below puts another beginning in the place of that of a URL. Without its last slash it is the
// place itself.
func below(from, to, url string) (string, bool) {
	if rest, fits := strings.CutPrefix(url, from); fits {
		return to + rest, true
	}
	if url+"/" == from {
		return strings.TrimSuffix(to, "/"), true
	}
	return url, false
}
