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
}

// Map is the URL at which the mirror has what stands at another; false where it has it not.
func (m Mirror) Map(url string) (string, bool) {
	if m.List != "" {
		return url, false
	}
	return below(m.Of, m.At, url)
}

// AtMirror reports whether a URL is one of a mirror.
func AtMirror(list []Mirror, url string) bool {
	return slices.ContainsFunc(list, func(m Mirror) bool {
		if m.List != "" {
			_, fits := FitsVariables(m.At, url)
			return fits
		}
		_, there := below(m.At, m.At, url)
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
	for _, m := range list {
		if at, fits := m.Map(url); fits {
			return at, true
		}
	}
	return url, false
}

// Far is the URL of what a mirror has, which is none of the site's any more.
func Far(list []Mirror, url string) string {
	longest, out := 0, url
	for _, m := range list {
		if of, fits := below(m.At, m.Of, url); fits && m.List == "" && len(m.At) > longest {
			longest, out = len(m.At), of
		}
	}
	return out
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
