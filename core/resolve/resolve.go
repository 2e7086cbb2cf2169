// Package resolve works out what each host should have: policy × traits ×
// labels → sheet, with the reason for it.
//
// The work is done once for each distinct input, never once for each host: hosts
// that agree in the facts which the policy looks at, and in the groups that name
// them, share one result.
package resolve

import (
	"fmt"
	"patientlantern.example/lantern/core/diag"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/family/deb"
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
	Text    []byte // canonical JSON of Sheet
	Digest  string
	Reasons []Reason
	Trouble []diag.Diagnostic // why the hosts cannot have a sheet; Example is one of them
	Example string
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
	classes map[string]string
	results map[string]*Result
	above   map[[2]int]bool // assignment i stands over assignment j
}

// New prepares a policy. The policy must be free of errors.
func New(p *policy.Policy) *Resolver {
	r := &Resolver{policy: p, byName: map[string]string{}, classes: map[string]string{}, results: map[string]*Result{}, above: map[[2]int]bool{}}
	for _, g := range p.Groups {
		r.groups = append(r.groups, g)
	}
	slices.SortFunc(r.groups, func(a, b *policy.Group) int { return strings.Compare(a.Name, b.Name) })
	member := map[string][]string{}
	for i, g := range r.groups {
		for _, h := range g.Hosts {
			member[h] = append(member[h], strconv.Itoa(i))
		}
	}
	for h, list := range member {
		r.byName[h] = strings.Join(list, ",")
	}
	r.collectReads()
	r.order()
	return r
}

// collectReads notes every fact that a condition, an interpolation or the
// writing of files looks at.
func (r *Resolver) collectReads() {
	reads := map[string]bool{"family": true, "tools.apt": true, "os.id": true}
	cond := func(c *condition.Condition) {
		if c != nil {
			for _, f := range c.Reads {
				reads[f] = true
			}
		}
	}
	text := func(list ...policy.Text) {
		for _, t := range list {
			for name := range policy.Variables(t.Value) {
				reads[name] = true
			}
		}
	}
	def := func(d *policy.Deb) {
		if d == nil {
			return
		}
		if d.URL != nil {
			text(*d.URL)
		}
		text(slices.Concat(d.Suites, d.Components, d.Archs, d.Add, d.Drop)...)
	}
	for _, g := range r.groups {
		cond(g.Where)
	}
	for _, repo := range r.policy.Repositories {
		def(repo.Deb)
		for _, s := range repo.Settings {
			text(s)
		}
		for _, c := range repo.Cases {
			cond(c.Where)
			def(c.Deb)
		}
	}
	for _, a := range r.policy.Assignments {
		for _, s := range a.Settings {
			text(s)
		}
	}
	for f := range reads {
		r.reads = append(r.reads, f)
	}
	slices.Sort(r.reads)
}

// order works out which assignment stands over which: `over` names groups, and
// so all assignments to them, and what those stand over themselves.
func (r *Resolver) order() {
	list := r.policy.Assignments
	for i, a := range list {
		for j, b := range list {
			if i != j && slices.ContainsFunc(a.Over, func(g policy.Text) bool {
				return slices.ContainsFunc(b.To, func(t policy.Text) bool { return t.Value == g.Value })
			}) {
				r.above[[2]int{i, j}] = true
			}
		}
	}
	for k := range list {
		for i := range list {
			for j := range list {
				if r.above[[2]int{i, k}] && r.above[[2]int{k, j}] {
					r.above[[2]int{i, j}] = true
				}
			}
		}
	}
}

// projection is the text of all facts that the policy looks at.
func (r *Resolver) projection(h *Host, f *condition.Facts) string {
	key := h.Class
	perHost := slices.Contains(r.reads, "host.name")
	if perHost {
		key += "\x00" + h.Name
	}
	if p, ok := r.classes[key]; ok {
		return p
	}
	var b strings.Builder
	for _, name := range r.reads {
		of, rest, _ := strings.Cut(name, ".")
		switch {
		case rest == "*" && of == "label":
			b.WriteString(pairs(h.Labels))
		case rest == "*" && of == "tools":
			b.WriteString(pairs(h.Traits.Tools))
		case of == "label":
			v, ok := h.Labels[rest]
			fmt.Fprintf(&b, "%q %t", v, ok)
		case name == "tools.apt":
			// Only whether a key can be embedded matters, unless a condition asks.
			fmt.Fprintf(&b, "%q", h.Traits.Tools["apt"])
		default:
			v, _ := f.Get(name)
			b.WriteString(strconv.Quote(v))
		}
		b.WriteByte(';')
	}
	p := b.String()
	r.classes[key] = p
	return p
}

func pairs(m map[string]string) string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	var b strings.Builder
	for _, k := range keys {
		fmt.Fprintf(&b, "%q=%q,", k, m[k])
	}
	return b.String()
}

// Resolve returns what a host should have.
func (r *Resolver) Resolve(h Host) *Result {
	f := condition.Facts{Host: h.Name, Labels: h.Labels, Traits: h.Traits}
	named := r.byName[h.Name]
	key := r.projection(&h, &f) + "\x00" + named
	if res, ok := r.results[key]; ok {
		return res
	}
	res := r.compute(&h, &f, named)
	r.results[key] = res
	return res
}

// Distinct returns every distinct result so far.
func (r *Resolver) Distinct() []*Result {
	out := make([]*Result, 0, len(r.results))
	for _, res := range r.results {
		out = append(out, res)
	}
	slices.SortFunc(out, func(a, b *Result) int { return strings.Compare(a.Example, b.Example) })
	return out
}

func (res *Result) fail(code string, at diag.Pos, message, remedy string, also ...diag.Pos) {
	res.Trouble = append(res.Trouble, diag.Diagnostic{Code: code, Severity: diag.Error, Pos: at, Message: message, Remedy: remedy, Also: also})
}

func (r *Resolver) compute(h *Host, f *condition.Facts, named string) *Result {
	res := &Result{Example: h.Name, Sheet: &source.Sheet{Format: source.SheetFormat, Family: h.Traits.Family, Unlisted: source.UnlistedReport,
		Files: []source.SheetFile{}, Sources: []source.SheetSource{}, InPlace: []source.InPlace{}, Keys: []source.SheetKey{}}}
	groups := map[string]bool{policy.Everyone: true}
	nums := strings.Split(named, ",")
	for i, g := range r.groups {
		in := slices.Contains(nums, strconv.Itoa(i))
		if !in && g.Where != nil {
			ok, err := g.Where.Holds(f)
			if err != nil {
				res.fail("expression", g.Pos, fmt.Sprintf("the condition of group %q fails on %s: %v", g.Name, h.Name, err), "ask has() first, or write it so that it holds for every host")
			}
			in = ok
		}
		groups[g.Name] = in
	}
	var apply []int
	for i, a := range r.policy.Assignments {
		if slices.ContainsFunc(a.To, func(t policy.Text) bool { return groups[t.Value] }) {
			apply = append(apply, i)
		}
	}
	for _, name := range r.repositories(apply) {
		r.add(res, h, f, name, apply)
	}
	r.unlisted(res, h, apply)
	res.finish()
	return res
}

// repositories lists the repositories of some assignments, sorted.
func (r *Resolver) repositories(apply []int) []string {
	var out []string
	for _, i := range apply {
		for _, t := range r.policy.Assignments[i].Repositories {
			if !slices.Contains(out, t.Value) {
				out = append(out, t.Value)
			}
		}
	}
	slices.Sort(out)
	return out
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
			if i != j && says[i] != says[j] && !r.above[[2]int{i, j}] {
				wins = false
			}
		}
		if wins && (best < 0 || r.above[[2]int{i, best}]) {
			best = i
		}
	}
	if best >= 0 {
		return best, [2]int{}, true
	}
	for _, i := range idx {
		for _, j := range idx {
			if i < j && says[i] != says[j] && !r.above[[2]int{i, j}] && !r.above[[2]int{j, i}] {
				return 0, [2]int{i, j}, false
			}
		}
	}
	return 0, [2]int{idx[0], idx[len(idx)-1]}, false
}

func (r *Resolver) unlisted(res *Result, h *Host, apply []int) {
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
		res.fail("conflict", b.Pos, fmt.Sprintf("unlisted is %q here and %q elsewhere, for the host %s", b.Value, a.Value, h.Name), "say over: in the one that shall win", a.Pos)
		return
	}
	res.Sheet.Unlisted = r.policy.Assignments[i].Unlisted.Value
}

// settings works out the settings of a repository for a host.
func (r *Resolver) settings(res *Result, h *Host, repo *policy.Repository, apply []int) map[string]string {
	out := map[string]string{}
	for name, s := range repo.Settings {
		says := map[int]string{}
		for _, i := range apply {
			if v, ok := r.policy.Assignments[i].Settings[repo.Name+"."+name]; ok {
				says[i] = v.Value
			}
		}
		out[name] = s.Value
		if len(says) == 0 {
			continue
		}
		i, clash, ok := r.strongest(says)
		if !ok {
			key := repo.Name + "." + name
			a, b := r.policy.Assignments[clash[0]].Settings[key], r.policy.Assignments[clash[1]].Settings[key]
			res.fail("conflict", b.Pos, fmt.Sprintf("%s is %q here and %q elsewhere, for the host %s", key, b.Value, a.Value, h.Name), "say over: in the one that shall win", a.Pos)
			continue
		}
		out[name] = says[i]
	}
	return out
}

// add puts one repository on the sheet.
func (r *Resolver) add(res *Result, h *Host, f *condition.Facts, name string, apply []int) {
	repo := r.policy.Repositories[name]
	if repo == nil {
		return
	}
	reason := Reason{Repository: name, At: []diag.Pos{}}
	for _, i := range apply {
		a := r.policy.Assignments[i]
		if slices.ContainsFunc(a.Repositories, func(t policy.Text) bool { return t.Value == name }) {
			reason.At = append(reason.At, a.Pos)
			if reason.Because == "" {
				reason.Because = "assigned to " + joinTexts(a.To)
			}
		}
	}
	reason.At = append(reason.At, repo.Pos)
	if h.Traits.Family != deb.Family {
		reason.Left = true
		reason.Because = fmt.Sprintf("%s, but it says nothing about %s", reason.Because, orUnknown(h.Traits.Family))
		res.Reasons = append(res.Reasons, reason)
		return
	}
	settings := r.settings(res, h, repo, apply)
	lookup := func(v string) (string, bool) {
		if s, ok := settings[v]; ok {
			return s, true
		}
		return f.Get(v)
	}
	enabled := repo.Enabled
	def := *repo.Deb
	for _, c := range repo.Cases {
		ok, err := c.Where.Holds(f)
		if err != nil {
			res.fail("expression", c.Pos, fmt.Sprintf("a case of %q fails on %s: %v", name, h.Name, err), "ask has() first, or write it so that it holds for every host")
		}
		if !ok {
			continue
		}
		reason.At = append(reason.At, c.Pos)
		reason.Because += ", where " + c.Where.Text
		if c.Enabled != nil {
			enabled = *c.Enabled
		}
		merge(&def, c.Deb)
	}
	res.Reasons = append(res.Reasons, reason)
	fill := func(list []policy.Text) []string {
		out := []string{}
		for _, t := range list {
			v, err := policy.Interpolate(t.Value, lookup)
			if err != nil {
				res.fail("unknown-fact", t.Pos, fmt.Sprintf("%v, for the host %s", err, h.Name), "give the setting, or use a fact that the host has")
			} else if v == "" || strings.ContainsAny(v, " \t\r\n") {
				res.fail("value", t.Pos, fmt.Sprintf("%q comes to %q for the host %s, which cannot stand in a source", t.Value, v, h.Name), "use a fact that the host has, or a case")
			} else {
				out = append(out, v)
			}
		}
		return out
	}
	suites, components := fill(def.Suites), fill(def.Components)
	if repo.InPlace {
		rule := source.InPlace{Repository: name, URLs: []string{}, Files: deb.OwnFiles(h.Traits.OS.ID), Suites: suites, Enabled: enabled,
			Components: components, Add: fill(def.Add), Drop: fill(def.Drop)}
		if def.URL != nil {
			for _, u := range fill([]policy.Text{*def.URL}) {
				rule.URLs = append(rule.URLs, deb.EffectiveURL(u, ""))
			}
		}
		res.Sheet.InPlace = append(res.Sheet.InPlace, rule)
		return
	}
	d := deb.Definition{
		Repository: name, Title: repo.Title, Support: repo.Support, Enabled: enabled, Suites: suites,
		Components: append(components, fill(def.Add)...), Archs: fill(def.Archs), Kinds: fill(def.Kinds),
		Signatures: repo.Signatures, Embed: deb.CanEmbed(h.Traits.Tools["apt"]),
	}
	drop := fill(def.Drop)
	d.Components = slices.DeleteFunc(d.Components, func(c string) bool { return slices.Contains(drop, c) })
	if u := fill([]policy.Text{*def.URL}); len(u) == 1 {
		d.URL = u[0]
	} else {
		return
	}
	for _, t := range repo.Keys {
		k := r.policy.Keys[t.Value]
		d.Keys = append(d.Keys, deb.SigningKey{Name: k.Name, Fingerprint: k.Fingerprint, Armored: k.Armored})
	}
	for _, s := range d.Suites {
		flat := strings.HasSuffix(s, "/")
		if flat && len(d.Components) > 0 || !flat && len(d.Components) == 0 {
			res.fail("value", repo.Deb.Pos, fmt.Sprintf("apt would refuse the suite %q with components %v of %q", s, d.Components, name), "a suite that ends in / takes no components, any other needs some")
			return
		}
	}
	files, src, keys := deb.Render(d)
	for _, x := range files {
		if !slices.ContainsFunc(res.Sheet.Files, func(y source.SheetFile) bool { return y.Path == x.Path }) {
			res.Sheet.Files = append(res.Sheet.Files, x)
		}
	}
	res.Sheet.Sources = append(res.Sheet.Sources, src)
	for _, k := range keys {
		if !slices.Contains(res.Sheet.Keys, k) {
			res.Sheet.Keys = append(res.Sheet.Keys, k)
		}
	}
}

// merge lays a case over a definition: lists replace, add- and drop-components
// gather.
func merge(d *policy.Deb, over *policy.Deb) {
	if over == nil {
		return
	}
	if over.URL != nil {
		d.URL = over.URL
	}
	for _, x := range []struct{ to, from *[]policy.Text }{{&d.Suites, &over.Suites}, {&d.Components, &over.Components}, {&d.Archs, &over.Archs}, {&d.Kinds, &over.Kinds}} {
		if *x.from != nil {
			*x.to = *x.from
		}
	}
	d.Add = append(slices.Clone(d.Add), over.Add...)
	d.Drop = append(slices.Clone(d.Drop), over.Drop...)
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
	text, err := source.Canonical(res.Sheet)
	if err != nil { // a struct of texts always encodes
		res.fail("value", diag.Pos{}, err.Error(), "")
		return
	}
	res.Text, res.Digest = text, source.Digest(text)
}
