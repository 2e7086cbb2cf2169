package resolve

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

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

// part is what one repository comes to on a set of hosts.
type part struct {
	id       string
	none     bool // the repository says nothing about the host's family
	files    []source.SheetFile
	sources  []source.SheetSource
	access   *source.SheetAccess
	licensed []source.SheetSource // of a stranger
	inPlace  []source.InPlace
	locks    []source.SheetLock
	need     *source.SheetNeed
	witness  *source.SheetWitness
	keys     []source.SheetKey
	cases    []int
	bad      []diag.Diagnostic
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

// part finds what a repository comes to on a class of hosts.
func (r *Resolver) part(h *Host, f *condition.Facts, c *class, number int, p *plan) *part {
	repo := &r.bare[number]
	stamp := p.stamp[repo.Name]
	if x := c.parts[number]; x != nil && stamp == "" {
		return x
	}
	key, ok := c.keys[number]
	if !ok {
		var b strings.Builder
		b.WriteString(repo.print)
		for _, i := range repo.reads {
			b.WriteString("\x00" + r.reads[i] + "=" + c.facts[i])
		}
		key = b.String()
		c.keys[number] = key
	}
	if stamp != "" {
		key += "\x01" + stamp
	}
	if x, ok := r.memory.parts[key]; ok {
		if stamp == "" {
			c.parts[number] = x
		}
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

// failing notes trouble. At texts into which something is put that the host tells of itself, the policy's own may be right.
func (x *part) failing(told map[diag.Pos]bool) func(code string, at diag.Pos, message, remedy string) {
	return func(code string, at diag.Pos, message, remedy string) {
		if code == "value" && told[at] {
			code = HostFact
		}
		x.bad = append(x.bad, trouble(code, at, message, remedy))
	}
}

// meant reports whether a case of a repository holds on a host.
func meant(c *policy.Case, of string, h *Host, f *condition.Facts, fail func(code string, at diag.Pos, message, remedy string)) bool {
	if fact := unheard(c.Where, f); fact != "" {
		fail(HostFact, c.Pos, fmt.Sprintf("whether a case of %q holds needs %s, which the host %s does not tell", of, fact, h.Name), seeRelease)
	}
	ok, err := c.Where.Holds(f)
	if err != nil {
		fail("expression", c.Pos, fmt.Sprintf("a case of %q fails on %s: %v", of, h.Name, err),
			"ask has() first, or write it so that it holds for every host")
	}
	return ok
}

// work works out what a repository comes to on a host.
func (r *Resolver) work(h *Host, f *condition.Facts, repo *policy.Repository, p *plan) *part {
	x := &part{}
	told := map[diag.Pos]bool{}
	fail := x.failing(told)
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
	enabled, def := repo.Enabled, repo.Definition
	all := &wants{needs: []*policy.Needs{repo.Needs}, witness: repo.Witness}
	for i, c := range repo.Cases {
		if !meant(&repo.Cases[i], name, h, f, fail) {
			continue
		}
		x.cases = append(x.cases, i)
		if c.Enabled != nil {
			enabled = *c.Enabled
		}
		all.cases = append(all.cases, c)
		mergeDefinition(&def, &c.Definition)
	}
	if p.off[name] || p.strange[name] != "" || repo.Keyless {
		enabled = false
	}
	w := &writing{
		Resolver: r, part: x, host: h, repo: repo, enabled: enabled, lookup: lookup, told: told, fail: fail, grant: p.grants[name], plan: p}
	if repo.Media != nil && slices.Contains(p.held, name) {
		w.while = repo.Media.Path.Value
	}
	x.none = true
	for _, write := range []func(string, *policy.Definition) bool{map[string]func(string, *policy.Definition) bool{
		deb.Family:  w.deb,
		rpm.Family:  w.rpm,
		zypp.Family: w.zypp,
		arch.Family: w.arch,
	}[h.Traits.Family], w.flatpak} {
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
