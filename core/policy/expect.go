package policy

import (
	"fmt"
	"slices"

	"github.com/goccy/go-yaml/ast"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
)

// Expectation is what a team expects that the policy comes to: for which hosts, and what must
// hold for each of them.
type Expectation struct {
	That   string
	Pos    diag.Pos
	To     []Text // groups, hosts or ranges; none for everyone
	Except []Text
	Where  *condition.Condition
	Host   *ExpectedHost // one that need not be there; nil where hosts of the fleet are meant

	On      []Text // repositories whose sources are on
	Off     []Text // that are kept, and off
	Absent  []Text // that the host does not have
	Order   []Text // repositories, each standing above the next
	Choices map[string]Text
	From    map[string]Text // package → the repository that a host without it would take it from
	Lines   []Text          // that stand in a file of the policy
	NoLines []Text          // that stand in none
	Signed  *Text           // every source of the policy is checked, and against named keys
}

// ExpectedHost is a host as an expectation describes it.
type ExpectedHost struct {
	Pos      diag.Pos
	Name     string
	Family   string
	ID       string
	Version  string
	Codename string
	Arch     string
	Level    int
	Labels   map[string]string
	Tools    map[string]string
}

func (l *loader) expectation(n ast.Node) {
	x := &Expectation{Pos: l.pos(n), Choices: map[string]Text{}, From: map[string]Text{}}
	for _, f := range l.mapping(n, "an expectation", keysOf[expectForm]()...) {
		switch f.key {
		case "that":
			t, _ := l.text(f, "that")
			x.That = t.Value
		case "to":
			x.To = l.members(l.oneOrMany(f))
		case "except":
			x.Except = l.members(l.oneOrMany(f))
		case "where":
			x.Where = l.condition(f)
		case "host":
			x.Host = l.expectedHost(f)
		case "on":
			x.On = l.oneOrMany(f)
		case "off":
			x.Off = l.oneOrMany(f)
		case "absent":
			x.Absent = l.oneOrMany(f)
		case "order":
			x.Order = l.list(f, "order")
		case "choices":
			for _, c := range l.mapping(f.node, "choices") {
				if t, ok := l.text(c, "the choice of "+c.key); ok {
					x.Choices[c.key] = Text{t.Value, c.at}
				}
			}
		case "from":
			for _, p := range l.mapping(f.node, "from") {
				if t, ok := l.text(p, "where "+p.key+" comes from"); ok {
					x.From[p.key] = Text{t.Value, p.at}
				}
			}
		case "lines":
			x.Lines = l.oneOrMany(f)
		case "no-lines":
			x.NoLines = l.oneOrMany(f)
		case "signed":
			if l.boolean(f, "signed") {
				x.Signed = &Text{"true", f.at}
			}
		}
	}
	switch {
	case x.That == "":
		l.fail("missing", x.Pos, "the expectation does not say what it is about", "add: that: …, a sentence for people")
	case x.Host != nil && len(x.To)+len(x.Except) > 0:
		l.fail("value", x.Pos, "the expectation names a host of its own and hosts of the fleet", "drop host, or to and except")
	case x.Host != nil && len(x.From) > 0:
		l.fail(
			"value",
			x.Pos,
			"where a package comes from is told of hosts of the fleet, and this expectation describes one that need not be there",
			"drop host, and say to or where",
		)
	case x.empty():
		l.fail("missing", x.Pos, fmt.Sprintf("the expectation %q expects nothing", x.That),
			"say on, off, absent, order, choices, from, lines or signed")
	}
	l.policy.Expectations = append(l.policy.Expectations, x)
}

func (x *Expectation) empty() bool {
	return len(x.On)+len(x.Off)+len(x.Absent)+len(x.Order)+len(x.Choices)+len(x.From)+len(x.Lines)+len(x.NoLines) == 0 &&
		x.Signed == nil
}

// oneOrMany reads a text, or a list of texts.
func (l *loader) oneOrMany(f field) []Text {
	if _, isList := f.node.(*ast.SequenceNode); isList {
		return l.list(f, f.key)
	}
	if t, ok := l.text(f, f.key); ok {
		return []Text{t}
	}
	return nil
}

func (l *loader) expectedHost(f field) *ExpectedHost {
	h := &ExpectedHost{Pos: f.at, Name: "host.expected.test", Arch: "x86_64", Labels: map[string]string{}, Tools: map[string]string{}}
	texts := map[string]*string{
		"name": &h.Name, "id": &h.ID, "version": &h.Version, "codename": &h.Codename, "arch": &h.Arch,
	}
	maps := map[string]map[string]string{"labels": h.Labels, "tools": h.Tools}
	for _, x := range l.mapping(f.node, "the host of an expectation", keysOf[expectedHostForm]()...) {
		switch {
		case texts[x.key] != nil:
			if t, ok := l.text(x, x.key); ok {
				*texts[x.key] = t.Value
			}
		case maps[x.key] != nil:
			for _, y := range l.mapping(x.node, x.key) {
				if t, ok := l.text(y, y.key); ok {
					maps[x.key][y.key] = t.Value
				}
			}
		case x.key == "family":
			h.Family = l.oneOf(x, "family", enumOf[expectedHostForm]("family")...)
		case x.key == "level":
			if n := l.number(x, "level"); n != nil {
				h.Level = *n
			}
		}
	}
	if h.Family == "" {
		l.fail("missing", f.at, "the host of the expectation has no family", "add: family: deb, rpm, zypp or arch")
	}
	return h
}

// expectReferences checks that expectations name what there is.
func (l *loader) expectReferences() {
	for _, x := range l.policy.Expectations {
		for _, t := range append(append([]Text{}, x.To...), x.Except...) {
			if t.Value != Everyone {
				l.there("group", t, l.policy.Groups[t.Value] != nil, sortedNames(l.policy.Groups))
			}
		}
		for _, list := range [][]Text{x.On, x.Off, x.Absent, x.Order} {
			for _, t := range list {
				l.there("repository", t, l.policy.Repositories[t.Value] != nil, sortedNames(l.policy.Repositories))
			}
		}
		for _, name := range sortedNames(x.From) {
			t := x.From[name]
			l.there("repository", t, l.policy.Repositories[t.Value] != nil, sortedNames(l.policy.Repositories))
		}
		for _, name := range sortedNames(x.Choices) {
			t := x.Choices[name]
			c := l.policy.Channels[name]
			l.there("channel", Text{name, t.Pos}, c != nil, sortedNames(l.policy.Channels))
			if c == nil {
				continue
			}
			var choices []string
			for i := range c.Choices {
				choices = append(choices, c.Choices[i].Name)
			}
			l.there("choice of "+name, t, slices.Contains(choices, t.Value), choices)
		}
	}
}

// there reports a name that is none. An expectation does not make what it names used.
func (l *loader) there(kind string, t Text, known bool, all []string) {
	if !known {
		l.fail("unknown-name", t.Pos, fmt.Sprintf("there is no %s %q", kind, t.Value), nearestKey(t.Value, all))
	}
}

// compared says what an expectation says.
func (x *Expectation) compared(e *element) {
	e.set("to", x.To)
	e.set("except", x.Except)
	e.say("where", where(x.Where))
	if h := x.Host; h != nil {
		e.say("host", fmt.Sprintf("%s %s %s %s %s %s %d %v %v",
			h.Name, h.Family, h.ID, h.Version, h.Codename, h.Arch, h.Level, h.Labels, h.Tools))
	}
	e.set("on", x.On)
	e.set("off", x.Off)
	e.set("absent", x.Absent)
	e.row("order", x.Order)
	for _, channel := range sortedNames(x.Choices) {
		e.say("choice of "+channel, x.Choices[channel].Value)
	}
	for _, name := range sortedNames(x.From) {
		e.say("where "+name+" comes from", x.From[name].Value)
	}
	e.set("lines", x.Lines)
	e.set("no-lines", x.NoLines)
	e.text("signed", x.Signed)
}
