package policy

import (
	"fmt"
	"strconv"

	"github.com/goccy/go-yaml/ast"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/source"
)

func (l *loader) group(f field) {
	if f.key == Everyone {
		l.fail("name", f.at, "the group everyone is there already, and holds every host", "choose another name")
		return
	}
	if !isNew(l, f, "group", l.policy.Groups, func(x *Group) diag.Pos { return x.Pos }) {
		return
	}
	g := &Group{Name: f.key, Pos: f.at}
	l.policy.Groups[f.key] = g
	errs := len(l.out)
	seen := map[string]bool{}
	for _, x := range l.mapping(f.node, fmt.Sprintf("the group %q", f.key), keysOf[groupForm]()...) {
		switch x.key {
		case "hosts":
			for _, t := range l.list(x, "hosts") {
				list, err := names.Expand(t.Value)
				if err != nil {
					l.fail("range", t.Pos, err.Error(), "write it as gw-{01..12}.brinewick.test")
					continue
				}
				for _, n := range list {
					if !seen[n] {
						seen[n] = true
						g.Hosts = append(g.Hosts, n)
					}
				}
			}
		case "where":
			g.Where = l.condition(x)
		case "groups":
			g.Of = l.list(x, "groups")
		case "except":
			g.Except = l.members(l.list(x, "except"))
		}
	}
	if g.Where == nil && len(g.Hosts) == 0 && len(g.Of) == 0 && len(l.out) == errs {
		l.fail(
			"missing",
			f.at,
			fmt.Sprintf("the group %q says neither hosts nor where nor groups", f.key),
			"add: hosts: [\"gw-{01..12}.brinewick.test\"]",
		)
	}
}

func (l *loader) assignment(n ast.Node) {
	a := &Assignment{Pos: l.pos(n), Settings: map[string]Setting{}}
	for _, x := range l.mapping(n, "an assignment", keysOf[assignmentForm]()...) {
		switch x.key {
		case "to", "over":
			if list := l.members(l.oneOrMany(x)); x.key == "to" {
				a.To = list
			} else {
				a.Over = list
			}
		case "repositories":
			a.Repositories = l.list(x, "repositories")
		case "channels":
			a.Channels = l.follows(x)
		case "seats":
			v := l.oneOf(x, "seats", SeatsByHand, SeatsAutomatic)
			a.Seats = &Text{v, x.at}
		case "without-contract":
			a.Without = l.decision(x)
		case "unlisted":
			v := l.oneOf(x, "unlisted", source.UnlistedReport, source.UnlistedSwitchOff, source.UnlistedRemove)
			a.Unlisted = &Text{v, x.at}
		case "findings":
			a.Findings = l.rules(x)
		case "read-logins":
			a.ReadLogins = &Text{strconv.FormatBool(l.boolean(x, x.key)), x.at}
		case "plan":
			if t, ok := l.text(x, "plan"); ok {
				a.Plan = &t
			}
		case "site":
			if t, ok := l.text(x, "site"); ok {
				a.Site = &t
			}
		case "settings":
			for _, s := range l.mapping(x.node, "settings") {
				if t, ok := l.text(s, fmt.Sprintf("the setting %q", s.key)); ok {
					l.noSecret(t)
					l.secretSetting(s.key, t)
					a.Settings[s.key] = Setting{t.Value, s.at}
				}
			}
		}
	}
	if len(a.To) == 0 {
		l.fail("missing", a.Pos, "the assignment does not say to whom", "add: to: everyone, or a group")
		return
	}
	l.policy.Assignments = append(l.policy.Assignments, a)
}
