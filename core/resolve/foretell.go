package resolve

import (
	"fmt"
	"slices"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/policy"
)

// followers are the hosts that follow a plan.
type followers struct {
	all     int
	without int      // have no value of the label that the plan spreads over
	some    []string // of those
}

// follows takes note of which plan a host follows, and of the label that it spreads over.
func (f *Fleet) follows(h Host, res *Result) {
	p := f.resolver.policy.Plans[res.plan.waves]
	if p == nil {
		return
	}
	x := f.follow[p.Name]
	if x == nil {
		x = &followers{}
		f.follow[p.Name] = x
	}
	x.all++
	if p.Label == nil || f.resolver.Label(h, p.Spread) != "" {
		return
	}
	if x.without++; len(x.some) < mostNamed {
		x.some = append(x.some, h.Name)
	}
}

// plans finds plans of which the fleet makes something else than they say: labels to spread
// over that hosts do not have, and waves that name no host there is.
func (f *Fleet) plans() (out []diag.Diagnostic) {
	for _, name := range sortedKeys(f.resolver.policy.Plans) {
		p, x := f.resolver.policy.Plans[name], f.follow[name]
		if x == nil {
			if !slices.ContainsFunc(
				f.resolver.policy.Assignments,
				func(a *policy.Assignment) bool { return a.Plan != nil && a.Plan.Value == name },
			) {
				continue // nobody gives it to anybody, which is told without a fleet as well
			}
			out = append(out, warning("empty-plan", p.Pos, fmt.Sprintf("no host of the fleet follows the plan %q", name),
				"give it with plan: to a group, or take it out"))
			continue
		}
		slices.Sort(x.some)
		switch {
		case x.without == 0:
		case x.without == x.all:
			out = append(out, warning("no-label", p.Label.Pos, fmt.Sprintf(
				"the plan %q spreads over the label %s, which none of the %d hosts has that follow it: they stand together in its waves",
				name,
				p.Spread,
				x.all,
			), "give them the label, or correct its name"))
		default:
			out = append(out, warning("no-label", p.Label.Pos, fmt.Sprintf(
				"the plan %q spreads over the label %s, which %d of the %d hosts that follow it do not have: %s",
				name, p.Spread, x.without, x.all, someOf(x.some, x.without)), "give them the label"))
		}
		for i, groups := range p.Groups {
			if len(groups) == 0 || i >= len(p.At) {
				continue
			}
			if !slices.ContainsFunc(groups, func(t policy.Text) bool { return f.mayBeIn(t.Value) }) {
				out = append(
					out,
					warning("empty-wave", p.At[i], fmt.Sprintf("no host of the fleet can be in wave %d of the plan %q", i+1, name),
						"correct the name or range, or enrol the host"),
				)
			}
		}
	}
	return out
}

// mayBeIn reports whether a host of the fleet may be in a group: one that is made by a
// condition, or of other groups, is not looked into.
func (f *Fleet) mayBeIn(group string) bool {
	if group == policy.Everyone {
		return true
	}
	g := f.resolver.policy.Groups[group]
	if g == nil {
		list, err := names.Expand(group)
		return err != nil || slices.ContainsFunc(list, func(h string) bool { return f.hosts[h] })
	}
	if g.Where != nil || len(g.Of) > 0 || len(g.Hosts) == 0 {
		return true
	}
	return slices.ContainsFunc(g.Hosts, func(h string) bool { return f.hosts[h] })
}
