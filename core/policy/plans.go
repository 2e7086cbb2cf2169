package policy

import (
	"fmt"
	"regexp"
	"strconv"
	"time"

	"github.com/goccy/go-yaml/ast"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/rollout"
)

// Plan is how a change is carried to the hosts that follow it.
type Plan struct {
	rollout.Plan
	Pos    diag.Pos
	Label  *Text    // that it spreads over
	Groups [][]Text // by wave
	At     []diag.Pos
}

var (
	whileForm = regexp.MustCompile(`^([0-9]{1,5}) (second|minute|hour|day)s?$`)
	shareForm = regexp.MustCompile(`^([0-9]{1,3}) ?%$`)
	limitForm = regexp.MustCompile(`^([0-9]{1,7})( ?%)?$`)
	clockForm = regexp.MustCompile(`^([01][0-9]|2[0-4]):([0-5][0-9])$`)
)

var units = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour}

func (l *loader) plan(f field) {
	if !isNew(l, f, "plan", l.policy.Plans, func(x *Plan) diag.Pos { return x.Pos }) {
		return
	}
	if f.key == rollout.BuiltInName {
		l.fail("name", f.at, "the plan built-in is there already, for hosts that no plan is given", "choose another name")
		return
	}
	p := &Plan{Pos: f.at, Plan: rollout.Plan{Name: f.key, Limits: rollout.BuiltIn().Limits}}
	l.policy.Plans[f.key] = p
	var soak time.Duration
	for _, x := range l.mapping(f.node, fmt.Sprintf("the plan %q", f.key), keysOf[planForm]()...) {
		switch x.key {
		case "spread":
			if t, ok := l.text(x, "spread"); ok {
				p.Label, p.Spread = &t, t.Value
			}
		case "soak":
			soak = l.while(x, "soak")
		case "quiet":
			p.Quiet = l.quiet(x)
		case "limits":
			l.limits(p, x)
		case "waves":
			seq, ok := x.node.(*ast.SequenceNode)
			if !ok {
				l.fail("value", l.pos(x.node), "waves must be a list", "begin each wave with: - to:, - hosts:, - share: or - rest:")
				continue
			}
			for _, n := range seq.Values {
				l.wave(p, n)
			}
		}
	}
	if len(p.Waves) == 0 {
		l.fail("missing", f.at, fmt.Sprintf("the plan %q has no waves", f.key), "add: waves: [{ hosts: 1 }, { rest: true }]")
	}
	for i := range p.Waves {
		if p.Waves[i].Soak < 0 {
			p.Waves[i].Soak = soak
		}
	}
}

// wave reads one wave. Its Soak is below zero where it says none of its own.
func (l *loader) wave(p *Plan, n ast.Node) {
	w := rollout.Wave{Soak: -1}
	at := l.pos(n)
	var groups []Text
	ways := 0
	for _, x := range l.mapping(n, "a wave", keysOf[waveForm]()...) {
		switch x.key {
		case "to":
			groups = l.members(l.oneOrMany(x))
			for _, g := range groups {
				w.To = append(w.To, g.Value)
			}
			ways++
		case "hosts":
			w.Hosts = l.count(x, "hosts", 10_000_000)
			ways++
		case "share":
			if t, ok := l.text(x, "share"); ok {
				w.Share = l.matched(t, "share", shareForm, 1, 100, "write it as 10 %")
			}
			ways++
		case "rest":
			if w.Rest = l.boolean(x, "rest"); w.Rest {
				ways++
			}
		case "soak":
			w.Soak = l.while(x, "soak")
		case "consent":
			w.Consent = l.boolean(x, "consent")
		}
	}
	switch last := len(p.Waves) - 1; {
	case ways != 1:
		l.fail("value", at, "a wave says in one way who is in it", "give it one of: to, hosts, share, rest: true")
	case last >= 0 && p.Waves[last].Rest:
		l.fail("value", at, "this wave can never fill: the one before it takes the rest", "put rest: true last")
	}
	p.Waves, p.Groups, p.At = append(p.Waves, w), append(p.Groups, groups), append(p.At, at)
}

// count reads a whole number from 1 on.
func (l *loader) count(f field, what string, most int) int {
	t, ok := l.text(f, what)
	if !ok {
		return 0
	}
	n, err := strconv.Atoi(t.Value)
	if err != nil || n < 1 || n > most {
		l.fail("value", t.Pos, fmt.Sprintf("%s is %q", what, t.Value), fmt.Sprintf("it must be a whole number from 1 to %d", most))
	}
	return n
}

// matched reads the number in a text of a form.
func (l *loader) matched(t Text, what string, form *regexp.Regexp, least, most int, remedy string) int {
	m := form.FindStringSubmatch(t.Value)
	if m == nil {
		l.fail("value", t.Pos, fmt.Sprintf("%s is %q", what, t.Value), remedy)
		return 0
	}
	n, _ := strconv.Atoi(m[1]) // a few digits
	if n < least || n > most {
		l.fail("value", t.Pos, fmt.Sprintf("%s is %q", what, t.Value), fmt.Sprintf("it must be from %d to %d", least, most))
	}
	return n
}

func (l *loader) while(f field, what string) time.Duration {
	t, ok := l.text(f, what)
	if !ok {
		return 0
	}
	m := whileForm.FindStringSubmatch(t.Value)
	if m == nil {
		l.fail("value", t.Pos, fmt.Sprintf("%s is %q", what, t.Value), "write it as 10 minutes, 2 hours or 1 day")
		return 0
	}
	n, _ := strconv.Atoi(m[1]) // five digits
	return time.Duration(n) * units[m[2]]
}

func (l *loader) quiet(f field) (q rollout.Quiet) {
	given := map[string]bool{}
	for _, x := range l.mapping(f.node, "quiet", keysOf[quietForm]()...) {
		t, ok := l.text(x, x.key)
		if !ok {
			continue
		}
		given[x.key] = true
		m := clockForm.FindStringSubmatch(t.Value)
		if m == nil || t.Value > "24:00" {
			l.fail("value", t.Pos, fmt.Sprintf("%s is %q", x.key, t.Value), "write a time of the day, in quotes: \"22:00\"")
			continue
		}
		hours, _ := strconv.Atoi(m[1])
		minutes, _ := strconv.Atoi(m[2])
		if x.key == "from" {
			q.From = (hours*60 + minutes) % (24 * 60)
		} else {
			q.Until = hours*60 + minutes
		}
	}
	switch {
	case !given["from"] || !given["until"]:
		l.fail("missing", f.at, "quiet hours have a beginning and an end", "write: quiet: { from: \"22:00\", until: \"06:00\" }")
	case q.From == q.Until%(24*60):
		l.fail("value", f.at, "the quiet hours leave no minute in which a host may begin", "let them end before they begin again")
	}
	return q
}

func (l *loader) limits(p *Plan, f field) {
	for _, x := range l.mapping(f.node, "limits", keysOf[limitsForm]()...) {
		t, ok := l.text(x, x.key)
		if !ok {
			continue
		}
		var limit rollout.Limit
		if t.Value != "none" {
			const remedy = "write a number of hosts, a share as 5 %, or none"
			m := limitForm.FindStringSubmatch(t.Value)
			if m == nil {
				l.fail("value", t.Pos, fmt.Sprintf("the limit %s is %q", x.key, t.Value), remedy)
				continue
			}
			n, _ := strconv.Atoi(m[1]) // a few digits
			if limit = rollout.Number(n); m[2] != "" {
				limit = rollout.Share(n)
			}
			if limit.Share && n > 100 {
				l.fail("value", t.Pos, fmt.Sprintf("the limit %s is %q", x.key, t.Value), remedy)
			}
		}
		switch x.key {
		case "failed":
			p.Limits.Failed = limit
		case "silent":
			p.Limits.Silent = limit
		case "unrefreshed":
			p.Limits.Unrefreshed = limit
		case "drifted":
			p.Limits.Drifted = limit
		case "refused":
			p.Limits.Refused = limit
		}
	}
}

// planReferences checks that what plans and assignments name is there.
func (l *loader) planReferences() {
	for _, name := range sortedNames(l.policy.Plans) {
		for _, groups := range l.policy.Plans[name].Groups {
			for _, g := range groups {
				if g.Value != Everyone {
					resolveName(l, "group", g, l.policy.Groups)
				}
			}
		}
	}
	for _, a := range l.policy.Assignments {
		if a.Plan != nil && a.Plan.Value != rollout.BuiltInName {
			resolveName(l, "plan", *a.Plan, l.policy.Plans)
		}
	}
	unused(l, "plan", l.policy.Plans, func(p *Plan) diag.Pos { return p.Pos })
}

// compared says what a plan says.
func (p *Plan) compared(e *element) {
	e.text("spread", p.Label)
	e.say("quiet", p.Quiet.String())
	e.say("limit failed", p.Limits.Failed.String())
	e.say("limit silent", p.Limits.Silent.String())
	e.say("limit unrefreshed", p.Limits.Unrefreshed.String())
	e.say("limit drifted", p.Limits.Drifted.String())
	e.say("limit refused", p.Limits.Refused.String())
	for i := range p.Waves {
		w := &p.Waves[i]
		text := w.String()
		if w.Soak > 0 {
			text += ", then " + w.Soak.String()
		}
		if w.Consent {
			text += ", with consent"
		}
		e.say(fmt.Sprintf("wave %d", i+1), text)
	}
}
