package resolve

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
)

// repository says how a repository stands to the host.
func (e *explainer) repository(name string) reason.RepositoryReason {
	out := reason.RepositoryReason{Name: name, State: reason.Absent, Above: []string{}, Causes: []reason.Cause{}}
	i := slices.Index(e.res.plan.repositories, name)
	repo := e.policy.Repositories[name]
	if i < 0 || e.res.plan.strange[name] != "" {
		out.Causes = e.absent(name)
		return out
	}
	x := e.res.parts[i]
	b := e.Resolver.because(e.res.plan, repo)
	for n, pos := range b.At {
		if n == 0 {
			out.Causes = append(out.Causes, at(b.Because, pos))
		}
	}
	if x.none {
		what := "but it says nothing about " + orUnknown(e.host.Traits.Family)
		if repo.Flat != nil && e.host.Traits.Tools[flatpak.Family] == "" {
			what += ", and this host has no flatpak"
		}
		out.Causes = append(out.Causes, at(what, repo.Pos))
		for n, c := range repo.Cases {
			if !slices.Contains(x.cases, n) {
				out.Causes = append(out.Causes, at("and a case of it does not hold: "+e.fails(c.Where), c.Pos))
			}
		}
		return out
	}
	out.State = e.state(e.res, name)
	for n, c := range repo.Cases {
		if slices.Contains(x.cases, n) {
			out.Causes = append(out.Causes, at("the case where "+c.Where.Text+" ("+strings.Join(c.Where.Read(e.facts), ", ")+")", c.Pos))
		} else {
			out.Causes = append(out.Causes, at("not the case where "+c.Where.Text+": "+e.fails(c.Where), c.Pos))
		}
	}
	for _, other := range e.res.plan.repositories {
		if e.policy.Levels[name] > e.policy.Levels[other] && out.State == reason.On && !e.res.plan.off[other] && e.res.has(other) {
			out.Above = append(out.Above, other)
		}
	}
	return out
}

// outside says why a host is not in a group. Many repositories are for one group, so it is
// worked out once.
func (e *explainer) outside(g *policy.Group, depth int) string {
	if depth > 0 {
		return e.outsideOf(g, depth)
	}
	text, ok := e.without[g]
	if !ok {
		text = e.outsideOf(g, 0)
		e.without[g] = text
	}
	return text
}

func (e *explainer) outsideOf(g *policy.Group, depth int) string {
	var why []string
	for _, t := range g.Except {
		if x := e.policy.Groups[t.Value]; x != nil && slices.Contains(x.Hosts, e.host.Name) {
			return fmt.Sprintf("the group %s leaves this host out by name", g.Name)
		} else if x != nil && x.Where != nil {
			if holds, err := x.Where.Holds(e.facts); err == nil && holds {
				return fmt.Sprintf("the group %s leaves out %s, which this host is in", g.Name, x.Name)
			}
		}
	}
	if g.Where != nil {
		why = append(why, e.fails(g.Where))
	}
	if len(g.Hosts) > 0 {
		text := fmt.Sprintf("names %d hosts, and this is none of them", len(g.Hosts))
		if near := names.Nearest(e.host.Name, g.Hosts); near != "" {
			text += fmt.Sprintf(" (%s is)", near)
		}
		why = append(why, text)
	}
	for _, t := range g.Of {
		if x := e.policy.Groups[t.Value]; x != nil && depth < 8 {
			why = append(why, e.outside(x, depth+1))
		}
	}
	return fmt.Sprintf("the group %s %s", g.Name, strings.Join(why, "; "))
}

// fails says which part of a condition does not hold, and what the host has instead.
func (e *explainer) fails(c *condition.Condition) string {
	for _, p := range e.compiler.Parts(c) {
		holds, err := p.Holds(e.facts)
		if err == nil && holds {
			continue
		}
		text := "needs " + p.Text
		if have := p.Read(e.facts); len(have) > 0 {
			text += ", this host has " + strings.Join(have, ", ")
		}
		return text
	}
	return "needs " + c.Text
}
