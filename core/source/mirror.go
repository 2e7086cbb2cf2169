package source

import (
	"slices"
	"strings"
)

// Mirror is where a site has what stands at another place. Both are beginnings of URLs that
// end in a slash.
type Mirror struct {
	Of string `json:"of"`
	At string `json:"at"`
}

// Map is the URL at which the mirror has what stands at another; false where it has it not.
func (m Mirror) Map(url string) (string, bool) { return below(m.Of, m.At, url) }

// AtMirror reports whether a URL is one of a mirror.
func AtMirror(list []Mirror, url string) bool {
	return slices.ContainsFunc(list, func(m Mirror) bool {
		_, there := below(m.At, m.At, url)
		return there
	})
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
		if of, fits := below(m.At, m.Of, url); fits && len(m.At) > longest {
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
