package policy

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/names"
)

// DefaultNotice is how long before a key ends it is spoken of.
const DefaultNotice = 30 * 24 * time.Hour

var (
	daysForm = regexp.MustCompile(`^([0-9]{1,5}) days?$`)
	sizeForm = regexp.MustCompile(`^([0-9]{1,9})(KiB|MiB|GiB|TiB)$`)
)

func (l *loader) notice(f field) {
	for _, x := range l.mapping(f.node, "notice", keysOf[noticeForm]()...) {
		t, ok := l.text(x, x.key)
		if !ok {
			continue
		}
		m := daysForm.FindStringSubmatch(t.Value)
		if m == nil {
			l.fail("value", t.Pos, fmt.Sprintf("the notice for keys is %q", t.Value), "write it as 60 days")
			continue
		}
		days, _ := strconv.Atoi(m[1]) // five digits
		if l.policy.Notice = time.Duration(days) * 24 * time.Hour; l.noticeAt.File != "" {
			l.fail("name-twice", t.Pos, "the notice for keys is given twice", "keep one of them", l.noticeAt)
		}
		l.noticeAt = t.Pos
	}
}

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

func (l *loader) media(f field) *Media {
	m := &Media{Pos: f.at}
	for _, x := range l.mapping(f.node, "media", keysOf[mediaForm]()...) {
		switch x.key {
		case "host":
			m.Host, _ = l.text(x, "host")
		case "path":
			m.Path, _ = l.text(x, "path")
			if p := m.Path.Value; p != "" && (!path.IsAbs(p) || path.Clean(p) != p || strings.ContainsAny(p, " \t\n,$")) {
				l.fail(
					"value",
					m.Path.Pos,
					fmt.Sprintf("the path of the media is %q", p),
					"write it from the root, without blanks, commas or a slash at its end: /srv/shelf",
				)
			}
		case "url":
			m.URL = l.url(x)
		}
	}
	if m.Host.Value == "" || m.Path.Value == "" {
		l.fail(
			"missing",
			f.at,
			"media needs the host that holds it and the path there",
			"add: host: desk-1.brinewick.test, path: /srv/shelf",
		)
		return nil
	}
	return m
}

func (l *loader) needs(f field, allowed ...string) *Needs {
	n := &Needs{Pos: f.at, Free: map[string]int64{}, Tools: map[string]Text{}}
	for _, x := range l.mapping(f.node, "needs", allowed...) {
		switch x.key {
		case "packages":
			n.Packages = l.words(x)
		case "repositories":
			n.Repositories = l.list(x, "repositories")
		case "free":
			for _, y := range l.mapping(x.node, "free") {
				t, ok := l.text(y, y.key)
				if !ok {
					continue
				}
				size, err := ParseSize(t.Value)
				if err != nil || !path.IsAbs(y.key) {
					l.fail("value", t.Pos, fmt.Sprintf("the free space of %q is %q", y.key, t.Value), "write it as /boot: 200MiB")
					continue
				}
				n.Free[path.Clean(y.key)] = size
			}
		case "tools":
			for _, y := range l.mapping(x.node, "tools") {
				if t, ok := l.text(y, y.key); ok {
					n.Tools[y.key] = t
				}
			}
		}
	}
	return n
}

// ParseSize reads an amount of space: 200MiB. It is in bytes.
func ParseSize(s string) (int64, error) {
	m := sizeForm.FindStringSubmatch(s)
	if m == nil {
		return 0, fmt.Errorf("%q is no amount of space", s)
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil {
		return 0, err
	}
	return n << (10 * (1 + strings.IndexByte("KMGT", m[2][0]))), nil
}

func (l *loader) witness(f field) *Witness {
	w := &Witness{Pos: f.at}
	for _, x := range l.mapping(f.node, "witness", keysOf[witnessForm]()...) {
		t, ok := l.text(x, x.key)
		switch {
		case !ok:
		case strings.ContainsAny(t.Value, " \t\n*?[]"):
			l.fail("value", t.Pos, fmt.Sprintf("%s is %q", x.key, t.Value), "write one word without blanks and patterns")
			return nil
		case x.key == "package":
			w.Package = t
		default:
			w.AtLeast = t
		}
	}
	if w.Package.Value == "" {
		l.fail("missing", f.at, "the witness names no package", "add: package: NAME")
		return nil
	}
	return w
}

// keyReferences checks which keys succeed which.
func (l *loader) keyReferences() {
	p := l.policy
	for _, name := range sortedNames(p.Keys) {
		k := p.Keys[name]
		if k.Succeeds == nil {
			continue
		}
		resolveName(l, "key", *k.Succeeds, p.Keys)
		seen := map[string]bool{}
		for x := k; x != nil && x.Succeeds != nil; x = p.Keys[x.Succeeds.Value] {
			if seen[x.Name] {
				l.fail("cycle", k.Succeeds.Pos, fmt.Sprintf("the key %q succeeds itself by way of others", name), "take one succeeds: out")
				return
			}
			seen[x.Name] = true
		}
	}
	for _, name := range sortedNames(p.Withdrawn) {
		w := p.Withdrawn[name]
		resolveName(l, "key", Text{name, w.Pos}, p.Keys)
	}
	for _, name := range sortedNames(p.Repositories) {
		r := p.Repositories[name]
		r.Trusts = l.believed(r)
	}
}

// trusted lists keys with those that succeed them.
func (l *loader) trusted(list []Text) []Text {
	out := slices.Clone(list)
	for i := 0; i < len(out); i++ {
		for _, name := range sortedNames(l.policy.Keys) {
			k := l.policy.Keys[name]
			if k.Succeeds != nil && k.Succeeds.Value == out[i].Value &&
				!slices.ContainsFunc(out, func(t Text) bool { return t.Value == name }) &&
				len(out) <= len(l.policy.Keys) {
				l.used["key "+name] = true
				out = append(out, Text{name, k.Pos})
			}
		}
	}
	return out
}
