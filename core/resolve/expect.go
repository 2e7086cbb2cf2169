package resolve

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// trial is one expectation while hosts are tried.
type trial struct {
	*policy.Expectation
	verdicts     map[*Result][]string // what is otherwise; none where it holds
	meant        map[int]meaning      // by class of host
	held, failed int
	untold       int    // hosts of which it cannot be told
	why          string // why not, of the first of them
	first        []failure
}

// failure is a host for which an expectation does not hold, and what is so instead.
type failure struct {
	host    Host
	instead []string
}

// meaning is whether an expectation is about a host, or why that cannot be told.
type meaning struct {
	holds bool
	fails error
}

func newTrials(p *policy.Policy) (out []*trial) {
	for _, x := range p.Expectations {
		out = append(out, &trial{Expectation: x, verdicts: map[*Result][]string{}, meant: map[int]meaning{}})
	}
	return out
}

// try holds a host against an expectation, if it is meant.
func (t *trial) try(r *Resolver, h Host, res *Result) {
	if t.Host != nil {
		return
	}
	switch m := t.means(r, h); {
	case m.fails != nil: // it may be about this host: that it holds there is not known
		t.failed++
		t.note(h, []string{fmt.Sprintf("whether it is meant cannot be told: %v; ask has() first", m.fails)})
	case m.holds && len(t.From) > 0 && len(t.otherwise(r, res)) == 0:
		t.untold++ // until Took says
	case m.holds:
		t.judge(r, h, res)
	}
}

// note keeps the first hosts that failed, and what is otherwise there.
func (t *trial) note(h Host, instead []string) {
	if len(t.first) < mostNamed {
		t.first = append(t.first, failure{h, instead})
	}
}

func (t *trial) judge(r *Resolver, h Host, res *Result) {
	wrong := t.otherwise(r, res)
	if len(wrong) == 0 {
		t.held++
		return
	}
	t.failed++
	t.note(h, wrong)
}

// otherwise is what of a result is otherwise than expected.
func (t *trial) otherwise(r *Resolver, res *Result) []string {
	wrong, known := t.verdicts[res]
	if !known {
		wrong = r.unlike(t.Expectation, res)
		t.verdicts[res] = wrong
	}
	return wrong
}

// means tells whether an expectation is about a host.
func (t *trial) means(r *Resolver, h Host) meaning {
	in := func(list []policy.Text) bool {
		return slices.ContainsFunc(list, func(g policy.Text) bool { return r.In(h, g.Value) })
	}
	if len(t.To) > 0 && !in(t.To) || in(t.Except) {
		return meaning{}
	}
	if t.Where == nil {
		return meaning{holds: true}
	}
	h = r.Labelled(h)
	f := condition.Facts{Host: h.Name, Labels: h.Labels, Traits: h.Traits}
	class := -1
	if !slices.Contains(t.Where.Reads, "host.name") {
		class = r.class(&h, &f).id
	}
	m, known := t.meant[class]
	if !known || class < 0 {
		m.holds, m.fails = t.Where.Holds(&f)
		t.meant[class] = m
	}
	return m
}

// state says how a repository stands to a host.
func (r *Resolver) state(res *Result, name string) string {
	i := slices.Index(res.plan.repositories, name)
	if i < 0 || res.plan.strange[name] != "" || res.parts[i].none {
		return reason.Absent
	}
	x := res.parts[i]
	if slices.ContainsFunc(x.sources, func(s source.SheetSource) bool { return s.Enabled }) ||
		slices.ContainsFunc(x.inPlace, func(p source.InPlace) bool { return p.Enabled }) {
		return reason.On
	}
	return reason.Off
}

// unlike tells what of a result is otherwise than expected.
func (r *Resolver) unlike(x *policy.Expectation, res *Result) (out []string) {
	if len(res.Trouble) > 0 {
		return []string{"the policy contradicts itself here: " + res.Trouble[0].Message}
	}
	for want, list := range map[string][]policy.Text{reason.On: x.On, reason.Off: x.Off, reason.Absent: x.Absent} {
		for _, t := range list {
			if is := r.state(res, t.Value); is != want {
				out = append(out, fmt.Sprintf("%s is %s, and not %s", t.Value, is, want))
			}
		}
	}
	for i := range len(x.Order) - 1 {
		upper, lower := x.Order[i].Value, x.Order[i+1].Value
		if r.policy.Levels[upper] <= r.policy.Levels[lower] {
			out = append(out, fmt.Sprintf("%s does not win over %s", upper, lower))
		}
	}
	for channel, t := range x.Choices {
		follows := "none"
		for _, f := range res.plan.follows {
			if f.Channel == channel {
				follows = f.Choice
			}
		}
		if follows != t.Value {
			out = append(out, fmt.Sprintf("of %s the choice is %s, and not %s", channel, follows, t.Value))
		}
	}
	out = append(out, linesOf(x, res)...)
	if x.Signed != nil {
		out = append(out, unsigned(res)...)
	}
	slices.Sort(out)
	return out
}

// linesOf tells lines that are not there, and lines that are.
func linesOf(x *policy.Expectation, res *Result) (out []string) {
	has := func(line string) string {
		for _, f := range res.Sheet.Files {
			for have := range strings.Lines(f.Text) {
				if strings.TrimSpace(have) == strings.TrimSpace(line) {
					return f.Path
				}
			}
		}
		return ""
	}
	for _, t := range x.Lines {
		if has(t.Value) == "" {
			out = append(out, fmt.Sprintf("no file has the line %q", t.Value))
		}
	}
	for _, t := range x.NoLines {
		if path := has(t.Value); path != "" {
			out = append(out, fmt.Sprintf("%s has the line %q", path, t.Value))
		}
	}
	return out
}

// unsigned tells sources that are believed without a check, or by any key.
func unsigned(res *Result) (out []string) {
	for i := range res.Sheet.Sources {
		switch s := &res.Sheet.Sources[i]; {
		case !s.Enabled:
		case s.Signatures == source.CheckOff:
			out = append(out, fmt.Sprintf("%s is believed without a check", s.Repository))
		case len(s.SignedBy) == 0:
			out = append(out, fmt.Sprintf("%s is believed by every key that the host knows", s.Repository))
		}
	}
	return slices.Compact(out)
}

// Expected tells what trying each expectation of the policy came to.
func (f *Fleet) Expected() []reason.Expected {
	out := make([]reason.Expected, 0, len(f.trials))
	for _, t := range f.trials {
		if t.Host != nil && t.held+t.failed == 0 {
			h := described(t.Host)
			t.judge(f.alone(), h, f.alone().Resolve(h))
		}
		x := reason.Expected{
			That: t.That, Place: t.Pos, Held: t.held, Failed: t.failed, Untold: t.untold, First: []reason.Unexpected{},
		}
		switch {
		case t.failed > 0:
			x.State = reason.ExpectFails
		case t.untold > 0:
			x.State, x.Why = reason.ExpectNotTried, cmp.Or(t.why, askService)
		case t.held > 0:
			x.State = reason.ExpectHolds
		case len(f.hosts) == 0:
			x.State, x.Why = reason.ExpectNotTried, "it is about hosts of the fleet, and none were looked at"
		default:
			x.State, x.Why = reason.ExpectNotTried, "no host of the fleet is meant"
		}
		for _, failed := range t.first {
			x.First = append(x.First, f.unexpected(t, failed))
		}
		out = append(out, x)
	}
	return out
}

// alone is a resolver for hosts that are only described: what is kept of the fleet does not
// speak of them.
func (f *Fleet) alone() *Resolver {
	if f.apart == nil {
		f.apart = New(f.resolver.policy)
	}
	return f.apart
}

// described is a host as an expectation describes it.
func described(x *policy.ExpectedHost) Host {
	t := &source.Traits{
		Family: x.Family, Arch: x.Arch, CPU: source.CPU{Level: x.Level}, Tools: x.Tools,
		OS: source.OS{ID: x.ID, Version: x.Version, Codename: x.Codename},
	}
	t.Architectures = []string{x.Arch}
	if x.Family == source.FamilyDeb {
		t.Architectures = []string{survey.DpkgArch(x.Arch)}
	}
	return Host{Name: x.Name, Class: "expected " + x.Pos.String(), Labels: x.Labels, Traits: t}
}

// unexpected says of a host what is otherwise, and why.
func (f *Fleet) unexpected(t *trial, failed failure) reason.Unexpected {
	r, h := f.resolver, failed.host
	if t.Host != nil {
		r = f.alone()
	}
	res := r.Resolve(h)
	u := reason.Unexpected{Host: h.Name, Instead: failed.instead, Reasons: []reason.ReasonChain{}}
	if len(res.Trouble) > 0 {
		return u
	}
	e, err := r.Explain(h)
	if err != nil {
		return u
	}
	about := map[string]bool{}
	for want, list := range map[string][]policy.Text{reason.On: t.On, reason.Off: t.Off, reason.Absent: t.Absent} {
		for _, x := range list {
			about[x.Value] = about[x.Value] || r.state(res, x.Value) != want
		}
	}
	for _, x := range t.From {
		about[x.Value] = about[x.Value] || r.state(res, x.Value) != reason.On
	}
	for _, why := range e.Repositories {
		if about[why.Name] {
			u.Reasons = append(u.Reasons, reason.ReasonChain{Repository: why.Name, State: why.State, Causes: why.Causes})
		}
	}
	return u
}

// unmetExpectations are the expectations that do not hold, or were not tried, as diagnostics.
func (f *Fleet) unmetExpectations() (out []diag.Diagnostic) {
	for _, x := range f.Expected() {
		switch {
		case x.State == reason.ExpectFails:
			u := x.First[0]
			hosts := u.Host
			if x.Failed > 1 {
				hosts = fmt.Sprintf("%s and %d more", u.Host, x.Failed-1)
			}
			out = append(out, trouble("expectation", x.Place,
				fmt.Sprintf("%q does not hold for %s: %s", x.That, hosts, strings.Join(u.Instead, "; ")),
				"mend the policy, or what is expected; lantern policy test shows why"))
		case x.State == reason.ExpectNotTried && len(f.hosts) > 0:
			out = append(out, warning("expectation-idle", x.Place, fmt.Sprintf("%q was not tried: %s", x.That, x.Why),
				idleRemedy(x)))
		}
	}
	return out
}
