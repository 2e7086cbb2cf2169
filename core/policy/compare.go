package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/source"
)

// Kinds of difference between two policies.
const (
	Added   = "added"
	Removed = "removed"
	Changed = "changed"
)

// Difference is one thing that two policies say differently. The order of definitions,
// the files they stand in, comments and spelling make none.
type Difference struct {
	Kind   string    `json:"kind" enum:"added,removed,changed"`
	What   string    `json:"what" doc:"such as repository saltmarsh, or group gateways"`
	Part   string    `json:"part,omitempty" doc:"what of it, such as deb suites; empty for the whole"`
	Before string    `json:"before,omitempty"`
	After  string    `json:"after,omitempty"`
	At     *diag.Pos `json:"place,omitempty" doc:"in the later policy, or in the earlier one for what was removed"`
}

func (d Difference) String() string {
	s := d.Kind + " " + d.What
	if d.Part != "" {
		s += ", " + d.Part
	}
	switch {
	case d.Kind == Changed && d.Before == "":
		s += ": now " + d.After
	case d.Kind == Changed && d.After == "":
		s += ": no longer " + d.Before
	case d.Kind == Changed:
		s += ": " + d.Before + " → " + d.After
	}
	return s
}

// Compare says what has changed in meaning from one policy to another.
func Compare(before, after *Policy) []Difference {
	a, b := elements(before), elements(after)
	var out []Difference
	for _, what := range union(a, b) {
		x, y := a[what], b[what]
		switch {
		case x == nil:
			out = append(out, Difference{Kind: Added, What: what, After: y.brief(), At: y.at})
		case y == nil:
			out = append(out, Difference{Kind: Removed, What: what, Before: x.brief(), At: x.at})
		default:
			if gone, come := missingIn(x.hosts, y.hosts), missingIn(y.hosts, x.hosts); len(gone)+len(come) > 0 {
				out = append(
					out,
					Difference{Kind: Changed, What: what, Part: "hosts", Before: someHosts(gone), After: someHosts(come), At: y.at},
				)
			}
			for _, part := range union(x.says, y.says) {
				if x.says[part] != y.says[part] {
					out = append(
						out,
						Difference{Kind: Changed, What: what, Part: part, Before: x.says[part], After: y.says[part], At: y.at},
					)
				}
			}
		}
	}
	return out
}

func union[T any](a, b map[string]T) []string {
	all := map[string]bool{}
	for k := range a {
		all[k] = true
	}
	for k := range b {
		all[k] = true
	}
	return sortedNames(all)
}

// element is one definition as parts with their texts.
type element struct {
	at    *diag.Pos
	says  map[string]string
	hosts []string // of a group
	lead  string   // what stands before the parts
}

// missingIn lists what of one list another does not have.
func missingIn(list, other []string) (out []string) {
	have := map[string]bool{}
	for _, h := range other {
		have[h] = true
	}
	for _, h := range list {
		if !have[h] {
			out = append(out, h)
		}
	}
	slices.Sort(out)
	return out
}

func someHosts(list []string) string {
	const most = 6
	if len(list) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
	}
	return strings.Join(list, ", ")
}

func (e *element) brief() string {
	var out []string
	if e.lead != "" {
		out = append(out, e.lead)
	}
	for _, k := range sortedNames(e.says) {
		out = append(out, k+" "+e.says[k])
	}
	return strings.Join(out, "; ")
}

func (e *element) say(part, text string) {
	if text != "" {
		e.says[part] = text
	}
}

// set says a list of which the order means nothing.
func (e *element) set(part string, list []Text) {
	if list == nil {
		return
	}
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = t.Value
	}
	slices.Sort(out)
	e.say(part, "["+strings.Join(slices.Compact(out), ", ")+"]")
}

// row says a list of which the order counts.
func (e *element) row(part string, list []Text) {
	if list == nil {
		return
	}
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = t.Value
	}
	e.say(part, "["+strings.Join(out, ", ")+"]")
}

func (e *element) text(part string, t *Text) {
	if t != nil {
		e.say(part, t.Value)
	}
}

func (e *element) number(part string, n *int) {
	if n != nil {
		e.say(part, strconv.Itoa(*n))
	}
}

func elements(p *Policy) map[string]*element {
	out := map[string]*element{}
	add := func(what string, at diag.Pos) *element {
		e := &element{at: &at, says: map[string]string{}}
		out[what] = e
		return e
	}
	if p.Consent {
		add("publishing", diag.Pos{}).say("consent", "true")
	}
	if p.Notice != DefaultNotice {
		add("notice for keys", diag.Pos{}).say("days", strconv.Itoa(int(p.Notice/(24*time.Hour))))
	}
	for name, k := range p.Keys {
		e := add("key "+name, k.Pos)
		e.say("fingerprint", k.Fingerprint)
		e.text("succeeds", k.Succeeds)
		e.say("because", k.Because)
		if ends := k.Describe.Expires; ends != nil {
			e.say("ends", ends.Format(time.DateOnly))
		}
	}
	for name, r := range p.Repositories {
		r.compared(add("repository "+name, r.Pos))
	}
	p.comparedPlaces(add)
	for name, c := range p.Contracts {
		e := add("contract "+name, c.Pos)
		e.say("title", c.Title)
		e.say("account", c.Account.Value)
		e.set("numbers", c.Numbers)
	}
	for name, c := range p.Channels {
		e := add("channel "+name, c.Pos)
		e.say("title", c.Title)
		for _, x := range c.Choices {
			e.say(x.Name, x.Repository.Value)
			e.text(x.Name+" contract", x.Contract)
			if x.Opens != x.Repository {
				e.say(x.Name+" opens", x.Opens.Value)
			}
			e.say(x.Name+" pinned", x.Pinned)
			e.set(x.Name+" hold", x.Hold)
			for v, t := range x.Variants {
				e.say(x.Name+" "+v, t.Value)
			}
		}
	}
	for name, g := range p.Groups {
		if g.Bare {
			continue
		}
		e := add("group "+name, g.Pos)
		e.hosts = g.Hosts
		if len(g.Hosts) > 0 {
			e.lead = someHosts(g.Hosts)
		}
		e.say("where", where(g.Where))
		e.set("groups", g.Of)
		e.set("except", g.Except)
	}
	for name, w := range p.Withdrawn {
		e := add("withdrawn key "+name, w.Pos)
		e.lead = w.Because
		e.say("because", w.Because)
		e.say("author", w.Author)
	}
	for host, labels := range p.Labels {
		for k, t := range labels {
			add("label "+k+" of "+host, t.Pos).say("value", t.Value)
		}
	}
	for _, a := range p.Assignments {
		a.compared(add, out)
	}
	for _, x := range p.Expectations {
		x.compared(add("expectation "+strconv.Quote(x.That), x.Pos))
	}
	return out
}

// where is a condition without the blanks that mean nothing.
func where(c *condition.Condition) string {
	if c == nil {
		return ""
	}
	return strings.Join(strings.Fields(c.Text), " ")
}

func (r *Repository) compared(e *element) {
	e.say("title", r.Title)
	e.say("support", r.Support)
	e.say("signatures", r.Signatures)
	e.say("because", r.Because)
	e.say("enabled", strconv.FormatBool(r.Enabled))
	if r.InPlace {
		e.say("in-place", "true")
	}
	e.set("keys", r.Keys)
	e.set("above", r.Above)
	e.set("below", r.Below)
	for k, v := range r.Settings {
		e.say("setting "+k, strconv.Quote(v.Value))
	}
	if m := r.Media; m != nil {
		e.say("media", m.Path.Value+" on "+m.Host.Value)
		e.text("media url", m.URL)
	}
	e.requirements("", r.Needs, r.Witness)
	r.Definition.compared(e, "")
	for i := range r.Cases {
		c := &r.Cases[i]
		lead := fmt.Sprintf("case %d ", i+1)
		e.say(lead+"where", where(c.Where))
		if c.Enabled != nil {
			e.say(lead+"enabled", strconv.FormatBool(*c.Enabled))
		}
		e.requirements(lead, c.Needs, c.Witness)
		c.Definition.compared(e, lead)
	}
}

// requirements compares what is wanted of hosts.
func (e *element) requirements(lead string, n *Needs, w *Witness) {
	if n != nil {
		e.set(lead+"needs packages", n.Packages)
		e.set(lead+"needs repositories", n.Repositories)
		for k, v := range n.Free {
			e.say(lead+"needs free "+k, fmt.Sprintf("%d MiB", v>>20))
		}
		for k, v := range n.Tools {
			e.say(lead+"needs "+k, v.Value)
		}
	}
	if w != nil {
		e.say(lead+"witness", strings.TrimSpace(w.Package.Value+" "+w.AtLeast.Value))
	}
}

func (d *Definition) compared(e *element, lead string) {
	if deb := d.Deb; deb != nil {
		lead := lead + "deb "
		e.text(lead+"url", deb.URL)
		e.row(lead+"mirrors", deb.Mirrors)
		e.set(lead+"suites", deb.Suites)
		e.set(lead+"components", deb.Components)
		e.set(lead+"architectures", deb.Archs)
		e.set(lead+"kinds", deb.Kinds)
		e.set(lead+"add-components", deb.Add)
		e.set(lead+"drop-components", deb.Drop)
		e.text(lead+"pin", deb.Pin)
		for i := range deb.Releases {
			r := &deb.Releases[i]
			lead := fmt.Sprintf("%srelease %d ", lead, i+1)
			e.text(lead+"origin", r.Origin)
			e.text(lead+"label", r.Label)
			e.text(lead+"suite", r.Suite)
			e.text(lead+"codename", r.Codename)
			e.say(lead+"not-automatic", strconv.FormatBool(r.NotAutomatic))
			e.say(lead+"but-automatic-upgrades", strconv.FormatBool(r.ButAutomaticUpgrades))
		}
		e.text(lead+"comes-by", deb.ComesBy)
		e.number(lead+"priority", deb.Priority)
		e.requirements(lead, deb.Needs, deb.Witness)
	}
	for family, p := range d.Places() {
		if p == nil {
			continue
		}
		lead := lead + family + " "
		e.requirements(lead, p.Needs, p.Witness)
		e.text(lead+"url", p.URL)
		e.row(lead+"mirrors", p.Mirrors)
		e.set(lead+"sections", p.Sections)
		e.text(lead+"comes-by", p.ComesBy)
		e.text(lead+"access", p.Access)
		e.number(lead+"priority", p.Priority)
		if p.Authority != nil {
			e.say(lead+"authority", "certificates "+source.Digest([]byte(p.Authority.Value))[:12])
		}
	}
	for i := range d.Files {
		d.Files[i].Definition.compared(e, lead+"file "+d.Files[i].Name+" ")
	}
}

// compared takes assignments apart by group: who gets what does not depend on how it is
// spread over entries, but which stands over which does.
func (a *Assignment) compared(add func(string, diag.Pos) *element, out map[string]*element) {
	for _, to := range a.To {
		e := out["assignment to "+to.Value]
		if e == nil {
			e = add("assignment to "+to.Value, a.Pos)
		}
		for _, r := range a.Repositories {
			e.say("repository "+r.Value, "given")
		}
		for name, f := range a.Channels {
			text := f.Choice.Value
			for _, v := range f.Variants {
				text += " with " + v.Value
			}
			e.say("channel "+name, text)
		}
		for k, v := range a.Settings {
			e.say("setting "+k, strconv.Quote(v.Value))
		}
		e.text("unlisted", a.Unlisted)
		e.text("read-logins", a.ReadLogins)
		e.text("plan", a.Plan)
		e.text("site", a.Site)
		for class, r := range a.Findings {
			e.text("findings "+class, r.Do)
			e.text("findings "+class+" severity", r.Severity)
		}
		e.text("seats", a.Seats)
		for _, o := range a.Over {
			e.say("over "+o.Value, "yes")
		}
		if d := a.Without; d != nil {
			e.say("without-contract", fmt.Sprintf("%s (%s, until %s)", d.Because, d.Author, d.Review.Format(time.DateOnly)))
		}
	}
}
