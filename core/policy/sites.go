package policy

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// Site is a place with mirrors of its own, or behind a proxy. Definitions of repositories stay as they are; on
// the hosts of the site what is mirrored comes from there.
type Site struct {
	Name     string
	Pos      diag.Pos
	Title    string
	Mirrors  []SiteMirror // longest first
	Lists    []SiteMirror // of what a metalink or a list of mirrors gives
	FallBack bool         // what was upstream is tried where the mirror does not answer
	Proxy    *Text        // what its hosts go through to all that has no mirror there; nil for none
}

// SiteMirror is a mirror of all that stands below a URL, or of what a list of mirrors gives.
type SiteMirror struct {
	Of   Text
	At   Text
	List string // the key by which sections name the list, metalink or mirrorlist; empty for a mirror of a URL
}

// Mirror is the URL at which a site has what stands at another, and the line that says so;
// nil where it has no mirror of it. The longest beginning counts.
func (s *Site) Mirror(url string) (at string, by *SiteMirror) {
	for i := range s.Mirrors {
		m := &s.Mirrors[i]
		if at, fits := (source.Mirror{Of: m.Of.Value, At: m.At.Value}).Map(url); fits {
			return at, m
		}
	}
	return "", nil
}

// Pairs are the mirrors as sheets name them, the longest first.
func (s *Site) Pairs() []source.Mirror { return pairs(s.Mirrors) }

// ListPairs are those of lists, as sheets name them.
func (s *Site) ListPairs() []source.Mirror { return pairs(s.Lists) }

func pairs(list []SiteMirror) (out []source.Mirror) {
	for _, m := range list {
		out = append(out, source.Mirror{Of: m.Of.Value, At: m.At.Value, List: m.List})
	}
	return out
}

// Print is everything that the site says.
func (s *Site) Print() string {
	out := fmt.Sprintf("%q %t", s.Name, s.FallBack)
	for _, m := range slices.Concat(s.Mirrors, s.Lists) {
		out += fmt.Sprintf(" %q %q %s", m.Of.Value, m.At.Value, m.List)
	}
	if s.Proxy != nil {
		out += fmt.Sprintf(" proxy %q", s.Proxy.Value)
	}
	return out
}

func (l *loader) site(f field) {
	if !isNew(l, f, "site", l.policy.Sites, func(x *Site) diag.Pos { return x.Pos }) {
		return
	}
	s := &Site{Name: f.key, Pos: f.at}
	l.policy.Sites[f.key] = s
	for _, x := range l.mapping(f.node, fmt.Sprintf("the site %q", f.key), keysOf[siteForm]()...) {
		switch x.key {
		case "title":
			t, _ := l.text(x, "title")
			s.Title = t.Value
		case "fall-back":
			s.FallBack = l.boolean(x, x.key)
		case "proxy":
			if t, ok := l.text(x, "proxy"); ok {
				l.siteProxy(s, t)
			}
		case "mirrors":
			for _, m := range l.mapping(x.node, "mirrors") {
				if at, ok := l.text(m, "the mirror of "+m.key); ok {
					l.siteMirror(s, SiteMirror{Of: Text{m.key, m.at}, At: at})
				}
			}
		case "metalinks", "mirrorlists":
			for _, m := range l.mapping(x.node, x.key) {
				if at, ok := l.text(m, "what takes the place of "+m.key); ok {
					l.siteList(s, SiteMirror{Of: Text{m.key, m.at}, At: at, List: strings.TrimSuffix(x.key, "s")})
				}
			}
		}
	}
	if len(s.Mirrors)+len(s.Lists) == 0 && s.Proxy == nil {
		l.fail("missing", f.at, fmt.Sprintf("the site %q has neither mirrors nor a proxy", f.key),
			`add: mirrors: { "https://UPSTREAM/": "http://MIRROR/" }, or metalinks, mirrorlists, or proxy: http://HOST:PORT`)
	}
	slices.SortStableFunc(s.Mirrors, func(a, b SiteMirror) int { return len(b.Of.Value) - len(a.Of.Value) })
}

// siteProxy takes the address of a proxy: a name or number and a port, and no login, which would
// stand in clear in files that everybody reads.
func (l *loader) siteProxy(s *Site, t Text) {
	u, err := url.Parse(t.Value)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || !plainHost(u.Host):
		l.fail("value", t.Pos, "the proxy is not written as one", "write it as http://HOST:PORT")
	case u.User != nil:
		l.fail("secret", t.Pos, "the address of the proxy holds a login, which would stand in clear on every host",
			"let the proxy know its hosts by their addresses, and write http://HOST:PORT")
	case u.Path != "" && u.Path != "/" || u.RawQuery != "" || u.Fragment != "":
		l.fail("value", t.Pos, "the address of the proxy says more than where it stands", "write it as http://HOST:PORT")
	default:
		t.Value = u.Scheme + "://" + u.Host
		s.Proxy = &t
	}
}

// plainHost reports whether a host, and a port where there is one, are plainly that.
func plainHost(host string) bool {
	return strings.Trim(host, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.-:[]") == ""
}

func (l *loader) siteMirror(s *Site, m SiteMirror) {
	for _, t := range []Text{m.Of, m.At} {
		l.noSecret(t)
		told := family.MaskURL(t.Value)
		switch err := CheckURL(t.Value); {
		case err != nil:
			l.badURL(t, err, err.Error(), "write it as https://HOST/PATH/")
			return
		case strings.ContainsAny(t.Value, "?#$"):
			l.fail("value", t.Pos, fmt.Sprintf("%q is no beginning of a URL", told), "write scheme, host and path alone, as https://HOST/PATH/")
			return
		case !strings.HasSuffix(t.Value, "/"):
			l.fail("value", t.Pos, fmt.Sprintf("%q does not end in a slash, so it would fit other places too", told), "end it with /")
			return
		}
	}
	s.Mirrors = append(s.Mirrors, m)
}

// siteList takes what a site has in the place of a metalink or a list of mirrors.
func (l *loader) siteList(s *Site, m SiteMirror) {
	for _, t := range []Text{m.Of, m.At} {
		l.noSecret(t)
		switch err := CheckURL(t.Value); {
		case err != nil:
			l.badURL(t, err, err.Error(), "write it as it stands behind "+m.List+"= of the section, and the mirror as http://HOST/PATH/")
			return
		}
	}
	if strings.ContainsAny(m.At.Value, "?#") {
		l.fail("value", m.At.Pos, fmt.Sprintf("%q is no base URL", family.MaskURL(m.At.Value)),
			"write where the repodata folder stands, as http://HOST/PATH/$releasever/$basearch/")
		return
	}
	for _, x := range s.Lists {
		if _, fits := source.FitsVariables(x.Of.Value, m.Of.Value); fits && x.List == m.List {
			l.fail("value", m.Of.Pos, fmt.Sprintf("%s says already what takes the place of %q", x.Of.Pos, family.MaskURL(m.Of.Value)), "say it once")
			return
		}
	}
	s.Lists = append(s.Lists, m)
}

// siteReferences checks that sites that assignments name are there.
func (l *loader) siteReferences() {
	for _, a := range l.policy.Assignments {
		if a.Site != nil {
			resolveName(l, "site", *a.Site, l.policy.Sites)
		}
	}
	unused(l, "site", l.policy.Sites, func(s *Site) diag.Pos { return s.Pos })
}

// comparedPlaces says what plans and sites say.
func (p *Policy) comparedPlaces(add func(what string, pos diag.Pos) *element) {
	for name, x := range p.Plans {
		x.compared(add("plan "+name, x.Pos))
	}
	for name, x := range p.Sites {
		x.compared(add("site "+name, x.Pos))
	}
}

// compared says what a site says.
func (s *Site) compared(e *element) {
	e.say("title", s.Title)
	if s.FallBack {
		e.say("fall-back", "true")
	}
	e.text("proxy", s.Proxy)
	for _, m := range s.Mirrors {
		e.say("mirror of "+m.Of.Value, m.At.Value)
	}
	for _, m := range s.Lists {
		e.say("in the place of "+m.Of.Value, m.At.Value)
	}
}
