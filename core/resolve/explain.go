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
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/source"
)

// Explain says why a host has what its sheet says, line by line, and why it has not
// what other hosts have.
func (r *Resolver) Explain(h Host) (*reason.Explanation, error) {
	res := r.Resolve(h)
	if said := r.policy.Labels[h.Name]; len(said) > 0 {
		h.label(said)
	}
	f := condition.Facts{Host: h.Name, Labels: h.Labels, Traits: h.Traits}
	compiler, err := condition.NewCompiler()
	if err != nil {
		return nil, err
	}
	e := &explainer{Resolver: r, res: res, host: &h, facts: &f, compiler: compiler, without: map[*policy.Group]string{}}
	out := &reason.Explanation{
		Host:         h.Name,
		Files:        []reason.FileReason{},
		Rules:        []reason.RuleReason{},
		Repositories: []reason.RepositoryReason{},
	}
	for i, name := range res.plan.repositories {
		if res.plan.strange[name] == "" && !res.parts[i].none {
			e.part(out, r.policy.Repositories[name], res.parts[i])
		}
	}
	slices.SortStableFunc(out.Files, func(a, b reason.FileReason) int { return strings.Compare(a.Path, b.Path) })
	for _, name := range sortedKeys(r.policy.Repositories) {
		out.Repositories = append(out.Repositories, e.repository(name))
	}
	return out, nil
}

type explainer struct {
	*Resolver
	res      *Result
	host     *Host
	facts    *condition.Facts
	compiler *condition.Compiler
	without  map[*policy.Group]string
}

func at(what string, pos diag.Pos) reason.Cause {
	if pos.Line == 0 {
		return reason.Cause{What: what}
	}
	return reason.Cause{What: what, At: &pos}
}

// part explains the files and rules of one repository.
func (e *explainer) part(out *reason.Explanation, repo *policy.Repository, x *part) {
	def := repo.Definition
	for _, n := range x.cases {
		mergeDefinition(&def, &repo.Cases[n].Definition)
	}
	here := &explained{explainer: e, repo: repo, part: x}
	byPath := map[string]*policy.Definition{}
	note := func(name string, d *policy.Definition) {
		for _, p := range []string{deb.PartsDir + "/" + name + ".sources", rpm.ReposDir + "/" + name + ".repo", zypp.ReposDir + "/" + name +
			".repo", arch.Path(name),
			deb.PreferencesDir + "/lantern-" + name + ".pref", "/etc/apt/mirrors/" + name + ".list", "/etc/dnf/mirrors/" + name + ".list",
			zypp.MirrorList(name), arch.Dir + "/lantern-" + name + ".mirrors"} {
			byPath[p] = d
		}
	}
	note(repo.Name, &def)
	for i := range def.Files {
		note(repo.Name+"-"+def.Files[i].Name, &def.Files[i].Definition)
	}
	for _, rule := range x.inPlace {
		for _, m := range rule.Mirrors {
			if file, list := source.MirrorListOf(m.At); list {
				byPath[file] = &def
			}
		}
	}
	for _, f := range x.files {
		if slices.ContainsFunc(out.Files, func(y reason.FileReason) bool { return y.Path == f.Path }) {
			continue
		}
		file := reason.FileReason{Path: f.Path, Repository: repo.Name, While: f.While, Lines: []reason.LineReason{}}
		aspect := ""
		for n, line := range strings.Split(strings.TrimRight(f.Text, "\n"), "\n") {
			if next := aspectOf(f.Path, line); next != "" {
				aspect = next
			}
			causes := here.proxied()
			if aspect != "proxy" {
				causes = append(here.causes(aspect, f, byPath[f.Path]), here.sited(line)...)
			}
			file.Lines = append(file.Lines, reason.LineReason{Number: n + 1, Text: line, Causes: causes})
		}
		out.Files = append(out.Files, file)
	}
	for i := range x.sources {
		if s := &x.sources[i]; s.Family != "" {
			d := &def
			file := reason.FileReason{Path: s.File, Repository: repo.Name, Lines: []reason.LineReason{}}
			for n, l := range [][2]string{
				{`[remote "` + s.ID + `"]`, "name"},
				{"url=" + strings.Join(s.URLs, ""), "flatpak"},
				{"gpg-verify=" + strconv.FormatBool(s.Signatures != source.CheckOff), "signatures"},
				{"xa.title=" + s.Title, "title"},
			} {
				file.Lines = append(
					file.Lines,
					reason.LineReason{Number: n + 1, Text: l[0], Causes: here.causes(l[1], source.SheetFile{Path: s.File}, d)},
				)
			}
			out.Files = append(out.Files, file)
		}
	}
	for _, rule := range x.inPlace {
		here.rule(out, rule, &def)
	}
	for _, l := range x.locks {
		out.Rules = append(out.Rules, reason.RuleReason{
			Repository: l.Repository, Text: "a lock of " + l.Package + " stands in " + zypp.Locks + ", " + l.Criteria,
			Causes: here.held(), Stands: []string{zypp.Locks},
		})
	}
}

type explained struct {
	*explainer
	repo *policy.Repository
	part *part
}

// fieldAspects maps what a line begins with to what it follows from.
var fieldAspects = map[string]string{
	"Types":         "kinds",
	"URIs":          "url",
	"Suites":        "suites",
	"Components":    "components",
	"Architectures": "architectures",
	"Signed-By":     "keys",
	"Enabled":       "enabled",
	"Trusted":       "signatures",
	"name":          "title",
	"baseurl":       "url",
	"mirrorlist":    "url",
	"enabled":       "enabled",
	"autorefresh":   "always",
	"gpgcheck":      "signatures",
	"repo_gpgcheck": "signatures",
	"pkg_gpgcheck":  "signatures",
	"gpgkey":        "keys",
	"priority":      "order",
	"sslcacert":     "authority",
	"username":      "access",
	"password":      "access",
	"sslclientcert": "access",
	"sslclientkey":  "access",
	"SigLevel":      "signatures", "Server": "url", "Include": "url", "Package": "order", "Pin": "pin", "Pin-Priority": "order",
	"excludepkgs": "hold", "IgnorePkg": "hold", "proxy": "proxy", "Acquire": "proxy",
}

// aspectOf tells what a line follows from; empty where that is as for the line before.
func aspectOf(path, line string) string {
	switch {
	case strings.HasSuffix(path, ".asc"):
		return "key"
	case strings.HasSuffix(path, ".pem"):
		return "authority"
	}
	bare := strings.TrimPrefix(line, "#")
	if line == "[options]" || strings.HasPrefix(path, deb.HoldPath("")) && bare == line {
		return "hold"
	}
	if strings.HasPrefix(bare, "[") {
		return "name"
	}
	key, _, ok := strings.Cut(bare, "=")
	if !ok || strings.Contains(key, ":") {
		key, _, ok = strings.Cut(bare, ":")
	}
	if a := fieldAspects[strings.TrimSpace(key)]; ok && a != "" && !strings.HasPrefix(line, " ") && !strings.HasPrefix(line, "# ") {
		return a
	}
	switch {
	case strings.HasPrefix(line, "#") && strings.Contains(family.Head, line+"\n"), line == "#":
		return "head"
	case strings.HasPrefix(line, "#"):
		return "title"
	case strings.HasPrefix(line, "http"), strings.HasPrefix(line, "file:"):
		return "url"
	}
	return ""
}

// causes says what a line of one aspect follows from.
func (e *explained) causes(aspect string, f source.SheetFile, d *policy.Definition) []reason.Cause {
	repo := e.repo
	own := func(key, what string) reason.Cause { return at(what, e.own(key)) }
	kind := e.host.Traits.Family
	var place *policy.Place
	if d != nil {
		place = d.Places()[kind]
		if f.Path == "/var/lib/flatpak/repo/config" {
			place = d.Flat
		}
	}
	texts := func(what string, lists ...[]policy.Text) (out []reason.Cause) {
		for _, l := range lists {
			for _, t := range l {
				out = append(out, e.text(what, t)...)
			}
		}
		return out
	}
	one := func(t *policy.Text) []policy.Text {
		if t == nil {
			return nil
		}
		return []policy.Text{*t}
	}
	isDeb := d != nil && d.Deb != nil && strings.HasPrefix(f.Path, "/etc/apt/")
	switch aspect {
	case "head":
		return []reason.Cause{{What: "at the top of every file of the policy"}}
	case "title":
		return []reason.Cause{own("title", "the title of the repository "+repo.Name)}
	case "name":
		return append([]reason.Cause{at("the repository "+repo.Name, repo.Pos)}, e.why()...)
	case "url", "flatpak":
		if isDeb {
			return texts("url", one(d.Deb.URL), d.Deb.Mirrors)
		}
		if place != nil {
			return texts("url", one(place.URL), place.Mirrors)
		}
	case "suites", "components", "architectures", "kinds":
		if !isDeb {
			break
		}
		switch aspect {
		case "suites":
			return texts("suites", d.Deb.Suites)
		case "components":
			return append(texts("components", d.Deb.Components, d.Deb.Add), texts("taken out", d.Deb.Drop)...)
		case "architectures":
			return texts("architectures", d.Deb.Archs)
		}
		if len(d.Deb.Kinds) > 0 {
			return texts("kinds", d.Deb.Kinds)
		}
		return []reason.Cause{{What: "binary packages, where the policy does not say otherwise"}}
	case "keys", "key":
		var out []reason.Cause
		for _, t := range repo.Trusts {
			k := e.policy.Keys[t.Value]
			if aspect == "key" && !strings.HasSuffix(f.Path, "/"+k.Name+".asc") {
				continue
			}
			what := "the key " + k.Name + ", which " + repo.Name + " trusts"
			if k.Succeeds != nil {
				what = "the key " + k.Name + ", which succeeds " + k.Succeeds.Value
			}
			out = append(out, at(what, t.Pos), at("pinned as "+k.Fingerprint, k.Pos))
		}
		return out
	case "signatures":
		if repo.Signatures == source.CheckOff {
			return []reason.Cause{own("signatures", "signatures are not checked: "+repo.Because)}
		}
		return []reason.Cause{{What: "signatures are checked, where the policy does not say otherwise"}}
	case "enabled":
		return e.enabled()
	case "hold":
		return e.held()
	case "order", "pin":
		return e.ordered(aspect, d, place, isDeb)
	case "authority":
		if place != nil && place.Authority != nil {
			return []reason.Cause{at("the authority that vouches for the server", place.Authority.Pos)}
		}
		for _, p := range repo.Places() {
			if p != nil && p.Authority != nil {
				return []reason.Cause{at("the authority that vouches for the server", p.Authority.Pos)}
			}
		}
	case "access":
		out := e.why()
		if place != nil && place.Access != nil {
			out = append([]reason.Cause{at("access: "+place.Access.Value, place.Access.Pos)}, out...)
		}
		return out
	case "always":
		return []reason.Cause{{What: "in every file for this package manager"}}
	}
	return []reason.Cause{at("the repository "+repo.Name, repo.Pos)}
}

// text explains a text: where it stands, the case that it is of, and what was filled in.
func (e *explained) text(what string, t policy.Text) []reason.Cause {
	out := []reason.Cause{at(what+": "+t.Value, t.Pos)}
	for _, n := range e.part.cases {
		c := &e.repo.Cases[n]
		for x := range c.Texts {
			if x.Pos == t.Pos {
				out = append(out, at("the case where "+c.Where.Text+" ("+strings.Join(c.Where.Read(e.facts), ", ")+")", c.Pos))
				break
			}
		}
	}
	seen := map[string]bool{}
	var fill func(s string)
	fill = func(s string) {
		for name := range policy.Variables(s) {
			if seen[name] {
				continue
			}
			seen[name] = true
			out = append(out, e.variable(name)...)
			if v, ok := e.repo.Settings[name]; ok {
				fill(v.Value)
			}
		}
	}
	fill(t.Value)
	return out
}

// variable explains one ${name}.
func (e *explained) variable(name string) []reason.Cause {
	repo := e.repo
	if v, changed := e.res.plan.settings[repo.Name][name]; changed {
		for i, a := range e.policy.Assignments {
			s, says := a.Settings[repo.Name+"."+name]
			if says && s.Value == v && slices.Contains(e.res.plan.apply, i) {
				return []reason.Cause{at(fmt.Sprintf("${%s} is %q for %s", name, v, joinTexts(a.To)), s.Pos)}
			}
		}
	}
	if s, ok := repo.Settings[name]; ok {
		return []reason.Cause{at(fmt.Sprintf("${%s} is %q", name, s.Value), s.Pos)}
	}
	switch {
	case name == policy.MediaName && repo.Media != nil && slices.Contains(e.res.plan.held, repo.Name):
		return []reason.Cause{at("${media} is a folder of this host, which holds the media", repo.Media.Pos)}
	case name == policy.MediaName && repo.Media != nil:
		return []reason.Cause{at("${media} is a URL: "+repo.Media.Host.Value+" holds the media", repo.Media.Pos)}
	case name == policy.TokenName:
		return []reason.Cause{{What: "${access.token} is filled in on the host"}}
	}
	v, _ := e.facts.Get(name)
	return []reason.Cause{{What: fmt.Sprintf("${%s} is %q on this host", name, v)}}
}

// enabled says why the repository is on, or off.
func (e *explained) enabled() []reason.Cause {
	if e.res.plan.off[e.repo.Name] {
		return e.why()
	}
	for _, n := range slices.Backward(e.part.cases) {
		if c := &e.repo.Cases[n]; c.Enabled != nil {
			return []reason.Cause{at(fmt.Sprintf("enabled: %t, where %s", *c.Enabled, c.Where.Text), c.Pos)}
		}
	}
	if pos, said := e.repo.At["enabled"]; said {
		return []reason.Cause{at(fmt.Sprintf("enabled: %t", e.repo.Enabled), pos)}
	}
	return append([]reason.Cause{{What: "on, where the policy does not say otherwise"}}, e.why()...)
}

// why says who gave the repository to the host.
func (e *explained) why() []reason.Cause {
	b := e.Resolver.because(e.res.plan, e.repo)
	out := []reason.Cause{{What: b.Because}}
	if len(b.At) > 0 {
		out[0] = at(b.Because, b.At[0])
	}
	return out
}

// rule explains what must hold of the distribution's own entries.
func (e *explained) rule(out *reason.Explanation, rule source.InPlace, d *policy.Definition) {
	add := func(text string, lists ...[]policy.Text) {
		r := reason.RuleReason{
			Repository: rule.Repository, Text: text, Causes: []reason.Cause{}, Stands: rule.Files, Sections: rule.Sections,
		}
		for _, l := range lists {
			for _, t := range l {
				r.Causes = append(r.Causes, e.text("says", t)...)
			}
		}
		out.Rules = append(out.Rules, r)
	}
	state := map[bool]string{true: "on", false: "off"}[rule.Enabled]
	if len(rule.Mirrors) > 0 {
		r := reason.RuleReason{
			Repository: rule.Repository, Text: "what stands at upstream comes from the site's mirrors", Causes: []reason.Cause{},
			Stands: rule.Files, Sections: rule.Sections,
		}
		for _, m := range rule.Mirrors {
			r.Causes = append(r.Causes, e.sited(m.At)...)
		}
		out.Rules = append(out.Rules, r)
	}
	if rule.Proxy != "" {
		out.Rules = append(out.Rules, reason.RuleReason{
			Repository: rule.Repository, Text: "what has no mirror at the site comes through its proxy", Causes: e.proxied(),
			Stands: rule.Files, Sections: rule.Sections,
		})
	}
	if len(rule.Sections) > 0 {
		add("sections "+strings.Join(rule.Sections, " ")+" are "+state, d.Places()[e.host.Traits.Family].Sections)
		return
	}
	if d.Deb == nil {
		return
	}
	add("suites "+strings.Join(rule.Suites, " ")+" are "+state, d.Deb.Suites)
	if len(rule.Components) > 0 {
		add("components are "+strings.Join(rule.Components, " "), d.Deb.Components)
	}
	if len(rule.Add) > 0 {
		add("components "+strings.Join(rule.Add, " ")+" are added", d.Deb.Add)
	}
	if len(rule.Drop) > 0 {
		add("components "+strings.Join(rule.Drop, " ")+" are taken out", d.Deb.Drop)
	}
}

// absent says why a host does not have a repository: what would have to hold.
func (e *explainer) absent(name string) (out []reason.Cause) {
	for _, a := range e.policy.Assignments {
		what := ""
		pos := a.Pos
		for _, t := range a.Repositories {
			if t.Value == name {
				what, pos = "assigned to "+joinTexts(a.To), t.Pos
			}
		}
		for _, channel := range sortedKeys(a.Channels) {
			x := a.Channels[channel]
			choice := e.policy.Channels[channel].Choice(x.Choice.Value)
			if choice != nil && choice.Repository.Value == name {
				what, pos = fmt.Sprintf("%s follows %s of the channel %s", joinTexts(a.To), choice.Name, channel), x.Pos
			}
			if choice != nil {
				for v, t := range choice.Variants {
					if t.Value == name {
						what, pos = fmt.Sprintf(
							"a %s variant of %s in the channel %s, for those who ask for it",
							v,
							choice.Name,
							channel,
						), x.Pos
					}
				}
			}
		}
		if what == "" {
			continue
		}
		out = append(out, at(what, pos))
		for _, t := range a.To {
			if g := e.policy.Groups[t.Value]; g != nil {
				out = append(out, at(e.outside(g, 0), g.Pos))
			}
		}
	}
	if len(out) == 0 {
		out = append(out, at("no assignment gives it to anybody", e.policy.Repositories[name].Pos))
	}
	return out
}
