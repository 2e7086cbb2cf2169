package policy

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/diag"
)

// define reads one family's part of a definition.
func (l *loader) define(d *Definition, x field) {
	switch x.key {
	case "deb":
		d.Deb = l.deb(x)
	case "rpm":
		d.Rpm = l.place(x)
	case "zypp":
		d.Zypp = l.place(x)
	case "arch":
		d.Arch = l.place(x)
	case "flatpak":
		d.Flat = l.place(x)
	case "files":
		for _, f := range l.mapping(x.node, "files") {
			if !l.name(f, "file", diag.Pos{}, false) {
				continue
			}
			e := Extra{Name: f.key, Pos: f.at}
			for _, y := range l.mapping(f.node, fmt.Sprintf("the file %q", f.key), keysOf[definitionForm]()...) {
				l.define(&e.Definition, y)
			}
			if e.Empty() {
				l.fail(
					"missing",
					f.at,
					fmt.Sprintf("the file %q says nothing about any family of package managers", f.key),
					"add: deb: { url: …, suites: […], components: […] }, or: rpm: { url: … }",
				)
				continue
			}
			d.Files = append(d.Files, e)
		}
	}
}

func (l *loader) url(f field) *Text {
	t, ok := l.text(f, "url")
	if !ok {
		return nil
	}
	l.noSecret(t)
	l.checkURL(t)
	return &t
}

// mirrors is a list of URLs.
func (l *loader) mirrors(f field) []Text {
	list := l.list(f, "mirrors")
	for _, t := range list {
		l.noSecret(t)
		l.checkURL(t)
	}
	if list != nil && len(list) == 0 {
		l.fail("value", f.at, "the list of mirrors is empty", "name at least one, or give url")
	}
	return list
}

func (l *loader) number(f field, what string) *int {
	t, ok := l.text(f, what)
	if !ok {
		return nil
	}
	n, err := strconv.Atoi(t.Value)
	if err != nil || n < -9999 || n > 9999 {
		l.fail("value", t.Pos, fmt.Sprintf("%s is %q", what, t.Value), "it must be a whole number of at most four digits")
		return nil
	}
	return &n
}

func (l *loader) place(f field) *Place {
	d := &Place{Pos: f.at}
	allowed := map[string][]string{
		"rpm":     keysOf[rpmForm](),
		"zypp":    keysOf[zyppForm](),
		"arch":    keysOf[archForm](),
		"flatpak": keysOf[flatpakForm](),
	}[f.key]
	for _, x := range l.mapping(f.node, f.key, allowed...) {
		switch x.key {
		case "url":
			d.URL = l.url(x)
		case "mirrors":
			d.Mirrors = l.mirrors(x)
		case "sections":
			d.Sections = l.words(x)
		case "comes-by":
			d.ComesBy = l.packageName(x)
		case "priority":
			d.Priority = l.number(x, "priority")
		case "needs":
			d.Needs = l.needs(x, keysOf[familyNeedsForm]()...)
		case "witness":
			d.Witness = l.witness(x)
		case "access":
			v := l.oneOf(x, "access", Accesses[f.key]...)
			d.Access = &Text{v, x.at}
		case "authority":
			if t, ok := l.text(x, "authority"); ok {
				d.Authority = l.authority(t)
			}
		}
	}
	l.tokenRules(d)
	return d
}

// tokenRules wants ${access.token} in the URL where access is by token, and nowhere
// else.
func (l *loader) tokenRules(d *Place) {
	if d.URL == nil {
		return
	}
	has := strings.Contains(d.URL.Value, "${"+TokenName+"}")
	byToken := d.Access != nil && d.Access.Value == AccessToken
	switch {
	case has && !byToken:
		l.fail("value", d.URL.Pos, "${"+TokenName+"} stands in a url whose access is not by token", "add: access: "+AccessToken)
	case byToken && !has:
		l.fail("value", d.URL.Pos, "access is by token, and the url does not say where the token goes", "write ${"+TokenName+"} there")
	}
}

// authority reads a file of certificates that stands in the folder.
func (l *loader) authority(t Text) *Text {
	name := path.Clean(path.Join(path.Dir(l.file), t.Value))
	data, ok := l.folder[name]
	switch {
	case !ok || path.Ext(name) != ".pem":
		l.fail(
			"key-file",
			t.Pos,
			fmt.Sprintf("the file %q of certificates is not in the folder", name),
			"put it there under a name that ends in .pem; nothing is fetched from the net",
		)
	case strings.Contains(string(data), "PRIVATE KEY"):
		l.fail(
			"secret",
			t.Pos,
			fmt.Sprintf("the file %q holds a private key", name),
			"put the certificate alone there, and treat the private key as lost",
		)
	case !strings.Contains(string(data), "-----BEGIN CERTIFICATE-----"):
		l.fail(
			"key-file",
			t.Pos,
			fmt.Sprintf("the file %q holds no certificate in PEM", name),
			"put the certificate of the authority there",
		)
	default:
		return &Text{string(data), t.Pos}
	}
	return nil
}

// Texts yields every text of a definition in which names are filled in.
func (d *Definition) Texts(yield func(Text) bool) {
	for _, t := range d.texts(nil) {
		if !yield(t) {
			return
		}
	}
}

func (d *Definition) texts(out []Text) []Text {
	if d.Deb != nil {
		if d.Deb.URL != nil {
			out = append(out, *d.Deb.URL)
		}
		out = slices.Concat(out, d.Deb.Mirrors, d.Deb.Suites, d.Deb.Components, d.Deb.Archs, d.Deb.Add, d.Deb.Drop, given(d.Deb.ComesBy))
	}
	for _, p := range []*Place{d.Rpm, d.Zypp, d.Arch, d.Flat} {
		if p == nil {
			continue
		}
		if p.URL != nil {
			out = append(out, *p.URL)
		}
		out = slices.Concat(out, p.Mirrors, p.Sections, given(p.ComesBy))
	}
	if d.Deb != nil && d.Deb.Pin != nil {
		out = append(out, *d.Deb.Pin)
	}
	if d.Deb != nil {
		for i := range d.Deb.Releases {
			for _, t := range d.Deb.Releases[i].Texts() {
				out = append(out, *t)
			}
		}
	}
	for i := range d.Files {
		out = d.Files[i].texts(out)
	}
	return out
}
