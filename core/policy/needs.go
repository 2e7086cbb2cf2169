package policy

import (
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"
)

func (l *loader) media(f field) *Media {
	m := &Media{Pos: f.at}
	for _, x := range l.mapping(f.node, "media", keysOf[mediaForm]()...) {
		switch x.key {
		case "host":
			m.Host, _ = l.text(x, "host")
		case "path":
			m.Path, _ = l.text(x, "path")
			if p := m.Path.Value; p != "" && (!path.IsAbs(p) || path.Clean(p) != p || strings.ContainsAny(p, " \t\n,$")) {
				l.fail(
					"value",
					m.Path.Pos,
					fmt.Sprintf("the path of the media is %q", p),
					"write it from the root, without blanks, commas or a slash at its end: /srv/shelf",
				)
			}
		case "url":
			m.URL = l.url(x)
		}
	}
	if m.Host.Value == "" || m.Path.Value == "" {
		l.fail(
			"missing",
			f.at,
			"media needs the host that holds it and the path there",
			"add: host: desk-1.brinewick.test, path: /srv/shelf",
		)
		return nil
	}
	return m
}

func (l *loader) needs(f field, allowed ...string) *Needs {
	n := &Needs{Pos: f.at, Free: map[string]int64{}, Tools: map[string]Text{}}
	for _, x := range l.mapping(f.node, "needs", allowed...) {
		switch x.key {
		case "packages":
			n.Packages = l.words(x)
		case "repositories":
			n.Repositories = l.list(x, "repositories")
		case "free":
			for _, y := range l.mapping(x.node, "free") {
				t, ok := l.text(y, y.key)
				if !ok {
					continue
				}
				size, err := ParseSize(t.Value)
				if err != nil || !path.IsAbs(y.key) {
					l.fail("value", t.Pos, fmt.Sprintf("the free space of %q is %q", y.key, t.Value), "write it as /boot: 200MiB")
					continue
				}
				n.Free[path.Clean(y.key)] = size
			}
		case "tools":
			for _, y := range l.mapping(x.node, "tools") {
				if t, ok := l.text(y, y.key); ok {
					n.Tools[y.key] = t
				}
			}
		}
	}
	return n
}

var sizeForm = regexp.MustCompile(`^([0-9]{1,9})(KiB|MiB|GiB|TiB)$`)

// ParseSize reads an amount of space: 200MiB. It is in bytes.
func ParseSize(s string) (int64, error) {
	m := sizeForm.FindStringSubmatch(s)
	if m == nil {
		return 0, fmt.Errorf("%q is no amount of space", s)
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil {
		return 0, err
	}
	return n << (10 * (1 + strings.IndexByte("KMGT", m[2][0]))), nil
}

func (l *loader) witness(f field) *Witness {
	w := &Witness{Pos: f.at}
	for _, x := range l.mapping(f.node, "witness", keysOf[witnessForm]()...) {
		t, ok := l.text(x, x.key)
		switch {
		case !ok:
		case strings.ContainsAny(t.Value, " \t\n*?[]"):
			l.fail("value", t.Pos, fmt.Sprintf("%s is %q", x.key, t.Value), "write one word without blanks and patterns")
			return nil
		case x.key == "package":
			w.Package = t
		default:
			w.AtLeast = t
		}
	}
	if w.Package.Value == "" {
		l.fail("missing", f.at, "the witness names no package", "add: package: NAME")
		return nil
	}
	return w
}
