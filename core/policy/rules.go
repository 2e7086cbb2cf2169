package policy

import (
	"fmt"
	"slices"

	"github.com/goccy/go-yaml/ast"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/names"
)

// rules reads what an assignment says of findings: a word for each class, or a mapping.
func (l *loader) rules(f field) map[string]Rule {
	out := map[string]Rule{}
	for _, x := range l.mapping(f.node, "findings") {
		if !slices.Contains(drift.Classes, x.key) {
			remedy := "docs/drift.md lists the classes"
			if near := names.Nearest(x.key, drift.Classes); near != "" {
				remedy = fmt.Sprintf("did you mean %q?", near)
			}
			l.fail("unknown-name", x.at, fmt.Sprintf("there is no class %q of findings", x.key), remedy)
			continue
		}
		r := Rule{Pos: x.at}
		word := func(y field, what string, values ...string) *Text {
			v := l.oneOf(y, what, values...)
			return &Text{v, l.pos(y.node)}
		}
		switch x.node.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
			for _, y := range l.mapping(x.node, fmt.Sprintf("the class %q", x.key), keysOf[ruleForm]()...) {
				if y.key == "do" {
					r.Do = word(y, "do", DoReport, DoHeal)
				} else {
					r.Severity = word(y, "severity", drift.Danger, drift.Fault, drift.Note)
				}
			}
		default:
			r.Do = word(x, x.key, DoReport, DoHeal)
		}
		out[x.key] = r
	}
	return out
}
