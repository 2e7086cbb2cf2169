package verdict

import (
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// mirrorsOf are the mirrors of the site that a sheet knows, those of single URLs first.
func mirrorsOf(sheet *source.Sheet) (out []source.Mirror) {
	if sheet == nil {
		return nil
	}
	for _, whole := range []bool{true, false} {
		for i := range sheet.InPlace {
			for _, m := range sheet.InPlace[i].Mirrors {
				if m.Whole == whole && !slices.Contains(out, m) {
					out = append(out, m)
				}
			}
		}
	}
	return out
}

// Places are the places from which an entry of the distribution's own comes that names some, for each of them those that take
// its place: the site's mirror where there is one, and upstream where the site is none of the host's any more.
func (c *Court) Places(urls []string) [][]string { return source.Placed(c.near, c.away, urls) }

// at are they in one list.
func (c *Court) at(urls []string) []string {
	if !c.Sited() {
		return urls
	}
	return slices.Concat(c.Places(urls)...)
}

// Places are what takes the place of each of some URLs; none for one that goes.
type Places = func(urls []string) [][]string

// Sited reports whether the host's site, or the one that it had, has mirrors of the
// distribution's own entries.
func (c *Court) Sited() bool { return len(c.near)+len(c.away) > 0 }

// PlacesUnder are Places for what was written under another sheet.
func (c *Court) PlacesUnder(sheet *source.Sheet) Places {
	from := slices.Concat(c.away, mirrorsOf(sheet))
	return func(urls []string) [][]string { return source.Placed(c.near, from, urls) }
}

// Placed is what a survey that was taken under another sheet would be now: entries of the
// distribution's own come from where the site of today has them. Nothing of the survey is changed.
func (c *Court) Placed(was *source.Survey, under *source.Sheet) *source.Survey {
	if !c.Moved(under) {
		return was
	}
	out := *was
	out.Sources = c.mapped(was.Sources, c.PlacesUnder(under))
	c.alikeLists(out.Sources, under)
	for i := range out.Sources {
		if s := &out.Sources[i]; s.Options["proxy"] != "" && proxyOf(under, s.ID) == s.Options["proxy"] {
			s.Options = maps.Clone(s.Options)
			delete(s.Options, "proxy")
			s.EffURLs = each(s.EffURLs, WithoutProxy)
		}
	}
	return &out
}

// Moved reports whether entries of the distribution's own may come from elsewhere, or through
// something else, than they did under another sheet.
func (c *Court) Moved(under *source.Sheet) bool {
	return c.Sited() || len(c.proxies) > 0 || len(mirrorsOf(under)) > 0 || len(proxiesOf(under)) > 0 || len(proxiesOf(c.sheet)) > 0
}

// placed are sources as they would be where they come from where the site has them.
func (c *Court) placed(list []source.Source) []source.Source {
	if !c.Sited() {
		return list
	}
	return c.mapped(list, c.Places)
}

func (c *Court) mapped(list []source.Source, to Places) []source.Source {
	out := slices.Clone(list)
	for i := range out {
		if s := &out[i]; !c.owned[s.File] && s.Family == c.sheet.Family {
			s.URLs, s.EffURLs = slices.Concat(to(s.URLs)...), slices.Concat(to(s.EffURLs)...)
		}
	}
	return out
}

func each(list []string, to func(string) string) []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = to(x)
	}
	return out
}

// AtSite reports whether one of some URLs is a mirror of the host's site.
func (c *Court) AtSite(urls []string) bool {
	return slices.ContainsFunc(urls, func(u string) bool { return source.AtMirror(c.near, u) })
}

// orphans adds what is demanded of entries that the sheet before took to a site's mirror, or
// through its proxy, and of which no rule speaks any more: they are as they were upstream.
func (c *Court) orphans(out []Verdict, sources []source.Source) {
	if len(c.away)+len(c.proxies) == 0 || c.before == c.sheet {
		return
	}
	placed := c.placed(sources)
	for n := range c.before.InPlace {
		rule := &c.before.InPlace[n]
		if !rule.Enabled || len(rule.Mirrors) == 0 && rule.Proxy == "" {
			continue
		}
		for i := range judge(rule, c.sheet.Family, placed, c.owned).covers {
			if d := c.move(rule, &sources[i], ""); out[i].Kind != Ruled && len(out[i].Demands) == 0 && sources[i].Enabled && d != nil {
				out[i].Demands = append(out[i].Demands, *d)
			}
		}
	}
}

// Moves tells which of an apt file's sources come from the site: those that are on, and of which a
// rule speaks.
func (c *Court) Moves(sources []source.Source) []bool {
	out := make([]bool, len(sources))
	for n, j := range c.judged(sources) {
		for i := range j.covers {
			out[i] = out[i] || c.sheet.InPlace[n].Enabled && sources[i].Enabled
		}
	}
	return out
}

// moves adds what a rule demands of the places that entries come from, and of the way there.
func (c *Court) moves(j *judged, rule *source.InPlace, sources []source.Source) {
	if !c.Sited() && rule.Proxy == "" && len(c.proxies) == 0 || !rule.Enabled {
		return
	}
	for _, i := range slices.Sorted(maps.Keys(j.covers)) {
		at := slices.IndexFunc(j.demands, func(d Demand) bool { return d.source == i })
		d := c.move(rule, &sources[i], rule.Proxy)
		switch {
		case d == nil || !sources[i].Enabled && (at < 0 || !j.demands[at].On):
		case at < 0:
			d.source = i
			j.demands = append(j.demands, *d)
		default:
			j.demands[at].URLs, j.demands[at].Key, j.demands[at].Proxy = d.URLs, d.Key, d.Proxy
		}
	}
}

// move is what is demanded of where one source comes from; nil where it is right.
func (c *Court) move(rule *source.InPlace, s *source.Source, proxy string) *Demand {
	d := &Demand{Rule: rule}
	if want := c.at(s.URLs); !slices.Equal(want, s.URLs) {
		d.URLs = want
	}
	if key, url := listed(c.near, c.away, s); len(rule.Sections) > 0 && url != "" {
		d.Key, d.URLs = key, []string{url}
	}
	if len(rule.Sections) > 0 {
		have, want := s.Options["proxy"], c.through(proxy, s)
		if have != want && (want != "" || slices.Contains(c.proxies, have)) {
			d.Proxy = &want
		}
	}
	if d.URLs == nil && d.Proxy == nil {
		return nil
	}
	return d
}

// through is the proxy for a source; empty where all of it stands at the site, or is no place of
// the network.
func (c *Court) through(proxy string, s *source.Source) string {
	at := slices.Concat(c.at(s.URLs), []string{s.Mirrorlist, s.Metalink})
	if key, url := listed(c.near, c.away, s); url != "" && key == baseURL {
		at = []string{url}
	}
	if source.Outside(c.near, at) {
		return proxy
	}
	return ""
}

// Through is the proxy that a section of a copy would go through today; ours is false where what
// it has is its own, and stays. under is the sheet of which the copy is.
func (c *Court) Through(s *source.Source, under *source.Sheet) (proxy string, ours bool) {
	if want := c.through(proxyOf(c.sheet, s.ID), s); want != "" {
		return want, true
	}
	have := s.Options["proxy"]
	return "", have != "" && (slices.Contains(c.proxies, have) || proxyOf(under, s.ID) == have)
}

// Proxied reports whether it is the policy that says through what a section goes, or the one before that said
// what it has: what somebody wrote where the policy says nothing is judged as the rest of the section is.
func (c *Court) Proxied(s *source.Source) bool {
	if s.ID == "" || s.Family != c.sheet.Family {
		return false
	}
	_, ours := c.Through(s, c.before)
	return ours
}

// proxyOf is what a sheet says that a section goes through.
func proxyOf(sheet *source.Sheet, section string) string {
	if sheet != nil && section != "" {
		for i := range sheet.InPlace {
			if r := &sheet.InPlace[i]; r.Proxy != "" && r.Rules(section) {
				return r.Proxy
			}
		}
	}
	return ""
}

func proxiesOf(sheet *source.Sheet) (out []string) {
	if sheet != nil {
		for i := range sheet.InPlace {
			if p := sheet.InPlace[i].Proxy; p != "" && !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	return out
}

// WithoutProxy is the URL that zypper uses, but for the proxy that its section names.
func WithoutProxy(url string) string {
	base, query, has := strings.Cut(url, "?")
	if !has {
		return url
	}
	query, fragment, marked := strings.Cut(query, "#")
	parts := slices.DeleteFunc(strings.Split(query, "&"), func(p string) bool {
		return strings.HasPrefix(p, "proxy=") || p == "proxyport" || strings.HasPrefix(p, "proxyport=")
	})
	if len(parts) > 0 {
		base += "?" + strings.Join(parts, "&")
	}
	if marked {
		base += "#" + fragment
	}
	return base
}
