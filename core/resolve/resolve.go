// Package resolve works out what each host should have: policy × traits ×
// labels → sheet, with the reason for it.
//
// The work is done once for each distinct input, never once for each host: hosts
// that agree in the facts which the policy looks at, and in the groups that name
// them, share one result.
package resolve

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// Host is one host as resolving sees it. Class must be equal only for hosts
// with equal traits and labels, a digest of both for example.
type Host struct {
	Name   string
	Class  string
	Labels map[string]string
	Traits *source.Traits
}

// Result is what a set of hosts should have.
type Result struct {
	Sheet   *source.Sheet
	Trouble []diag.Diagnostic // why the hosts cannot have a sheet; Example is one of them
	Example string

	written  *written
	resolver *Resolver
	plan     *plan
	parts    []*part
}

// Text is the canonical JSON of the sheet. It is made each time: a fleet has thousands of
// sheets, and few of them are wanted as text.
func (res *Result) Text() []byte { return res.written.text() }

// Digest is that of Text.
func (res *Result) Digest() string {
	res.written.once.Do(func() { res.written.digest = source.Digest(res.written.text()) })
	return res.written.digest
}

// Reason says why a repository is on a sheet, or why it is not.
type Reason struct {
	Repository string     `json:"repository"`
	Because    string     `json:"because"`
	At         []diag.Pos `json:"at"` // assignment, repository, cases
	Left       bool       `json:"left"`
}

// Resolver resolves hosts against one policy. It is not safe for use by several
// goroutines at once.
type Resolver struct {
	policy  *policy.Policy
	groups  []*policy.Group // sorted by name
	byName  map[string]string
	reads   []string // facts that the policy looks at, sorted
	perHost bool     // whether host.name is among them
	classes map[string]*class
	above   [][]uint64 // bit j of row i: assignment i stands over assignment j
	to      [][]int    // groups of each assignment, -1 for everyone
	holders []holder   // of media
	made    bool       // some groups are made of others

	groupNumbers map[string]int             // name → index into groups
	assigned     map[string]map[string]bool // repository → settings that assignments say

	results map[resultKey]*Result
	plans   map[string]*plan
	sheets  map[string]*Result // by the parts that make a sheet up
	memory  *Memory
	bare    []bareRepository // by name
	numbers map[string]int   // name → index into bare
}

// holder is a mark among the names of a host's groups that it holds the media of a
// repository.
type holder struct{ mark, repository string }

// class is what a set of hosts has in common for this policy.
type class struct {
	id    int
	facts []string // values of Resolver.reads, in that order
	holds []bool   // groups whose condition holds
	parts map[int]string
	bad   []diag.Diagnostic
}

type resultKey struct {
	class int
	named string
}

// plan is what a set of assignments says.
type plan struct {
	repositories []string                     // on the sheet, switched on or kept off
	off          map[string]bool              // those of other choices of a channel: kept off where they stand
	follows      []Follow                     // by channel
	grants       map[string]*Follow           // repository → what opens it
	strange      map[string]string            // licensed repositories of channels that are not followed → their contract
	apply        []int                        // the assignments
	held         []string                     // of which the host holds the media
	settings     map[string]map[string]string // those that assignments change
	stamp        map[string]string            // the same, as text
	unlisted     string
	bad          []diag.Diagnostic
}

// bareRepository is a repository with what it looks at.
type bareRepository struct {
	*policy.Repository
	reads []int  // indexes into Resolver.reads
	print string // everything that its part of a sheet follows from, but facts and settings
}

// part is what one repository comes to on a set of hosts.
type part struct {
	id       string
	none     bool // the repository says nothing about the host's family
	files    []source.SheetFile
	sources  []source.SheetSource
	access   *source.SheetAccess
	licensed []source.SheetSource // of a stranger
	inPlace  []source.InPlace
	need     *source.SheetNeed
	witness  *source.SheetWitness
	keys     []source.SheetKey
	cases    []int
	bad      []diag.Diagnostic
}

// Memory keeps parts from one version of a policy to the next: what an edit does
// not touch is not worked out again. It is not safe for use by several goroutines
// at once.
type Memory struct {
	parts  map[string]*part
	sheets map[string]*written // by the parts that they are made of
	count  int                 // of parts ever made; gives each its id
}

// written is a sheet, and its digest once somebody has asked for it.
type written struct {
	sheet  *source.Sheet
	once   sync.Once
	digest string
}

func (w *written) text() []byte {
	text, err := source.Canonical(w.sheet)
	if err != nil {
		panic(err) // a struct of texts always encodes
	}
	return text
}

// mostParts and mostSheets bound a Memory; beyond them it begins anew.
const (
	mostParts  = 200_000
	mostSheets = 20_000
)

// New prepares a policy, which must be free of errors.
func New(p *policy.Policy) *Resolver { return NewWith(p, &Memory{}) }

// NewWith is New with the memory of an earlier version of the policy.
func NewWith(p *policy.Policy, m *Memory) *Resolver {
	if m.parts == nil || len(m.parts) > mostParts || len(m.sheets) > mostSheets {
		m.parts, m.sheets = map[string]*part{}, map[string]*written{}
	}
	r := &Resolver{policy: p, memory: m, classes: map[string]*class{},
		groupNumbers: map[string]int{}, assigned: map[string]map[string]bool{}, results: map[resultKey]*Result{}, plans: map[string]*plan{}, sheets: map[string]*Result{}, numbers: map[string]int{}}
	for _, g := range p.Groups {
		r.groups = append(r.groups, g)
	}
	slices.SortFunc(r.groups, func(a, b *policy.Group) int { return strings.Compare(a.Name, b.Name) })
	named := 0
	for _, g := range r.groups {
		named += len(g.Hosts)
	}
	r.byName = make(map[string]string, named)
	also := map[[2]string]string{} // marks together: few hosts have the same ones alone
	mark := func(host, m string) {
		old, has := r.byName[host]
		if has {
			k := [2]string{old, m}
			both, seen := also[k]
			if !seen {
				both = old + "," + m
				also[k] = both
			}
			m = both
		}
		r.byName[host] = m
	}
	for i, g := range r.groups {
		m := strconv.Itoa(i)
		for _, h := range g.Hosts {
			mark(h, m)
		}
	}
	for i, name := range sortedKeys(p.Repositories) { // who holds media is one of its own
		if m := p.Repositories[name].Media; m != nil {
			mark(m.Host.Value, "m"+strconv.Itoa(i))
			r.holders = append(r.holders, holder{"m" + strconv.Itoa(i), name})
		}
	}
	for i, g := range r.groups {
		for _, t := range slices.Concat(g.Of, g.Except) {
			r.made = r.made || p.Groups[t.Value] != nil
		}
		r.groupNumbers[g.Name] = i
	}
	r.collectReads()
	r.order()
	return r
}

// always are the facts that writing files looks at.
var always = []string{"family", "tools.apt", "os.id"}

// collectReads notes every fact that a condition, an interpolation or the
// writing of files looks at.
func (r *Resolver) collectReads() {
	all := map[string]bool{}
	for _, f := range always {
		all[f] = true
	}
	for _, g := range r.groups {
		if g.Where != nil {
			for _, f := range g.Where.Reads {
				all[f] = true
			}
		}
	}
	assigned := map[string]bool{} // facts in settings that assignments give
	for _, a := range r.policy.Assignments {
		for key, s := range a.Settings {
			repo, setting, _ := strings.Cut(key, ".")
			if r.assigned[repo] == nil {
				r.assigned[repo] = map[string]bool{}
			}
			r.assigned[repo][setting] = true
			for name := range policy.Variables(s.Value) {
				assigned[name], all[name] = true, true
			}
		}
	}
	own := make([]map[string]bool, 0, len(r.policy.Repositories))
	for _, repo := range r.policy.Repositories {
		reads, print := inspect(repo, r.policy)
		for f := range assigned {
			reads[f] = true
		}
		for f := range reads {
			all[f] = true
		}
		own = append(own, reads)
		r.bare = append(r.bare, bareRepository{Repository: repo, print: print})
	}
	for f := range all {
		r.reads = append(r.reads, f)
	}
	slices.Sort(r.reads)
	r.perHost = slices.Contains(r.reads, "host.name")
	for i := range r.bare {
		for n, f := range r.reads {
			if own[i][f] {
				r.bare[i].reads = append(r.bare[i].reads, n)
			}
		}
		r.numbers[r.bare[i].Name] = i
	}
}

func sortedKeys[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// order works out which assignment stands over which: `over` names groups, and
// so all assignments to them, and what those stand over themselves.
func (r *Resolver) order() {
	list := r.policy.Assignments
	for _, a := range list {
		var to []int
		for _, t := range a.To {
			if t.Value == policy.Everyone {
				to = append(to, -1)
			} else if i, ok := r.groupNumbers[t.Value]; ok {
				to = append(to, i)
			}
		}
		r.to = append(r.to, to)
	}
	to := map[string][]int{} // group → assignments to it
	for i, a := range list {
		for _, t := range a.To {
			to[t.Value] = append(to[t.Value], i)
		}
	}
	words := (len(list) + 63) / 64
	r.above = make([][]uint64, len(list))
	for i := range list {
		r.above[i] = make([]uint64, words)
		next := []int{i}
		for len(next) > 0 { // all that is reached from i
			at := next[len(next)-1]
			next = next[:len(next)-1]
			for _, g := range list[at].Over {
				for _, j := range to[g.Value] {
					if j != at && r.above[i][j/64]&(1<<(j%64)) == 0 {
						r.above[i][j/64] |= 1 << (j % 64)
						next = append(next, j)
					}
				}
			}
		}
	}
}

// stands reports whether assignment i stands over assignment j.
func (r *Resolver) stands(i, j int) bool { return r.above[i][j/64]&(1<<(j%64)) != 0 }

// class finds what a host has in common with others.
func (r *Resolver) class(h *Host, f *condition.Facts) *class {
	key := h.Class
	if r.perHost {
		key += "\x00" + h.Name
	}
	if c, ok := r.classes[key]; ok {
		return c
	}
	facts := make([]string, len(r.reads))
	for i, name := range r.reads {
		facts[i] = fact(name, h, f)
	}
	projection := "\x01" + strings.Join(facts, "\x00")
	c, ok := r.classes[projection]
	if !ok {
		c = &class{id: len(r.classes), facts: facts, holds: make([]bool, len(r.groups)), parts: map[int]string{}}
		for i, g := range r.groups {
			if g.Where == nil {
				continue
			}
			holds, err := g.Where.Holds(f)
			if err != nil {
				c.bad = append(c.bad, trouble("expression", g.Pos, fmt.Sprintf("the condition of group %q fails on %s: %v", g.Name, h.Name, err), "ask has() first, or write it so that it holds for every host"))
			}
			c.holds[i] = holds
		}
		r.classes[projection] = c
	}
	r.classes[key] = c
	return c
}

// fact is the text of a fact, an absent label told from an empty one.
func fact(name string, h *Host, f *condition.Facts) string {
	of, rest, _ := strings.Cut(name, ".")
	switch {
	case rest == "*" && of == "label":
		return pairs(h.Labels)
	case rest == "*" && of == "tools":
		return pairs(h.Traits.Tools)
	case of == "label":
		if v, ok := h.Labels[rest]; ok {
			return "=" + v
		}
		return ""
	}
	v, _ := f.Get(name)
	return v
}

func pairs(m map[string]string) string {
	var b strings.Builder
	for _, k := range sortedKeys(m) {
		fmt.Fprintf(&b, "%q=%q,", k, m[k])
	}
	return b.String()
}

// Resolve returns what a host should have.
func (r *Resolver) Resolve(h Host) *Result {
	if !r.perHost && len(r.policy.Labels) == 0 { // most hosts are like one that was seen
		if c, ok := r.classes[h.Class]; ok {
			if res, ok := r.results[resultKey{c.id, r.byName[h.Name]}]; ok {
				return res
			}
		}
	}
	return r.first(h)
}

// first resolves a host that may be the first of its kind.
func (r *Resolver) first(h Host) *Result {
	var clash []diag.Diagnostic
	if said := r.policy.Labels[h.Name]; len(said) > 0 {
		clash = h.label(said)
	}
	f := condition.Facts{Host: h.Name, Labels: h.Labels, Traits: h.Traits}
	c := r.class(&h, &f)
	if len(clash) > 0 {
		c = &class{id: -1 - len(r.results), facts: c.facts, holds: c.holds, parts: map[int]string{}, bad: append(clash, c.bad...)}
	}
	key := resultKey{c.id, r.byName[h.Name]}
	if res, ok := r.results[key]; ok {
		return res
	}
	res := r.compute(&h, &f, c, key.named)
	r.results[key] = res
	return res
}

// label gives a host the labels that the policy says. Where people gave it others, the
// difference is trouble.
func (h *Host) label(said map[string]policy.Text) (bad []diag.Diagnostic) {
	labels := make(map[string]string, len(h.Labels)+len(said))
	for k, v := range h.Labels {
		labels[k] = v
	}
	for _, k := range sortedKeys(said) {
		if old, given := labels[k]; given && old != said[k].Value {
			bad = append(bad, trouble("conflict", said[k].Pos, fmt.Sprintf("the label %s of %s is %q here, and people gave the host %q", k, h.Name, said[k].Value, old), "take one of them out: lantern host label "+h.Name+" "+k+"-"))
		}
		labels[k] = said[k].Value
		h.Class += "\x02" + k + "=" + said[k].Value
	}
	h.Labels = labels
	return bad
}

// Distinct returns every distinct result so far.
func (r *Resolver) Distinct() []*Result {
	seen := map[*Result]bool{}
	var out []*Result
	for _, res := range r.results {
		if !seen[res] {
			seen[res] = true
			out = append(out, res)
		}
	}
	slices.SortFunc(out, func(a, b *Result) int { return strings.Compare(a.Example, b.Example) })
	return out
}

func trouble(code string, at diag.Pos, message, remedy string, also ...diag.Pos) diag.Diagnostic {
	return diag.Diagnostic{Code: code, Severity: diag.Error, Pos: at, Message: message, Remedy: remedy, Also: also}
}

func (r *Resolver) compute(h *Host, f *condition.Facts, c *class, named string) *Result {
	in, held := r.member(c, named)
	p := r.plan(h, in, held)
	// The sheet follows from its parts; hosts that come to the same parts by
	// different ways share it.
	parts := make([]*part, len(p.repositories))
	var key strings.Builder
	fmt.Fprintf(&key, "%p %s", p, h.Traits.Family)
	for i, name := range p.repositories {
		parts[i] = r.part(h, f, c, r.numbers[name], p)
		key.WriteString(parts[i].id)
	}
	if res, ok := r.sheets[key.String()]; ok && len(c.bad) == 0 && len(res.Trouble) == 0 {
		return res
	}
	res := r.assemble(h, p, parts)
	res.Trouble = append(slices.Clone(c.bad), res.Trouble...)
	r.sheets[key.String()] = res
	return res
}

// member works out which groups a host is in, and whose media it holds.
func (r *Resolver) member(c *class, named string) (in []bool, held []string) {
	in = slices.Clone(c.holds)
	for n := range strings.SplitSeq(named, ",") {
		if i, err := strconv.Atoi(n); err == nil {
			in[i] = true
			continue
		}
		for _, x := range r.holders {
			if x.mark == n {
				held = append(held, x.repository)
			}
		}
	}
	if !r.made {
		return in, held
	}
	done := make([]bool, len(in))
	var settle func(i int) bool
	settle = func(i int) bool {
		if done[i] {
			return in[i]
		}
		done[i] = true // the loader refuses circles
		for _, t := range r.groups[i].Of {
			in[i] = settle(r.groupNumbers[t.Value]) || in[i]
		}
		for _, t := range r.groups[i].Except {
			if settle(r.groupNumbers[t.Value]) {
				in[i] = false
			}
		}
		return in[i]
	}
	for i := range in {
		settle(i)
	}
	return in, held
}

// plan works out what the assignments to a set of groups say.
func (r *Resolver) plan(h *Host, in []bool, held []string) *plan {
	var apply []int
	key := []byte(strings.Join(held, " "))
	for i, to := range r.to {
		if slices.ContainsFunc(to, func(g int) bool { return g < 0 || in[g] }) {
			apply = append(apply, i)
			key = strconv.AppendInt(append(key, ' '), int64(i), 10)
		}
	}
	if p, ok := r.plans[string(key)]; ok {
		return p
	}
	p := &plan{apply: apply, settings: map[string]map[string]string{}, stamp: map[string]string{}, unlisted: source.UnlistedReport}
	on := r.repositories(apply)
	r.channels(p, h, apply, on)
	p.repositories = sortedKeys(on)
	for _, name := range p.repositories {
		repo := r.policy.Repositories[name]
		if r.assigned[name] == nil {
			// no assignment says anything about its settings
		} else if changed := r.changedSettings(p, h, repo, apply); len(changed) > 0 {
			p.settings[name], p.stamp[name] = changed, pairs(changed)
		}
		if p.off[name] {
			p.stamp[name] += "off"
		}
		if slices.Contains(held, name) {
			p.stamp[name] += "held"
			p.held = append(p.held, name)
		}
		if contract := p.strange[name]; contract != "" {
			p.stamp[name] += fmt.Sprintf("strange %q", contract)
		}
		if g := p.grants[name]; g != nil {
			p.stamp[name] += fmt.Sprintf("%q %q", g.Account, g.Contract)
		}
	}
	r.needed(p, h)
	r.unlisted(p, h, apply)
	r.plans[string(key)] = p
	return p
}

// needed wants the repositories that others need.
func (r *Resolver) needed(p *plan, h *Host) {
	for _, name := range p.repositories {
		n := r.policy.Repositories[name].Needs
		if n == nil || p.off[name] || p.strange[name] != "" {
			continue
		}
		for _, t := range n.Repositories {
			if !slices.Contains(p.repositories, t.Value) || p.off[t.Value] || p.strange[t.Value] != "" {
				p.bad = append(p.bad, trouble("needs", t.Pos, fmt.Sprintf("%s needs the repository %s, which the host %s does not get", name, t.Value, h.Name), "assign it to the same hosts", r.because(p, r.policy.Repositories[name]).At...))
			}
		}
	}
}

// because says why a repository is there.
func (r *Resolver) because(p *plan, repo *policy.Repository) Reason {
	reason := Reason{Repository: repo.Name, At: []diag.Pos{}}
	for _, i := range p.apply {
		a := r.policy.Assignments[i]
		if slices.ContainsFunc(a.Repositories, func(t policy.Text) bool { return t.Value == repo.Name }) {
			reason.At = append(reason.At, a.Pos)
			if reason.Because == "" {
				reason.Because = "assigned to " + joinTexts(a.To)
			}
		}
	}
	for _, f := range p.follows {
		choice := r.policy.Channels[f.Channel].Choice(f.Choice)
		switch {
		case slices.Contains(f.Repositories, repo.Name):
			reason.Because = fmt.Sprintf("%s follows %s of the channel %s", f.Group, f.Choice, f.Channel)
		case slices.Contains(f.Others, repo.Name):
			reason.Because = fmt.Sprintf("kept off where it stands: %s follows %s of the channel %s", f.Group, f.Choice, f.Channel)
			reason.Left = true
		default:
			continue
		}
		reason.At = append(reason.At, f.At, choice.Pos)
	}
	reason.At = append(reason.At, repo.Pos)
	return reason
}

// repositories gathers the repositories of some assignments.
func (r *Resolver) repositories(apply []int) map[string]bool {
	seen := map[string]bool{}
	for _, i := range apply {
		for _, t := range r.policy.Assignments[i].Repositories {
			if r.policy.Repositories[t.Value] != nil {
				seen[t.Value] = true
			}
		}
	}
	return seen
}

// strongest picks, of the assignments that say something, the one that stands
// over all others that say something else; false where there is none.
func (r *Resolver) strongest(says map[int]string) (int, [2]int, bool) {
	best := -1
	var idx []int
	for i := range says {
		idx = append(idx, i)
	}
	slices.Sort(idx)
	for _, i := range idx {
		wins := true
		for _, j := range idx {
			if i != j && says[i] != says[j] && !r.stands(i, j) {
				wins = false
			}
		}
		if wins && (best < 0 || r.stands(i, best)) {
			best = i
		}
	}
	if best >= 0 {
		return best, [2]int{}, true
	}
	for _, i := range idx {
		for _, j := range idx {
			if i < j && says[i] != says[j] && !r.stands(i, j) && !r.stands(j, i) {
				return 0, [2]int{i, j}, false
			}
		}
	}
	return 0, [2]int{idx[0], idx[len(idx)-1]}, false
}

func (r *Resolver) unlisted(p *plan, h *Host, apply []int) {
	says := map[int]string{}
	for _, i := range apply {
		if u := r.policy.Assignments[i].Unlisted; u != nil {
			says[i] = u.Value
		}
	}
	if len(says) == 0 {
		return
	}
	i, clash, ok := r.strongest(says)
	if !ok {
		a, b := r.policy.Assignments[clash[0]].Unlisted, r.policy.Assignments[clash[1]].Unlisted
		p.bad = append(p.bad, trouble("conflict", b.Pos, fmt.Sprintf("unlisted is %q here and %q elsewhere, for the host %s", b.Value, a.Value, h.Name), "say over: in the one that shall win", a.Pos))
		return
	}
	p.unlisted = r.policy.Assignments[i].Unlisted.Value
}

// changedSettings works out the settings of a repository that assignments change.
func (r *Resolver) changedSettings(p *plan, h *Host, repo *policy.Repository, apply []int) map[string]string {
	out := map[string]string{}
	for _, name := range sortedKeys(r.assigned[repo.Name]) {
		if _, there := repo.Settings[name]; !there {
			continue
		}
		key := repo.Name + "." + name
		says := map[int]string{}
		for _, i := range apply {
			if v, ok := r.policy.Assignments[i].Settings[key]; ok {
				says[i] = v.Value
			}
		}
		if len(says) == 0 {
			continue
		}
		i, clash, ok := r.strongest(says)
		if !ok {
			a, b := r.policy.Assignments[clash[0]].Settings[key], r.policy.Assignments[clash[1]].Settings[key]
			p.bad = append(p.bad, trouble("conflict", b.Pos, fmt.Sprintf("%s is %q here and %q elsewhere, for the host %s", key, b.Value, a.Value, h.Name), "say over: in the one that shall win", a.Pos))
			continue
		}
		out[name] = says[i]
	}
	return out
}

// part finds what a repository comes to on a class of hosts.
func (r *Resolver) part(h *Host, f *condition.Facts, c *class, number int, p *plan) *part {
	repo := &r.bare[number]
	key, ok := c.parts[number]
	if !ok {
		var b strings.Builder
		b.WriteString(repo.print)
		for _, i := range repo.reads {
			b.WriteString("\x00" + r.reads[i] + "=" + c.facts[i])
		}
		key = b.String()
		c.parts[number] = key
	}
	if stamp := p.stamp[repo.Name]; stamp != "" {
		key += "\x01" + stamp
	}
	if x, ok := r.memory.parts[key]; ok {
		return x
	}
	x := r.work(h, f, repo.Repository, p)
	r.memory.count++
	x.id = strconv.Itoa(r.memory.count) + ","
	if len(x.bad) > 0 {
		x.id = key // it names places and a host: it is worked out anew each time
		return x
	}
	r.memory.parts[key] = x
	return x
}

// work works out what a repository comes to on a host.
func (r *Resolver) work(h *Host, f *condition.Facts, repo *policy.Repository, p *plan) *part {
	x := &part{}
	fail := func(code string, at diag.Pos, message, remedy string) {
		x.bad = append(x.bad, trouble(code, at, message, remedy))
	}
	name := repo.Name
	lookup := func(v string) (string, bool) {
		switch m := repo.Media; {
		case v == policy.TokenName:
			return family.TokenMark, true
		case v == policy.MediaName && m != nil && slices.Contains(p.held, name):
			return "file://" + m.Path.Value, true
		case v == policy.MediaName && m != nil && m.URL != nil:
			return m.URL.Value, true
		}
		if s, ok := p.settings[name][v]; ok {
			return s, true
		}
		if s, ok := repo.Settings[v]; ok {
			return s.Value, true
		}
		return f.Get(v)
	}
	enabled := repo.Enabled
	def := repo.Definition
	all := &wants{needs: []*policy.Needs{repo.Needs}, witness: repo.Witness}
	for i, c := range repo.Cases {
		ok, err := c.Where.Holds(f)
		if err != nil {
			fail("expression", c.Pos, fmt.Sprintf("a case of %q fails on %s: %v", name, h.Name, err), "ask has() first, or write it so that it holds for every host")
		}
		if !ok {
			continue
		}
		x.cases = append(x.cases, i)
		if c.Enabled != nil {
			enabled = *c.Enabled
		}
		all.cases = append(all.cases, c)
		mergeDefinition(&def, &c.Definition)
	}
	if p.off[name] || p.strange[name] != "" {
		enabled = false
	}
	w := &writing{Resolver: r, part: x, host: h, repo: repo, enabled: enabled, grant: p.grants[name], lookup: lookup, fail: fail}
	if repo.Media != nil && slices.Contains(p.held, name) {
		w.while = repo.Media.Path.Value
	}
	x.none = true
	for _, write := range []func(string, *policy.Definition) bool{map[string]func(string, *policy.Definition) bool{deb.Family: w.deb, rpm.Family: w.rpm, zypp.Family: w.zypp, arch.Family: w.arch}[h.Traits.Family], w.flatpak} {
		if write == nil {
			continue
		}
		if write(name, &def) {
			x.none = false
		}
		for i := range def.Files {
			if write(name+"-"+def.Files[i].Name, &def.Files[i].Definition) {
				x.none = false
			}
		}
	}
	if len(x.bad) > 0 {
		x.none = false
	}
	if enabled && len(x.sources)+len(x.inPlace) > 0 {
		w.requirements(all, &def)
	}
	if contract := p.strange[name]; contract != "" {
		for i := range x.sources {
			x.sources[i].Contract = contract
		}
		x.licensed, x.sources, x.files, x.keys, x.access = x.sources, nil, nil, nil, nil
		x.need, x.witness = nil, nil
		x.bad = nil // it is not for this host: what it lacks for it is no trouble
	}
	if p.off[name] {
		for i := range x.files {
			x.files[i].IfThere = true
		}
		for i := range x.sources {
			x.sources[i].IfThere = true
		}
		x.keys, x.access = nil, nil
	}
	return x
}

// assemble puts a sheet together from its parts.
func (r *Resolver) assemble(h *Host, p *plan, parts []*part) *Result {
	var key strings.Builder
	key.WriteString(h.Traits.Family + " " + p.unlisted + " ")
	for _, x := range parts {
		key.WriteString(x.id)
	}
	old := r.memory.sheets[key.String()]
	res := &Result{Example: h.Name, resolver: r, plan: p, parts: parts, Trouble: slices.Clone(p.bad), Sheet: &source.Sheet{Format: source.SheetFormat, Family: h.Traits.Family, Unlisted: p.unlisted,
		Files: []source.SheetFile{}, Sources: []source.SheetSource{}, InPlace: []source.InPlace{}, Keys: []source.SheetKey{}}}
	for _, x := range parts {
		res.Trouble = append(res.Trouble, x.bad...)
		if old != nil {
			continue
		}
		for _, file := range x.files {
			i := slices.IndexFunc(res.Sheet.Files, func(y source.SheetFile) bool { return y.Path == file.Path })
			if i < 0 {
				res.Sheet.Files = append(res.Sheet.Files, file)
			} else if !file.IfThere {
				res.Sheet.Files[i].IfThere = false // another repository needs it for certain
			}
		}
		res.Sheet.Sources = append(res.Sheet.Sources, x.sources...)
		res.Sheet.Licensed = append(res.Sheet.Licensed, x.licensed...)
		if x.access != nil {
			grant(res.Sheet, x.access)
		}
		res.Sheet.InPlace = append(res.Sheet.InPlace, x.inPlace...)
		if x.need != nil {
			res.Sheet.Needs = append(res.Sheet.Needs, *x.need)
		}
		if x.witness != nil {
			res.Sheet.Witnesses = append(res.Sheet.Witnesses, *x.witness)
		}
		for _, k := range x.keys {
			if !slices.Contains(res.Sheet.Keys, k) {
				res.Sheet.Keys = append(res.Sheet.Keys, k)
			}
		}
	}
	if old != nil {
		res.Sheet, res.written = old.sheet, old
		return res
	}
	res.finish()
	if len(res.Trouble) == 0 {
		r.memory.sheets[key.String()] = res.written
	}
	return res
}

// Reasons says why each repository is on the sheet, or why it is not.
func (res *Result) Reasons() []Reason {
	out := make([]Reason, 0, len(res.plan.repositories))
	for i, name := range res.plan.repositories {
		if res.plan.strange[name] != "" {
			continue
		}
		reason := res.resolver.because(res.plan, res.resolver.policy.Repositories[name])
		reason.At = slices.Clone(reason.At)
		if x := res.parts[i]; !x.none {
			for _, n := range x.cases {
				c := res.resolver.policy.Repositories[name].Cases[n]
				reason.At = append(reason.At, c.Pos)
				reason.Because += ", where " + c.Where.Text
			}
		} else {
			reason.Left = true
			reason.Because += ", but it says nothing about " + orUnknown(res.Sheet.Family)
		}
		out = append(out, reason)
	}
	return out
}

func joinTexts(list []policy.Text) string {
	var out []string
	for _, t := range list {
		out = append(out, t.Value)
	}
	return strings.Join(out, ", ")
}

func orUnknown(family string) string {
	if family == "" {
		return "an unknown family"
	}
	return family
}

func (res *Result) finish() {
	slices.SortFunc(res.Sheet.Files, func(a, b source.SheetFile) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(res.Sheet.Keys, func(a, b source.SheetKey) int { return strings.Compare(a.Name, b.Name) })
	res.written = &written{sheet: res.Sheet}
}
