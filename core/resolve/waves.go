package resolve

import (
	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/rollout"
)

// Plan is how a change is carried to the hosts.
func (res *Result) Plan() rollout.Plan {
	if p := res.resolver.policy.Plans[res.plan.waves]; p != nil {
		return p.Plan
	}
	return rollout.BuiltIn()
}

// PlanName is the name of Plan.
func (res *Result) PlanName() string {
	if p := res.resolver.policy.Plans[res.plan.waves]; p != nil {
		return p.Name
	}
	return rollout.BuiltInName
}

// In reports whether a host is in a group, with the labels that people and the policy give it.
func (r *Resolver) In(h Host, group string) bool {
	if group == policy.Everyone {
		return true
	}
	i, there := r.groupNumbers[group]
	if !there {
		return false
	}
	return r.memberOf(h)[i]
}

// Labels reports whether the policy gives a host labels.
func (r *Resolver) Labels(name string) bool { return len(r.policy.Labels[name]) > 0 }

// Labelled is a host with the labels that the policy gives it beside those that people gave.
func (r *Resolver) Labelled(h Host) Host {
	if said := r.policy.Labels[h.Name]; len(said) > 0 {
		h.label(said)
	}
	return h
}

// memberOf lists by number which groups a host is in.
func (r *Resolver) memberOf(h Host) []bool {
	if said := r.policy.Labels[h.Name]; len(said) > 0 {
		h.label(said)
	}
	c := r.class(&h, &condition.Facts{Host: h.Name, Labels: h.Labels, Traits: h.Traits})
	key := resultKey{c.id, r.byName[h.Name]}
	in, known := r.members[key]
	if !known {
		in, _ = r.member(c, r.marks[key.marks])
		r.members[key] = in
	}
	return in
}

// Groups are the groups that the policy defines, by name.
func (r *Resolver) Groups() (out []*policy.Group) {
	for _, g := range r.groups {
		if !g.Bare {
			out = append(out, g)
		}
	}
	return out
}

// GroupsOf names the groups that a host is in, with the labels that people and the policy give it.
func (r *Resolver) GroupsOf(h Host) (out []string) {
	for i, in := range r.memberOf(h) {
		if in && !r.groups[i].Bare {
			out = append(out, r.groups[i].Name)
		}
	}
	return out
}

// HasGroup reports whether the policy has a group of that name.
func (r *Resolver) HasGroup(name string) bool {
	if name == policy.Everyone {
		return true
	}
	_, there := r.groupNumbers[name]
	return there
}

// Label is the value of a label of a host, as people or the policy give it.
func (r *Resolver) Label(h Host, name string) string {
	if said, given := r.policy.Labels[h.Name][name]; given {
		return said.Value
	}
	return h.Labels[name]
}

// Rule is what is done about findings of a class on a host.
type Rule struct {
	Heal     bool
	Severity string // instead of its own; empty: its own
}

func (r *Resolver) rules(p *plan, h *Host, apply []int) {
	classes := map[string]bool{}
	for _, i := range apply {
		for class := range r.policy.Assignments[i].Findings {
			classes[class] = true
		}
	}
	for _, class := range sortedKeys(classes) {
		do := r.one(p, h, apply, "what is done about "+class, func(a *policy.Assignment) *policy.Text { return a.Findings[class].Do })
		weight := r.one(p, h, apply, "the severity of "+class, func(a *policy.Assignment) *policy.Text { return a.Findings[class].Severity })
		rule := Rule{Heal: do != nil && do.Value == policy.DoHeal}
		if weight != nil {
			rule.Severity = weight.Value
		}
		if p.rules == nil {
			p.rules = map[string]Rule{}
		}
		p.rules[class] = rule
	}
}
