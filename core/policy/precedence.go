package policy

import (
	"fmt"
	"slices"

	"patientlantern.example/lantern/core/diag"
)

// precedence works out how many repositories stand below each.
func (l *loader) precedence() {
	p := l.policy
	type edge struct {
		upper, lower string
		raise        bool // it is the upper one that says so
		at           diag.Pos
	}
	var edges []edge
	for _, name := range sortedNames(p.Repositories) {
		r := p.Repositories[name]
		for i, t := range slices.Concat(r.Above, r.Below) {
			resolveName(l, "repository", t, p.Repositories)
			if p.Repositories[t.Value] == nil {
				continue
			}
			if i < len(r.Above) {
				edges = append(edges, edge{name, t.Value, true, t.Pos})
			} else {
				edges = append(edges, edge{t.Value, name, false, t.Pos})
			}
		}
	}
	for range len(p.Repositories) + 1 {
		settled := true
		for _, e := range edges {
			if p.Levels[e.upper] > p.Levels[e.lower] {
				continue
			}
			settled = false
			if e.raise {
				p.Levels[e.upper] = p.Levels[e.lower] + 1
			} else {
				p.Levels[e.lower] = p.Levels[e.upper] - 1
			}
		}
		if settled {
			return
		}
	}
	for _, e := range edges {
		if p.Levels[e.upper] <= p.Levels[e.lower] {
			l.fail(
				"cycle",
				e.at,
				fmt.Sprintf("the repository %q stands above %q and below it, by way of others", e.upper, e.lower),
				"take one above: or below: out",
			)
			return
		}
	}
	l.fail("cycle", edges[0].at, "repositories stand above each other in a circle", "take one above: or below: out")
}
