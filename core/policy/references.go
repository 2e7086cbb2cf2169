package policy

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/names"
)

// references checks that names lead somewhere, and that definitions are used.
func (l *loader) references() {
	p := l.policy
	for _, r := range p.Repositories {
		for _, k := range r.Keys {
			resolveName(l, "key", k, p.Keys)
		}
		l.interpolations(r)
		if r.Needs != nil {
			for _, t := range r.Needs.Repositories {
				resolveName(l, "repository", t, p.Repositories)
			}
		}
	}
	for _, a := range p.Assignments {
		for _, list := range [][]Text{a.To, a.Over} {
			for _, g := range list {
				if g.Value != Everyone {
					resolveName(l, "group", g, p.Groups)
				}
			}
		}
		for _, r := range a.Repositories {
			resolveName(l, "repository", r, p.Repositories)
		}
		for key, s := range a.Settings {
			repo, setting, _ := strings.Cut(key, ".")
			r := p.Repositories[repo]
			if r == nil {
				l.fail(
					"unknown-name",
					s.Pos,
					fmt.Sprintf("the setting %q names no repository", key),
					"write it as REPOSITORY.SETTING"+hint(repo, p.Repositories),
				)
				continue
			}
			if _, ok := r.Settings[setting]; !ok && !r.spoilt {
				l.fail(
					"unknown-name",
					s.Pos,
					fmt.Sprintf("the repository %q has no setting %q", repo, setting),
					"give it a default under its settings first"+hint(setting, r.Settings),
				)
			}
		}
	}
	l.channelReferences()
	l.circles()
}

// unusedDefinitions names what nothing leads to.
func (l *loader) unusedDefinitions() {
	p := l.policy
	unused(l, "key", p.Keys, func(k *Key) diag.Pos { return k.Pos })
	unused(l, "repository", p.Repositories, func(r *Repository) diag.Pos { return r.Pos })
	named := maps.Clone(p.Groups) // ranges are groups that nobody defined
	maps.DeleteFunc(named, func(_ string, g *Group) bool { return g.Bare })
	unused(l, "group", named, func(g *Group) diag.Pos { return g.Pos })
}

// circles finds assignments that stand over themselves by way of others.
func (l *loader) circles() {
	list := l.policy.Assignments
	to := map[string][]int{} // group → assignments to it
	for i, a := range list {
		for _, t := range a.To {
			to[t.Value] = append(to[t.Value], i)
		}
	}
	const (
		open = 1
		done = 2
	)
	state := make([]int, len(list))
	var walk func(i int) bool
	walk = func(i int) bool {
		state[i] = open
		for _, g := range list[i].Over {
			for _, j := range to[g.Value] {
				if i == j || state[j] == done {
					continue
				}
				if state[j] == open {
					l.fail(
						"cycle",
						list[j].Over[0].Pos,
						fmt.Sprintf("the assignment at %s stands over itself by way of others, so neither wins", list[j].Pos),
						"take one over: out",
					)
					return false
				}
				if !walk(j) {
					return false
				}
			}
		}
		state[i] = done
		return true
	}
	for i := range list {
		if state[i] == 0 && !walk(i) {
			return
		}
	}
}

// mostHints bounds for how many names the nearest one is looked for.
const mostHints = 50

func hint[T any](name string, all map[string]T) string {
	list := make([]string, 0, len(all))
	for n := range all {
		list = append(list, n)
	}
	if near := names.Nearest(name, list); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

func resolveName[T any](l *loader, kind string, t Text, all map[string]T) {
	l.used[kind+" "+t.Value] = true
	if _, ok := all[t.Value]; !ok {
		near := ""
		if l.hints++; l.hints <= mostHints {
			near = hint(t.Value, all)
		}
		if kind == "group" && near == "" {
			near = "; a host without a dot in its name stands in a group: { hosts: [" + t.Value + "] }"
		}
		l.fail("unknown-name", t.Pos, fmt.Sprintf("there is no %s %q", kind, t.Value), "define it first"+near)
	}
}

func unused[T any](l *loader, kind string, all map[string]T, at func(T) diag.Pos) {
	for n, v := range all {
		if !l.used[kind+" "+n] {
			l.report("unused", diag.Warning, at(v), fmt.Sprintf("the %s %q is used nowhere", kind, n), "use it, or take it out")
		}
	}
}

// interpolations checks every ${name} of a repository.
func (l *loader) interpolations(r *Repository) {
	if r.spoilt {
		return // a key that is mistyped is one mistake, not one for each place that needs it
	}
	known := condition.Names()
	var settings []string
	for n := range r.Settings {
		settings = append(settings, n)
	}
	check := func(t Text) {
		for name, err := range Variables(t.Value) {
			if err != nil {
				l.fail("unknown-fact", t.Pos, fmt.Sprintf("%q: %v", t.Value, err), "write ${name}")
				return
			}
			if name == TokenName || name == MediaName && r.Media != nil || slices.Contains(known, name) ||
				slices.Contains(settings, name) ||
				strings.HasPrefix(name, "label.") ||
				strings.HasPrefix(name, "tools.") {
				continue
			}
			remedy := "give it under settings, or use one of " + strings.Join(known, ", ") + ", label.NAME"
			if near := names.Nearest(name, append(slices.Clone(known), settings...)); near != "" {
				remedy = fmt.Sprintf("did you mean ${%s}?", near)
			}
			l.fail("unknown-fact", t.Pos, fmt.Sprintf("${%s} is neither a setting of %q nor a fact", name, r.Name), remedy)
		}
	}
	for _, s := range r.Settings {
		check(s)
	}
	for t := range r.Texts {
		check(t)
	}
	for _, c := range r.Cases {
		for t := range c.Texts {
			check(t)
		}
	}
}
