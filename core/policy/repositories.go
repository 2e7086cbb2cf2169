package policy

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/source"
)

func (l *loader) repository(f field) {
	if !isNew(l, f, "repository", l.policy.Repositories, func(x *Repository) diag.Pos { return x.Pos }) {
		return
	}
	r := &Repository{
		Name:       f.key,
		Pos:        f.at,
		Enabled:    true,
		Signatures: source.CheckRequired,
		Settings:   map[string]Setting{},
		At:         map[string]diag.Pos{},
	}
	l.policy.Repositories[f.key] = r
	what := fmt.Sprintf("the repository %q", f.key)
	var sigAt diag.Pos
	said := len(l.out)
	for _, x := range l.mapping(f.node, what, keysOf[repositoryForm]()...) {
		r.At[x.key] = x.at
		switch x.key {
		case "title":
			t, _ := l.text(x, "title")
			r.Title = t.Value
		case "support":
			r.Support = l.oneOf(x, "support", enumOf[repositoryForm]("support")...)
		case "settings":
			for _, s := range l.mapping(x.node, "settings") {
				if t, ok := l.text(s, fmt.Sprintf("the setting %q", s.key)); ok {
					l.noSecret(t)
					l.secretSetting(s.key, t)
					r.Settings[s.key] = t
				}
			}
		case "keys":
			r.Keys = l.list(x, "keys")
		case "signatures":
			r.Signatures, sigAt = l.oneOf(x, "signatures", source.CheckRequired, source.CheckOff), x.at
		case "because":
			t, _ := l.text(x, "because")
			r.Because = t.Value
		case "enabled":
			r.Enabled = l.boolean(x, "enabled")
		case "in-place":
			r.InPlace = l.boolean(x, "in-place")
		case "above":
			r.Above = l.list(x, "above")
		case "below":
			r.Below = l.list(x, "below")
		case "media":
			r.Media = l.media(x)
		case "needs":
			r.Needs = l.needs(x, keysOf[needsForm]()...)
		case "witness":
			r.Witness = l.witness(x)
		case "deb", "rpm", "zypp", "arch", "flatpak", "files":
			l.define(&r.Definition, x)
		case "cases":
			r.Cases = l.cases(x)
		}
	}
	for _, d := range l.out[said:] {
		r.spoilt = r.spoilt || d.Code == "unknown-key" || d.Code == "name-twice"
	}
	l.repositoryRules(r, sigAt)
}

// repositoryRules checks what concerns several keys of a repository at once.
func (l *loader) repositoryRules(r *Repository, sigAt diag.Pos) {
	if r.Signatures == source.CheckOff && strings.TrimSpace(r.Because) == "" {
		l.fail(
			"no-reason",
			sigAt,
			fmt.Sprintf("the repository %q switches signature checks off without a reason", r.Name),
			"say why: because: \"…\"",
		)
	}
	l.reasons(r)
	if r.Empty() && !r.spoilt { // where a key was not understood, that is said
		l.fail(
			"missing",
			r.Pos,
			fmt.Sprintf("the repository %q says nothing about any family of package managers", r.Name),
			"add: deb: { url: …, suites: […], components: […] }, or: rpm: { url: … }",
		)
		return
	}
	if r.InPlace {
		l.inPlaceRules(r)
		return
	}
	l.broughtByNothing(r)
	l.reservedNames(r)
	if r.Signatures == source.CheckRequired && len(r.Keys) == 0 {
		l.fail(
			"key-missing",
			r.Pos,
			fmt.Sprintf("the repository %q names no key, so nothing that it signs could be checked", r.Name),
			"add: keys: [NAME]",
		)
	}
	l.definitionRules(r, "the repository "+strconv.Quote(r.Name), &r.Definition)
	for i := range r.Files {
		l.definitionRules(r, fmt.Sprintf("the file %q of the repository %q", r.Files[i].Name, r.Name), &r.Files[i].Definition)
	}
	for _, c := range r.Cases {
		for i := range c.Files {
			l.definitionRules(r, fmt.Sprintf("the file %q of the repository %q", c.Files[i].Name, r.Name), &c.Files[i].Definition)
		}
	}
}

// reservedNames refuses a name that a package manager takes for something else than a source.
func (l *loader) reservedNames(r *Repository) {
	places := []map[string]*Place{r.Places()}
	for i := range r.Cases {
		places = append(places, r.Cases[i].Places())
	}
	for _, some := range places {
		for _, name := range slices.Sorted(maps.Keys(some)) {
			if f, ok := families.Of(name); ok && some[name] != nil && f.Reserves(r.Name) {
				l.failNewly("name", some[name].Pos,
					fmt.Sprintf("to %s a section [%s] is none of a repository, so the repository %q would not be read", f.Program(), r.Name, r.Name),
					"give it another name")
			}
		}
	}
}

// broughtByNothing refuses comes-by where the policy itself writes the entries.
func (l *loader) broughtByNothing(r *Repository) {
	definitions := []*Definition{&r.Definition}
	for i := range r.Cases {
		definitions = append(definitions, &r.Cases[i].Definition)
	}
	for _, d := range definitions {
		var said []Text
		if d.Deb != nil {
			said = given(d.Deb.ComesBy)
		}
		for _, p := range d.Places() {
			if p != nil {
				said = append(said, given(p.ComesBy)...)
			}
		}
		for _, t := range said {
			l.fail("value", t.Pos, fmt.Sprintf("the entries of %q come by a package, and the policy writes them as well", r.Name),
				"add: in-place: true, or say the package under needs")
		}
	}
}

// inPlaceRules checks a repository that is the distribution's own.
func (l *loader) inPlaceRules(r *Repository) {
	for name, p := range r.Places() {
		switch {
		case p == nil:
		case name == "flatpak":
			l.fail(
				"value",
				p.Pos,
				fmt.Sprintf("the repository %q is edited in place, and flatpak has no entries of the distribution's own", r.Name),
				"drop in-place, or flatpak",
			)
		case len(p.Sections) == 0:
			l.fail(
				"missing",
				p.Pos,
				fmt.Sprintf("the repository %q is edited in place and does not say which sections are meant", r.Name),
				"add: sections: [NAME]",
			)
		case p.URL != nil || p.Mirrors != nil || p.Access != nil || p.Authority != nil || p.Priority != nil:
			l.fail(
				"value",
				p.Pos,
				fmt.Sprintf("the repository %q is edited in place and keeps what its sections say", r.Name),
				"leave sections alone there, or drop in-place",
			)
		}
	}
	for _, x := range [][]Text{r.Above, r.Below} {
		if len(x) > 0 {
			l.fail(
				"value",
				x[0].Pos,
				fmt.Sprintf("the repository %q is edited in place and keeps its place in the order", r.Name),
				"say above or below in the other repository",
			)
		}
	}
	if r.Media != nil {
		l.fail(
			"value",
			r.Media.Pos,
			fmt.Sprintf("the repository %q is edited in place and keeps the URLs of its entries", r.Name),
			"drop media, or in-place",
		)
	}
	if len(r.Files) > 0 {
		l.fail(
			"value",
			r.Files[0].Pos,
			fmt.Sprintf("the repository %q is edited in place and has no files of its own", r.Name),
			"drop files, or in-place",
		)
	}
	if r.Deb != nil && len(r.Deb.Suites) == 0 {
		l.fail("missing", r.Deb.Pos, fmt.Sprintf("the repository %q names no suites", r.Name), "add: suites: [stable]")
	}
}

// definitionRules checks what must be given of a file of the policy's own.
func (l *loader) definitionRules(r *Repository, what string, d *Definition) {
	plain := func(u *Text) {
		if r.Signatures == source.CheckOff && u != nil && strings.HasPrefix(expandDefaults(u.Value, r.Settings), "http://") {
			l.report(
				"plain-transport",
				diag.Warning,
				u.Pos,
				what+" comes over http without a signature check: anybody on the way can change it",
				"use https, or check signatures",
			)
		}
	}
	for _, p := range d.Places() {
		if p == nil {
			continue
		}
		l.oneWay(what, p.Pos, p.URL, p.Mirrors)
		if len(p.Sections) > 0 {
			l.fail("value", p.Sections[0].Pos, what+" names sections and is not edited in place", "add: in-place: true, or drop sections")
		}
		plain(p.URL)
		for i := range p.Mirrors {
			plain(&p.Mirrors[i])
		}
	}
	deb := d.Deb
	if deb == nil {
		return
	}
	if len(deb.Suites) == 0 {
		l.fail("missing", deb.Pos, what+" names no suites", "add: suites: [stable]")
	}
	l.oneWay(what, deb.Pos, deb.URL, deb.Mirrors)
	if len(deb.Add)+len(deb.Drop) > 0 {
		l.fail(
			"value",
			deb.Pos,
			"add-components and drop-components outside a case are for repositories that are edited in place",
			"list what is wanted under components",
		)
	}
	plain(deb.URL)
	for i := range deb.Mirrors {
		plain(&deb.Mirrors[i])
	}
}

// oneWay wants a URL or mirrors, and not both.
func (l *loader) oneWay(what string, at diag.Pos, url *Text, mirrors []Text) {
	switch {
	case url == nil && mirrors == nil:
		l.fail("missing", at, what+" has no url", "add: url: \"https://…\"")
	case url != nil && len(mirrors) > 0:
		l.fail("value", mirrors[0].Pos, what+" has a url and mirrors", "keep one of them")
	}
}

func expandDefaults(s string, settings map[string]Setting) string {
	for k, v := range settings {
		s = strings.ReplaceAll(s, "${"+k+"}", v.Value)
	}
	return s
}

func (l *loader) deb(f field) *Deb {
	d := &Deb{Pos: f.at}
	for _, x := range l.mapping(f.node, "deb", keysOf[debForm]()...) {
		switch x.key {
		case "url":
			d.URL = l.url(x)
		case "suites":
			d.Suites = l.words(x)
		case "components":
			d.Components = l.words(x)
		case "architectures":
			d.Archs = l.words(x)
		case "kinds":
			d.Kinds = l.list(x, "kinds")
			for _, k := range d.Kinds {
				if k.Value != "binary" && k.Value != "source" {
					l.fail("value", k.Pos, fmt.Sprintf("kind %q is not known", k.Value), "it must be binary or source")
				}
			}
		case "add-components":
			d.Add = l.words(x)
		case "drop-components":
			d.Drop = l.words(x)
		case "mirrors":
			d.Mirrors = l.mirrors(x)
		case "comes-by":
			d.ComesBy = l.packageName(x)
		case "pin":
			if t, ok := l.text(x, "pin"); ok {
				d.Pin = &t
				if k, _, _ := strings.Cut(t.Value, " "); k != "release" && k != "origin" && k != "version" ||
					strings.ContainsAny(t.Value, "\r\n") {
					l.fail(
						"value",
						t.Pos,
						fmt.Sprintf("the pin is %q", t.Value),
						"write it as Pin: of preferences(5), such as release o=Saltmarsh",
					)
				}
			}
		case "release":
			d.Releases = l.releases(x)
		case "needs":
			d.Needs = l.needs(x, keysOf[familyNeedsForm]()...)
		case "witness":
			d.Witness = l.witness(x)
		case "priority":
			d.Priority = l.number(x, "priority")
			if d.Priority != nil && *d.Priority == 0 {
				l.failNewly("value", x.at, "the priority is 0, and with such a pin apt refuses to work at all",
					"leave it out, or take 1 for what is to come last, or a number below 0 for what is never to be installed")
			}
		}
	}
	if d.Pin != nil && d.Releases != nil {
		l.fail("conflict", d.Pin.Pos, "both pin and release say what the pin matches", "keep one of them")
	}
	return d
}

// releases reads what Release files say: one mapping, or a list of them.
func (l *loader) releases(f field) (out []Release) {
	nodes := []ast.Node{f.node}
	if seq, ok := f.node.(*ast.SequenceNode); ok {
		nodes = seq.Values
	}
	for _, n := range nodes {
		r := Release{Pos: l.pos(n)}
		for _, x := range l.mapping(n, "release", keysOf[releaseForm]()...) {
			switch x.key {
			case "not-automatic":
				r.NotAutomatic = l.boolean(x, x.key)
			case "but-automatic-upgrades":
				r.ButAutomaticUpgrades = l.boolean(x, x.key)
			default:
				t, ok := l.text(x, x.key)
				if !ok {
					continue
				}
				if strings.ContainsAny(t.Value, ",\r\n") {
					l.fail(
						"value",
						t.Pos,
						fmt.Sprintf("the %s of the release is %q, and a pin cannot say a comma", x.key, t.Value),
						"leave it out and give the others",
					)
				}
				*map[string]**Text{"origin": &r.Origin, "label": &r.Label, "suite": &r.Suite, "codename": &r.Codename}[x.key] = &t
			}
		}
		if len(r.Texts()) == 0 {
			l.fail(
				"missing",
				r.Pos,
				"the release says nothing that a pin can match",
				"give origin, label, suite or codename as the Release file says them; lantern policy check --upstreams asks",
			)
			continue
		}
		out = append(out, r)
	}
	return out
}

func (l *loader) cases(f field) []Case {
	seq, ok := f.node.(*ast.SequenceNode)
	if !ok {
		l.fail("value", l.pos(f.node), "cases must be a list", "begin each case with: - where:")
		return nil
	}
	var out []Case
	for _, n := range seq.Values {
		c := Case{Pos: l.pos(n)}
		for _, x := range l.mapping(n, "a case", keysOf[caseForm]()...) {
			switch x.key {
			case "where":
				c.Where = l.condition(x)
			case "deb", "rpm", "zypp", "arch", "flatpak", "files":
				l.define(&c.Definition, x)
			case "enabled":
				b := l.boolean(x, "enabled")
				c.Enabled = &b
			case "needs":
				c.Needs = l.needs(x, keysOf[familyNeedsForm]()...)
			case "witness":
				c.Witness = l.witness(x)
			}
		}
		if c.Where == nil {
			if len(l.out) == 0 || l.out[len(l.out)-1].Code != "expression" {
				l.fail("missing", c.Pos, "the case has no condition", "add: where: 'os.major >= 12'")
			}
			continue
		}
		out = append(out, c)
	}
	return out
}

func (l *loader) condition(f field) *condition.Condition {
	t, ok := l.text(f, "where")
	if !ok {
		return nil
	}
	c, err := l.compiler.Compile(t.Value)
	if err == nil {
		return c
	}
	at := t.Pos
	remedy := "facts are " + strings.Join(condition.Names(), ", ") + ", label.NAME, tools.NAME"
	var ce *condition.Error
	if errors.As(err, &ce) {
		if tok := f.node.GetToken(); tok != nil && !strings.Contains(t.Value, "\n") {
			at.Column += ce.Offset
			if o := strings.TrimSpace(tok.Origin); strings.HasPrefix(o, "'") || strings.HasPrefix(o, `"`) {
				at.Column++
			}
		}
		if ce.Near != "" {
			remedy = fmt.Sprintf("did you mean %q?", ce.Near)
		}
	}
	l.fail(
		"expression",
		at,
		fmt.Sprintf("the condition `%s` does not compile: %v", strings.Join(strings.Fields(t.Value), " "), err),
		remedy,
	)
	return nil
}
