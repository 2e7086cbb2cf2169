package resolve

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/policy"
)

// class is what a set of hosts has in common for this policy.
type class struct {
	id    int
	facts []string // values of Resolver.reads, in that order
	holds []bool   // groups whose condition holds
	keys  map[int]string
	parts []*part         // by number of the repository, where no assignment changes anything about it
	known map[int]*Result // by marks
	bad   []diag.Diagnostic
}

// embeds says whether the host's apt takes keys inside its sources. It is no fact of the
// policy's language: of a version only that is looked at, so that a fleet with many
// versions does not come to as many sheets.
const embeds = "(embeds)"

// always are the facts that writing files looks at.
var always = []string{"family", embeds, "os.id"}

// collectReads notes every fact that a condition, an interpolation or the
// writing of files looks at.
func (r *Resolver) collectReads() {
	all := map[string]bool{}
	for _, f := range always {
		all[f] = true
	}
	for _, g := range r.groups {
		if g.Where != nil {
			for _, f := range g.Where.Reads {
				all[f] = true
			}
		}
	}
	assigned := map[string]bool{} // facts in settings that assignments give
	for _, a := range r.policy.Assignments {
		for key, s := range a.Settings {
			repo, setting, _ := strings.Cut(key, ".")
			if r.assigned[repo] == nil {
				r.assigned[repo] = map[string]bool{}
			}
			r.assigned[repo][setting] = true
			for name := range policy.Variables(s.Value) {
				assigned[name], all[name] = true, true
			}
		}
	}
	keys := keyPrints(r.policy)
	own := make([]map[string]bool, 0, len(r.policy.Repositories))
	for _, repo := range r.policy.Repositories {
		reads, print := inspect(repo, r.policy, keys)
		for f := range assigned {
			reads[f] = true
		}
		for f := range reads {
			all[f] = true
		}
		own = append(own, reads)
		r.bare = append(r.bare, bareRepository{Repository: repo, print: print})
	}
	for f := range all {
		r.reads = append(r.reads, f)
	}
	slices.Sort(r.reads)
	r.perHost = slices.Contains(r.reads, "host.name")
	for i := range r.bare {
		for n, f := range r.reads {
			if own[i][f] {
				r.bare[i].reads = append(r.bare[i].reads, n)
			}
		}
		r.numbers[r.bare[i].Name] = i
	}
}

// class finds what a host has in common with others.
func (r *Resolver) class(h *Host, f *condition.Facts) *class {
	key := h.Class
	if r.perHost {
		key += "\x00" + h.Name
	}
	if c, ok := r.classes[key]; ok {
		return c
	}
	facts := make([]string, len(r.reads))
	for i, name := range r.reads {
		facts[i] = fact(name, h, f)
	}
	projection := "\x01" + strings.Join(facts, "\x00")
	c, ok := r.classes[projection]
	if !ok {
		c = &class{id: len(r.classes), facts: facts, holds: make([]bool, len(r.groups)),
			keys: map[int]string{}, parts: make([]*part, len(r.bare)), known: map[int]*Result{}}
		for i, g := range r.groups {
			if g.Where == nil {
				continue
			}
			if name := unheard(g.Where, f); name != "" {
				c.bad = append(c.bad, trouble(HostFact, g.Pos,
					fmt.Sprintf("whether group %q is meant needs %s, which the host %s does not tell", g.Name, name, h.Name), seeRelease))
			}
			holds, err := g.Where.Holds(f)
			if err != nil {
				c.bad = append(
					c.bad,
					trouble(
						"expression",
						g.Pos,
						fmt.Sprintf("the condition of group %q fails on %s: %v", g.Name, h.Name, err),
						"ask has() first, or write it so that it holds for every host",
					),
				)
			}
			c.holds[i] = holds
		}
		r.classes[projection] = c
	}
	r.classes[key] = c
	return c
}

// fact is the text of a fact, an absent label told from an empty one.
func fact(name string, h *Host, f *condition.Facts) string {
	of, rest, _ := strings.Cut(name, ".")
	switch {
	case name == embeds:
		return strconv.FormatBool(deb.CanEmbed(h.Traits.Tools["apt"]))
	case rest == "*" && of == "label":
		return pairs(h.Labels)
	case rest == "*" && of == "tools":
		return pairs(h.Traits.Tools)
	case of == "label":
		if v, ok := h.Labels[rest]; ok {
			return "=" + v
		}
		return ""
	}
	v, _ := f.Get(name)
	return v
}

func pairs(m map[string]string) string {
	var b strings.Builder
	for _, k := range sortedKeys(m) {
		fmt.Fprintf(&b, "%q=%q,", k, m[k])
	}
	return b.String()
}

// Resolve returns what a host should have.
func (r *Resolver) Resolve(h Host) *Result {
	if !r.perHost && len(r.policy.Labels) == 0 { // most hosts are like one that was seen
		if c, ok := r.classes[h.Class]; ok {
			if res, ok := c.known[r.byName[h.Name]]; ok {
				return res
			}
		}
	}
	return r.first(h)
}

// first resolves a host that may be the first of its kind.
func (r *Resolver) first(h Host) *Result {
	var clash []diag.Diagnostic
	if said := r.policy.Labels[h.Name]; len(said) > 0 {
		clash = h.label(said)
	}
	f := condition.Facts{Host: h.Name, Labels: h.Labels, Traits: h.Traits}
	c := r.class(&h, &f)
	if len(clash) > 0 {
		c = &class{id: -1 - len(r.results), facts: c.facts, holds: c.holds, keys: map[int]string{}, parts: make([]*part, len(r.bare)),
			bad: append(clash, c.bad...)}
	}
	key := resultKey{c.id, r.byName[h.Name]}
	if res, ok := r.results[key]; ok {
		return res
	}
	res := r.compute(&h, &f, c, r.marks[key.marks])
	r.results[key] = res
	if len(clash) == 0 {
		c.known[key.marks] = res
	}
	return res
}

// label gives a host the labels that the policy says. Where people gave it others, the
// difference is trouble.
func (h *Host) label(said map[string]policy.Text) (bad []diag.Diagnostic) {
	labels := make(map[string]string, len(h.Labels)+len(said))
	for k, v := range h.Labels {
		labels[k] = v
	}
	for _, k := range sortedKeys(said) {
		if old, given := labels[k]; given && old != said[k].Value {
			bad = append(
				bad,
				trouble(
					"conflict",
					said[k].Pos,
					fmt.Sprintf("the label %s of %s is %q here, and people gave the host %q", k, h.Name, said[k].Value, old),
					"take one of them out: lantern host label "+h.Name+" "+k+"-",
				),
			)
		}
		labels[k] = said[k].Value
		h.Class += "\x02" + k + "=" + said[k].Value
	}
	h.Labels = labels
	return bad
}

// Distinct returns every distinct result so far.
func (r *Resolver) Distinct() []*Result {
	seen := map[*Result]bool{}
	var out []*Result
	for _, res := range r.results {
		if !seen[res] {
			seen[res] = true
			out = append(out, res)
		}
	}
	slices.SortFunc(out, func(a, b *Result) int { return strings.Compare(a.Example, b.Example) })
	return out
}

// member works out which groups a host is in, and whose media it holds.
func (r *Resolver) member(c *class, named string) (in []bool, held []string) {
	in = slices.Clone(c.holds)
	for n := range strings.SplitSeq(named, ",") {
		if i, err := strconv.Atoi(n); err == nil {
			in[i] = true
			continue
		}
		for _, x := range r.holders {
			if x.mark == n {
				held = append(held, x.repository)
			}
		}
	}
	if !r.made {
		return in, held
	}
	done := make([]bool, len(in))
	var settle func(i int) bool
	settle = func(i int) bool {
		if done[i] {
			return in[i]
		}
		done[i] = true // the loader refuses circles
		for _, t := range r.groups[i].Of {
			in[i] = settle(r.groupNumbers[t.Value]) || in[i]
		}
		for _, t := range r.groups[i].Except {
			if settle(r.groupNumbers[t.Value]) {
				in[i] = false
			}
		}
		return in[i]
	}
	for i := range in {
		settle(i)
	}
	return in, held
}
