package source

import "strings"

// Mirror is where a site has what stands at another place. Both are beginnings of URLs that
// end in a slash.
type Mirror struct {
	Of string `json:"of"`
	At string `json:"at"`
}

// Near is the URL at which a site has what stands at another; had is false where it has no mirror
// of that. One that is a mirror of the site's already stays. The first that fits counts: the
// longest stands first.
func Near(list []Mirror, url string) (at string, had bool) {
	for _, m := range list {
		if _, there := below(m.At, m.At, url); there {
			return url, true
		}
	}
	for _, m := range list {
		if at, fits := below(m.Of, m.At, url); fits {
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
