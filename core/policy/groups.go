package policy

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/names"
)

// labels reads the labels of the hosts that a name or range stands for.
func (l *loader) labels(f field) {
	list, err := names.Expand(f.key)
	if err != nil {
		l.fail("range", f.at, err.Error(), "write it as gw-{01..12}.brinewick.test")
		return
	}
	for _, x := range l.mapping(f.node, fmt.Sprintf("the labels of %q", f.key)) {
		t, ok := l.text(x, fmt.Sprintf("the label %q", x.key))
		if !ok {
			continue
		}
		for _, host := range list {
			all := l.policy.Labels[host]
			if all == nil {
				all = map[string]Text{}
				l.policy.Labels[host] = all
			}
			if old, twice := all[x.key]; twice && old.Value != t.Value {
				l.fail(
					"conflict",
					t.Pos,
					fmt.Sprintf("the label %s of %s is %q here and %q elsewhere", x.key, host, t.Value, old.Value),
					"keep one of them",
					old.Pos,
				)
				break
			}
			all[x.key] = t
		}
	}
}

// members makes a group of its own of each name of a host that stands where a group
// could. A host's name has a dot in it, a range has braces; a group's name has neither.
func (l *loader) members(list []Text) []Text {
	for _, t := range list {
		if !strings.ContainsAny(t.Value, ".{}") || l.policy.Groups[t.Value] != nil {
			continue
		}
		hosts, err := names.Expand(t.Value)
		if err != nil {
			l.fail("range", t.Pos, err.Error(), "write it as gw-{01..12}.brinewick.test")
		}
		l.policy.Groups[t.Value] = &Group{Name: t.Value, Pos: t.Pos, Hosts: hosts, Bare: true}
	}
	return list
}

// groupReferences checks that the groups that groups are made of lead somewhere, and
// not in a circle.
func (l *loader) groupReferences() {
	p := l.policy
	for _, name := range sortedNames(p.Groups) {
		g := p.Groups[name]
		for _, t := range slices.Concat(g.Of, g.Except) {
			resolveName(l, "group", t, p.Groups)
		}
	}
	state := map[string]int{} // 1: being looked at, 2: done
	var walk func(g *Group) bool
	walk = func(g *Group) bool {
		if g == nil || state[g.Name] == 2 {
			return true
		}
		if state[g.Name] == 1 {
			l.fail("cycle", g.Pos, fmt.Sprintf("the group %q is made of itself by way of others", g.Name), "take it out of one of them")
			return false
		}
		state[g.Name] = 1
		for _, t := range slices.Concat(g.Of, g.Except) {
			if !walk(p.Groups[t.Value]) {
				return false
			}
		}
		state[g.Name] = 2
		return true
	}
	for _, name := range sortedNames(p.Groups) {
		if !walk(p.Groups[name]) {
			return
		}
	}
}
