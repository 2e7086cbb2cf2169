package upstream

import (
	"encoding/json"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
)

// Place is where packages come from, as package managers ask for it. Hosts that ask alike
// have one place in common.
type Place struct {
	Family     string   `json:"family"`
	URLs       []string `json:"urls"`
	Mirrorlist string   `json:"mirrorlist,omitempty"`
	Metalink   string   `json:"metalink,omitempty"`
	Suite      string   `json:"suite,omitempty"`
	Components []string `json:"components,omitempty"`
	Archs      []string `json:"architectures,omitempty"`
	ID         string   `json:"id,omitempty" doc:"pacman only: the name of the database"`
}

// Key names a place: the same for all who ask alike.
func (p *Place) Key() string {
	b, err := json.Marshal(p)
	if err != nil { // of texts
		return ""
	}
	return source.Digest(b)[:16]
}

// Source is the place with what its signatures are held against.
func (p *Place) Source() *Source {
	return &Source{
		Family: p.Family, URLs: p.URLs, Mirrorlist: p.Mirrorlist, Metalink: p.Metalink, Suite: p.Suite, Components: p.Components,
		Archs: p.Archs, ID: p.ID,
	}
}

// Local reports whether a place is at hand on a host alone: nothing of it comes from elsewhere.
func (p *Place) Local() bool {
	for _, u := range p.URLs {
		if of, _, ok := strings.Cut(u, ":"); ok && (of == "http" || of == "https" || of == "ftp" || strings.HasPrefix(of, "mirror")) {
			return false
		}
	}
	return len(p.URLs) > 0 && p.Mirrorlist == "" && p.Metalink == ""
}

// Away says why a place cannot be looked at from elsewhere than a host; empty where it can.
func (p *Place) Away() string {
	secret, scheme := false, ""
	for _, u := range slices.Concat([]string{p.Mirrorlist, p.Metalink}, p.URLs) {
		of, _, ok := strings.Cut(u, ":")
		switch {
		case !ok:
		case of != "http" && of != "https":
			scheme = of
		case strings.Contains(u, "***") || strings.Contains(u, "$"):
			secret = true
		default:
			return ""
		}
	}
	switch {
	case secret:
		return "its address holds what only the host knows"
	case strings.HasPrefix(scheme, "mirror+http"), scheme == "mirror":
		return "it is a list of mirrors of apt's, which is not read (" + scheme + ":)"
	case scheme != "":
		return "it is at hand on the host alone (" + scheme + ":)"
	}
	return "it names no address"
}

// Address is what people call a place by.
func (p *Place) Address() string {
	for _, u := range append(slices.Clone(p.URLs), p.Metalink, p.Mirrorlist) {
		if u != "" {
			return u
		}
	}
	return ""
}

// places are where a source that is on gets packages from: one for each suite of apt's. lines gives those of a list of
// mirrors on the host, none where it is not known.
func places(s *source.Source, lines func(file string) []string) (out []Place) {
	if !s.Enabled {
		return nil
	}
	urls, list := s.Reached(lines)
	p := Place{Family: s.Family, Mirrorlist: open(list), Metalink: open(s.Metalink)}
	if s.Family == arch.Family {
		p.ID = s.ID
	}
	if s.Family != deb.Family {
		p.URLs = opened(asked(s.Family, urls))
		return []Place{p}
	}
	if !slices.Contains(s.Kinds, "binary") && !slices.Contains(s.Kinds, "both") {
		return nil
	}
	for _, u := range s.EffURLs {
		urls := source.ReachedBy(s.Family, u, lines)
		for _, suite := range s.EffSuites {
			q := Place{Family: s.Family, URLs: opened(urls), Suite: suite}
			if !strings.HasSuffix(suite, "/") {
				q.Components, q.Archs = slices.Sorted(slices.Values(s.Components)), slices.Clone(s.EffArchs)
			}
			out = append(out, q)
		}
	}
	return out
}

// asked are addresses as servers are asked for them: zypper's say to itself how it asks.
func asked(family string, urls []string) []string {
	if family != zypp.Family {
		return urls
	}
	out := make([]string, len(urls))
	for i, u := range urls {
		out[i] = zypp.Asked(u)
	}
	return out
}

// opened takes logins out of addresses: they are not what makes a place.
func opened(urls []string) []string {
	out := make([]string, len(urls))
	for i, u := range urls {
		out[i] = open(u)
	}
	return out
}

func open(u string) string {
	scheme, rest, ok := strings.Cut(u, "://")
	if !ok {
		return u
	}
	authority, path, slash := strings.Cut(rest, "/")
	if at := strings.LastIndexByte(authority, '@'); at >= 0 {
		authority = authority[at+1:]
	}
	if slash {
		authority += "/" + path
	}
	return scheme + "://" + authority
}
