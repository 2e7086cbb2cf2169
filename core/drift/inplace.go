package drift

import (
	"cmp"
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// inPlace tells what the rules about the distribution's own entries want otherwise.
func (c *comparer) inPlace() {
	for i := range c.verdicts {
		for _, d := range c.verdicts[i].Demands {
			c.demand(&c.survey.Sources[i], d)
		}
	}
	for _, g := range c.gaps {
		c.gap(g)
	}
}

// demand tells what one rule wants of one entry.
func (c *comparer) demand(s *source.Source, d verdict.Demand) {
	base := Finding{Severity: Fault, Repository: d.Rule.Repository, File: s.File, Line: s.Line}
	name := s.ID
	if len(d.Rule.Sections) == 0 {
		name = strings.Join(s.EffSuites, " ")
	}
	switch f := base; {
	case d.On:
		f.Class, f.Field, f.Want, f.Have = SwitchedOff, "enabled", "on", "off, by "+s.DisabledBy
		f.Message = name + " is switched off; the policy wants it on"
		c.add(f)
	case d.Off:
		f.Class, f.Field, f.Want, f.Have = SwitchedOn, "enabled", "off", "on"
		f.Message = name + " is switched on; the policy wants it off"
		c.add(f)
	}
	if d.URLs != nil {
		f := base
		f.Class, f.Field, f.Want, f.Have = ChangedSource, "URL", strings.Join(d.URLs, " "), strings.Join(s.URLs, " ")
		if d.Key != "" {
			f.Have = cmp.Or(f.Have, s.Metalink, s.Mirrorlist)
		}
		f.Message = fmt.Sprintf("comes from %s; with the host's site it is %s", f.Have, f.Want)
		if len(d.Rule.Mirrors) == 0 || !c.court.AtSite(d.URLs) {
			f.Message = fmt.Sprintf("comes from %s, a mirror of a site that is not the host's any more; upstream is %s", f.Have, f.Want)
		}
		c.add(f)
	}
	if d.Proxy != nil {
		f := base
		f.Class, f.Field, f.Want, f.Have = ChangedSource, "proxy", *d.Proxy, s.Options["proxy"]
		f.Message = fmt.Sprintf("goes through %s; the policy says %s", proxyNamed(f.Have), proxyNamed(f.Want))
		c.add(f)
	}
	if d.Components != nil {
		f := base
		f.Class, f.Field, f.Want, f.Have = ChangedSource, "components", strings.Join(d.Components, " "), strings.Join(s.Components, " ")
		f.Message = fmt.Sprintf("components: %s; the policy says %s", f.Have, f.Want)
		c.add(f)
	}
}

// gap tells of what a rule wants and no entry gives.
func (c *comparer) gap(g verdict.Gap) {
	if p := c.blindToSources(); p != nil {
		c.unsure(p, g.Rule.Repository, cmp.Or(g.Section, g.Suite))
		return
	}
	f := Finding{Class: MissingSource, Severity: Fault, Field: "source", Repository: g.Rule.Repository, Want: g.Suite}
	f.Message = fmt.Sprintf("no entry for %s stands on the host", g.Suite)
	if g.Section != "" {
		f.Want, f.Message = g.Section, fmt.Sprintf("no section [%s] stands on the host", g.Section)
	} else if len(g.Rule.Files) > 0 {
		f.File = g.Rule.Files[0]
	}
	f.Message += family.BroughtBy(c.sheet.Family, g.Rule.ComesBy)
	c.add(f)
}

// ruled is the repository whose rule accounts for a source of the survey; empty where none
// does.
func (c *comparer) ruled(i int) string {
	if v := &c.verdicts[i]; v.Kind == verdict.Ruled {
		return v.Repository
	}
	return ""
}

// proxyNamed names a proxy in a sentence.
func proxyNamed(proxy string) string {
	if proxy == "" {
		return "no proxy of its own"
	}
	return "the proxy " + proxy
}
