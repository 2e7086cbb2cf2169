package resolve

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
)

// held says why packages of the repository stay at a series.
func (e *explained) held() []reason.Cause {
	f := e.res.plan.holds[e.repo.Name]
	if f == nil {
		return []reason.Cause{at("the repository "+e.repo.Name, e.repo.Pos)}
	}
	c := e.policy.Channels[f.Channel].Choice(f.Choice)
	return []reason.Cause{
		at(fmt.Sprintf("%s of the channel %s holds %s at %s", f.Choice, f.Channel, strings.Join(f.Hold, ", "), f.Pinned), c.Hold[0].Pos),
		at(f.Group+" follows it", f.At),
	}
}

// own is where the repository says something of itself.
func (e *explained) own(key string) diag.Pos {
	if pos, ok := e.repo.At[key]; ok {
		return pos
	}
	return e.repo.Pos
}

// ordered says why the repository stands where it does among others, or what its pin matches.
func (e *explained) ordered(aspect string, d *policy.Definition, place *policy.Place, isDeb bool) []reason.Cause {
	repo := e.repo
	var out []reason.Cause
	if isDeb && d.Deb.Priority != nil || place != nil && place.Priority != nil {
		out = append(out, at("a number of its own", e.own(e.host.Traits.Family)))
	}
	for _, t := range repo.Above {
		out = append(out, at("stands above "+t.Value, t.Pos))
	}
	for _, t := range repo.Below {
		out = append(out, at("stands below "+t.Value, t.Pos))
	}
	for _, name := range sortedKeys(e.policy.Repositories) {
		for _, t := range e.policy.Repositories[name].Above {
			if t.Value == repo.Name {
				out = append(out, at(name+" stands above it", t.Pos))
			}
		}
		for _, t := range e.policy.Repositories[name].Below {
			if t.Value == repo.Name {
				out = append(out, at(name+" stands below it", t.Pos))
			}
		}
	}
	if aspect == "pin" && isDeb && d.Deb.Pin != nil {
		out = append(out, e.text("pin", *d.Deb.Pin)...)
	}
	if aspect == "pin" && isDeb {
		for i := range d.Deb.Releases {
			for _, t := range d.Deb.Releases[i].Texts() {
				out = append(out, e.text("its Release file", *t)...)
			}
		}
	}
	return out
}

// sited says which site's mirror a line names.
func (e *explained) sited(line string) (out []reason.Cause) {
	if e.res.plan.site == nil {
		return nil
	}
	for _, m := range slices.Concat(e.res.plan.site.Mirrors, e.res.plan.site.Lists) {
		if strings.Contains(line, m.At.Value) {
			out = append(out, at("the site "+e.res.plan.site.Name+" has a mirror of "+m.Of.Value, m.At.Pos))
		}
	}
	return out
}

// proxied says whose proxy it is.
func (e *explained) proxied() []reason.Cause {
	site := e.res.plan.site
	if site == nil || site.Proxy == nil {
		return nil
	}
	return []reason.Cause{at("the site "+site.Name+" goes through a proxy, but to its own mirrors", site.Proxy.Pos)}
}
