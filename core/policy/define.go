package policy

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
)

// define reads one family's part of a definition.
func (l *loader) define(d *Definition, x field) {
	switch x.key {
	case "deb":
		d.Deb = l.deb(x)
	case "rpm":
		d.Rpm = l.rpm(x)
	case "files":
		for _, f := range l.mapping(x.node, "files") {
			if !l.name(f, "file", diag.Pos{}, false) {
				continue
			}
			e := Extra{Name: f.key, Pos: f.at}
			for _, y := range l.mapping(f.node, fmt.Sprintf("the file %q", f.key), "deb", "rpm") {
				switch y.key {
				case "deb":
					e.Deb = l.deb(y)
				case "rpm":
					e.Rpm = l.rpm(y)
				}
			}
			if e.Deb == nil && e.Rpm == nil {
				l.fail("missing", f.at, fmt.Sprintf("the file %q says nothing about any family of package managers", f.key), "add: deb: { url: …, suites: […], components: […] }, or: rpm: { url: … }")
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
	if !strings.Contains(t.Value, ":") && !strings.HasPrefix(t.Value, "${") {
		l.fail("value", t.Pos, fmt.Sprintf("the url %q has no scheme", t.Value), "begin it with https://")
	}
	return &t
}

func (l *loader) rpm(f field) *Rpm {
	d := &Rpm{Pos: f.at}
	for _, x := range l.mapping(f.node, "rpm", "url", "access", "authority") {
		switch x.key {
		case "url":
			d.URL = l.url(x)
		case "access":
			v := l.oneOf(x, "access", AccessLogin, AccessCertificate)
			d.Access = &Text{v, x.at}
		case "authority":
			if t, ok := l.text(x, "authority"); ok {
				d.Authority = l.authority(t)
			}
		}
	}
	return d
}

// authority reads a file of certificates that stands in the folder.
func (l *loader) authority(t Text) *Text {
	name := path.Clean(path.Join(path.Dir(l.file), t.Value))
	data, ok := l.folder[name]
	switch {
	case !ok || path.Ext(name) != ".pem":
		l.fail("key-file", t.Pos, fmt.Sprintf("the file %q of certificates is not in the folder", name), "put it there under a name that ends in .pem; nothing is fetched from the net")
	case strings.Contains(string(data), "PRIVATE KEY"):
		l.fail("secret", t.Pos, fmt.Sprintf("the file %q holds a private key", name), "put the certificate alone there, and treat the private key as lost")
	case !strings.Contains(string(data), "-----BEGIN CERTIFICATE-----"):
		l.fail("key-file", t.Pos, fmt.Sprintf("the file %q holds no certificate in PEM", name), "put the certificate of the authority there")
	default:
		return &Text{string(data), t.Pos}
	}
	return nil
}

// Texts yields every text of a definition in which names are filled in.
func (d *Definition) Texts(yield func(Text) bool) {
	list := texts(nil, d.Deb, d.Rpm)
	for _, x := range d.Files {
		list = texts(list, x.Deb, x.Rpm)
	}
	for _, t := range list {
		if !yield(t) {
			return
		}
	}
}

func texts(out []Text, deb *Deb, rpm *Rpm) []Text {
	if deb != nil {
		if deb.URL != nil {
			out = append(out, *deb.URL)
		}
		out = slices.Concat(out, deb.Suites, deb.Components, deb.Archs, deb.Add, deb.Drop)
	}
	if rpm != nil && rpm.URL != nil {
		out = append(out, *rpm.URL)
	}
	return out
}
