package policy

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/series"
)

var choiceName = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,62}$`)

func (l *loader) contract(f field) {
	if !isNew(l, f, "contract", l.policy.Contracts, func(x *Contract) diag.Pos { return x.Pos }) {
		return
	}
	c := &Contract{Name: f.key, Pos: f.at, Account: Text{f.key, f.at}}
	l.policy.Contracts[f.key] = c
	for _, x := range l.mapping(f.node, fmt.Sprintf("the contract %q", f.key), keysOf[contractForm]()...) {
		switch x.key {
		case "title":
			t, _ := l.text(x, "title")
			c.Title = t.Value
		case "account":
			if t, ok := l.text(x, "account"); ok {
				if !nameForm.MatchString(t.Value) {
					l.fail(
						"name",
						t.Pos,
						fmt.Sprintf("account name %q is not allowed", t.Value),
						"use small letters, digits and -, at most 63",
					)
				}
				c.Account = t
			}
		case "numbers":
			c.Numbers = l.list(x, "numbers")
		}
	}
}

func (l *loader) channel(f field) {
	if !isNew(l, f, "channel", l.policy.Channels, func(x *Channel) diag.Pos { return x.Pos }) {
		return
	}
	c := &Channel{Name: f.key, Pos: f.at}
	l.policy.Channels[f.key] = c
	for _, x := range l.mapping(f.node, fmt.Sprintf("the channel %q", f.key)) {
		if x.key == "title" {
			t, _ := l.text(x, "title")
			c.Title = t.Value
			continue
		}
		if !choiceName.MatchString(x.key) {
			l.fail("name", x.at, fmt.Sprintf("choice name %q is not allowed", x.key), "use small letters, digits, dots and -, at most 63")
			continue
		}
		if choice := l.choice(c, x); choice != nil {
			c.Choices = append(c.Choices, choice)
		}
	}
	slices.SortFunc(c.Choices, func(a, b *Choice) int { return strings.Compare(a.Name, b.Name) })
	if len(c.Choices) == 0 {
		l.fail("missing", f.at, fmt.Sprintf("the channel %q has no choices", f.key), "add: open: { repository: NAME }")
	}
}

func (l *loader) choice(c *Channel, f field) *Choice {
	choice := &Choice{Name: f.key, Pos: f.at}
	var pinned Text
	for _, x := range l.mapping(f.node, fmt.Sprintf("the choice %q of the channel %q", f.key, c.Name), keysOf[choiceForm]()...) {
		t, ok := Text{}, false
		if x.key != "variants" && x.key != "hold" {
			if t, ok = l.text(x, x.key); !ok {
				continue
			}
		}
		switch x.key {
		case "repository":
			choice.Repository = t
		case "contract":
			choice.Contract = &t
		case "opens":
			choice.Opens = t
		case "pinned":
			choice.Pinned, pinned = t.Value, t
		case "hold":
			choice.Hold = l.list(x, "hold")
		case "variants":
			choice.Variants = map[string]Text{}
			for _, v := range l.mapping(x.node, "variants", keysOf[variantForm]()...) {
				if t, ok := l.text(v, v.key); ok {
					choice.Variants[v.key] = t
				}
			}
		}
	}
	if choice.Repository.Value == "" {
		l.fail("missing", f.at, fmt.Sprintf("the choice %q of the channel %q names no repository", f.key, c.Name), "add: repository: NAME")
		return nil
	}
	l.held(choice, pinned)
	if choice.Opens.Value == "" {
		choice.Opens = choice.Repository
	} else if choice.Contract == nil {
		l.fail(
			"value",
			choice.Opens.Pos,
			fmt.Sprintf("the choice %q of the channel %q says what a contract opens and names none", f.key, c.Name),
			"add: contract: NAME, or drop opens",
		)
	}
	return choice
}

// packageName is a package's plain name, as any of the families has them.
var packageName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9+._-]{0,127}$`)

// held checks what a choice holds at its pinned series.
func (l *loader) held(c *Choice, pinned Text) {
	for _, t := range c.Hold {
		if !packageName.MatchString(t.Value) {
			l.fail(
				"value",
				t.Pos,
				fmt.Sprintf("hold names %q, which is no plain name of a package", t.Value),
				"write each name in full, without patterns",
			)
		}
	}
	if len(c.Hold) == 0 {
		return
	}
	if pinned.Value == "" {
		l.fail(
			"missing",
			c.Hold[0].Pos,
			fmt.Sprintf("the choice %q holds packages, and nothing says at which version", c.Name),
			"add: pinned: \"1.44\"",
		)
		return
	}
	var err error
	if c.Series, err = series.Of(pinned.Value); err != nil {
		l.fail("value", pinned.Pos, "packages cannot be held there: "+err.Error(), "write pinned: \"1.44\"")
	}
}

// follows reads which choices an assignment follows: a name, or a mapping where
// variants are wanted as well.
func (l *loader) follows(f field) map[string]Follow {
	out := map[string]Follow{}
	for _, x := range l.mapping(f.node, "channels") {
		w := Follow{Pos: x.at}
		switch x.node.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
			for _, y := range l.mapping(x.node, fmt.Sprintf("the channel %q", x.key), keysOf[followForm]()...) {
				switch y.key {
				case "follow":
					w.Choice, _ = l.text(y, "follow")
				case "variants":
					w.Variants = l.list(y, "variants")
				}
			}
			if w.Choice.Value == "" {
				l.fail("missing", x.at, fmt.Sprintf("it is not said which choice of the channel %q is followed", x.key), "add: follow: NAME")
				continue
			}
		default:
			t, ok := l.text(x, fmt.Sprintf("the choice of the channel %q", x.key))
			if !ok {
				continue
			}
			w.Choice = t
		}
		out[x.key] = w
	}
	return out
}

func (l *loader) decision(f field) *Decision {
	d := &Decision{Pos: f.at}
	for _, x := range l.mapping(f.node, "without-contract", keysOf[decisionForm]()...) {
		t, ok := l.text(x, x.key)
		if !ok {
			continue
		}
		switch x.key {
		case "because":
			d.Because = strings.TrimSpace(t.Value)
		case "author":
			d.Author = strings.TrimSpace(t.Value)
		case "review":
			at, err := time.Parse(time.DateOnly, t.Value)
			if err != nil {
				l.fail("value", t.Pos, fmt.Sprintf("review is %q", t.Value), "write the day on which it is looked at again as 2027-03-31")
				return nil
			}
			d.Review = at
		}
	}
	if d.Because == "" || d.Author == "" || d.Review.IsZero() {
		l.fail(
			"no-reason",
			f.at,
			"a decision to run without a contract needs a reason, an author and a day of review",
			"write { because: \"…\", author: NAME, review: 2027-03-31 }",
		)
		return nil
	}
	return d
}

// channelReferences checks that channels, contracts and choices lead somewhere.
func (l *loader) channelReferences() {
	p := l.policy
	in := map[string]string{} // repository → channel that holds it
	for _, name := range sortedNames(p.Channels) {
		c := p.Channels[name]
		for _, choice := range c.Choices {
			list := []Text{choice.Repository}
			for _, v := range sortedNames(choice.Variants) {
				list = append(list, choice.Variants[v])
			}
			for _, t := range list {
				resolveName(l, "repository", t, p.Repositories)
				if r := p.Repositories[t.Value]; r != nil && r.InPlace {
					l.fail(
						"value",
						t.Pos,
						fmt.Sprintf("the repository %q is edited in place and cannot be a choice of a channel", t.Value),
						"give the channel a repository of its own",
					)
				}
				if other, twice := in[t.Value]; twice && (other != name || t != choice.Repository || !c.shares(choice)) {
					l.fail(
						"value",
						t.Pos,
						fmt.Sprintf("the repository %q stands in the channel %q already", t.Value, other),
						"a repository belongs to one choice of one channel; two choices of one channel share it where one says hold",
					)
				}
				in[t.Value] = name
			}
			if choice.Contract != nil {
				resolveName(l, "contract", *choice.Contract, p.Contracts)
				for _, t := range list {
					l.insistOnURL(p.Repositories[t.Value])
				}
			}
		}
	}
	for _, a := range p.Assignments {
		for _, r := range a.Repositories {
			if c := in[r.Value]; c != "" {
				l.fail(
					"value",
					r.Pos,
					fmt.Sprintf("the repository %q is a choice of the channel %q", r.Value, c),
					fmt.Sprintf("say which choice is followed: channels: { %s: … }", c),
				)
			}
		}
		licensed, open, unknown := false, false, false
		for _, name := range sortedNames(a.Channels) {
			f := a.Channels[name]
			l.used["channel "+name] = true
			c := p.Channels[name]
			if c == nil {
				l.fail("unknown-name", f.Pos, fmt.Sprintf("there is no channel %q", name), "define it first"+hint(name, p.Channels))
				unknown = true
				continue
			}
			choice := c.Choice(f.Choice.Value)
			if choice == nil {
				all := map[string]bool{}
				for _, x := range c.Choices {
					all[x.Name] = true
				}
				l.fail(
					"unknown-name",
					f.Choice.Pos,
					fmt.Sprintf("the channel %q has no choice %q", name, f.Choice.Value),
					"it has "+strings.Join(sortedNames(all), ", ")+hint(f.Choice.Value, all),
				)
				unknown = true
				continue
			}
			if choice.Contract != nil {
				licensed = true
			} else {
				open = true
			}
			for _, v := range f.Variants {
				if _, ok := choice.Variants[v.Value]; !ok {
					l.fail(
						"unknown-name",
						v.Pos,
						fmt.Sprintf("the choice %q of the channel %q has no variant %q", choice.Name, name, v.Value),
						"define it under variants"+hint(v.Value, choice.Variants),
					)
				}
			}
		}
		if unknown {
			continue
		}
		if a.Without != nil && licensed {
			l.fail(
				"value",
				a.Without.Pos,
				"the assignment runs without a contract and follows a choice that needs one",
				"follow an open choice, or drop without-contract",
			)
		} else if a.Without != nil && !open {
			l.fail(
				"value",
				a.Without.Pos,
				"the assignment runs without a contract and follows no channel",
				"say which open choice it follows: channels: { NAME: open }",
			)
		}
		if a.Seats != nil && !licensed {
			l.report(
				"unused",
				diag.Warning,
				a.Seats.Pos,
				"seats are spoken of and no choice of the assignment needs one",
				"drop seats, or follow a licensed choice here",
			)
		}
	}
	unused(l, "channel", p.Channels, func(c *Channel) diag.Pos { return c.Pos })
	unused(l, "contract", p.Contracts, func(c *Contract) diag.Pos { return c.Pos })
}

// shares reports whether a choice may have the repository of another of its channel: one of
// them holds packages of it at a series.
func (c *Channel) shares(choice *Choice) bool {
	return slices.ContainsFunc(c.Choices, func(x *Choice) bool {
		return x != choice && x.Repository.Value == choice.Repository.Value && (len(x.Hold) > 0 || len(choice.Hold) > 0)
	})
}

// insistOnURL wants it said that a login shall stand in a URL: everybody who sees
// what pacman does sees it.
func (l *loader) insistOnURL(r *Repository) {
	if r == nil {
		return
	}
	places := []*Place{r.Arch}
	for _, x := range r.Files {
		places = append(places, x.Arch)
	}
	for _, p := range places { // what cases come to is seen when hosts are resolved
		if p != nil && p.Access == nil {
			l.fail(
				"missing",
				p.Pos,
				fmt.Sprintf(
					"the repository %q is licensed, and pacman can log in by a login in the URL only, which its output shows",
					r.Name,
				),
				"say access: login-in-url to insist, or leave arch out",
			)
		}
	}
}

func sortedNames[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for n := range m {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}
