package verdict

import (
	"maps"
	"slices"

	"patientlantern.example/lantern/core/source"
)

// mirrorsOf are the mirrors of the site that a sheet knows.
func mirrorsOf(sheet *source.Sheet) (out []source.Mirror) {
	if sheet == nil {
		return nil
	}
	for i := range sheet.InPlace {
		for _, m := range sheet.InPlace[i].Mirrors {
			if !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	return out
}

// Place is the URL from which an entry of the distribution's own comes that names another: that
// of the site's mirror where there is one, and of upstream where the site is none of the host's
// any more.
func (c *Court) Place(url string) string { return place(c.near, c.away, url) }

func place(near, away []source.Mirror, url string) string {
	if len(near) == 0 && len(away) == 0 {
		return url
	}
	at, had := source.Near(near, url)
	if !had {
		at, _ = source.Near(near, source.Far(away, url))
	}
	return at
}

// Sited reports whether the host's site, or the one that it had, has mirrors of the
// distribution's own entries.
func (c *Court) Sited() bool { return len(c.near)+len(c.away) > 0 }

// PlaceUnder is Place for what was written under another sheet.
func (c *Court) PlaceUnder(sheet *source.Sheet) func(url string) string {
	from := mirrorsOf(sheet)
	return func(url string) string {
		if at, had := source.Near(c.near, url); had {
			return at
		}
		return place(c.near, from, source.Far(c.away, url))
	}
}

// Placed is what a survey that was taken under another sheet would be now: entries of the
// distribution's own come from where the site of today has them. Nothing of the survey is changed.
func (c *Court) Placed(was *source.Survey, under *source.Sheet) *source.Survey {
	if !c.Sited() && len(mirrorsOf(under)) == 0 {
		return was
	}
	out := *was
	out.Sources = c.mapped(was.Sources, c.PlaceUnder(under))
	return &out
}

// placed are sources as they would be where they come from where the site has them.
func (c *Court) placed(list []source.Source) []source.Source {
	if !c.Sited() {
		return list
	}
	return c.mapped(list, c.Place)
}

func (c *Court) mapped(list []source.Source, to func(string) string) []source.Source {
	out := slices.Clone(list)
	for i := range out {
		if s := &out[i]; !c.owned[s.File] && s.Family == c.sheet.Family {
			s.URLs, s.EffURLs = each(s.URLs, to), each(s.EffURLs, to)
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
	return slices.ContainsFunc(urls, func(u string) bool {
		at, had := source.Near(c.near, u)
		return had && at == u
	})
}

// orphans adds what is demanded of entries that the sheet before took to a site's mirror, and of
// which no rule speaks any more: they come from upstream again.
func (c *Court) orphans(out []Verdict, sources []source.Source) {
	if len(c.away) == 0 || c.before == c.sheet {
		return
	}
	placed := c.placed(sources)
	for n := range c.before.InPlace {
		rule := &c.before.InPlace[n]
		if !rule.Enabled || len(rule.Mirrors) == 0 {
			continue
		}
		for i := range judge(rule, c.sheet.Family, placed, c.owned).covers {
			s := &sources[i]
			want := each(s.URLs, c.Place)
			if out[i].Kind != Ruled && len(out[i].Demands) == 0 && s.Enabled && !slices.Equal(want, s.URLs) {
				out[i].Demands = append(out[i].Demands, Demand{Rule: rule, URLs: want, source: i})
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

// moves adds what a rule demands of the places that entries come from.
func (c *Court) moves(j *judged, rule *source.InPlace, sources []source.Source) {
	if !c.Sited() || !rule.Enabled {
		return
	}
	for _, i := range slices.Sorted(maps.Keys(j.covers)) {
		s := &sources[i]
		at := slices.IndexFunc(j.demands, func(d Demand) bool { return d.source == i })
		want := each(s.URLs, c.Place)
		switch {
		case slices.Equal(want, s.URLs) || !s.Enabled && (at < 0 || !j.demands[at].On):
		case at < 0:
			j.demands = append(j.demands, Demand{Rule: rule, URLs: want, source: i})
		default:
			j.demands[at].URLs = want
		}
	}
}
