package policy

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/names"
)

// unreadable says why a file is no YAML.
func (l *loader) unreadable(err error) {
	at := diag.Pos{File: l.file}
	msg := err.Error()
	var se *yaml.SyntaxError
	if errors.As(err, &se) {
		msg = se.Message
		if se.Token != nil && se.Token.Position != nil {
			at.Line, at.Column = se.Token.Position.Line, se.Token.Position.Column
		}
	}
	l.fail("syntax", at, "not YAML: "+strings.Join(strings.Fields(msg), " "), "look at the line and the one above it")
}

// parse parses YAML. A text on which the parser itself breaks is no YAML either.
func parse(data []byte) (f *ast.File, err error) {
	defer func() {
		if v := recover(); v != nil {
			f, err = nil, errors.New("the parser cannot make sense of it")
		}
	}()
	return parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
}

// unmarked is a text without the byte order mark that some editors begin one with, as YAML has it.
func unmarked(text []byte) []byte { return bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")) }

// plain is a text as the parser is given it: unmarked, and with lines that end as on this system, for it counts those
// of Windows twice behind a comment.
func plain(text []byte) []byte { return bytes.ReplaceAll(unmarked(text), []byte("\r\n"), []byte("\n")) }

// tooDeep reports the line on which flow brackets nest too deeply.
func tooDeep(data []byte) (int, bool) {
	depth, line := 0, 1
	for _, c := range data {
		switch c {
		case '\n':
			line++
		case '[', '{':
			if depth++; depth > 4*maxDepth {
				return line, true
			}
		case ']', '}':
			if depth > 0 {
				depth--
			}
		}
	}
	return 0, false
}

// field is one key of a mapping with its value.
type field struct {
	key  string
	at   diag.Pos
	node ast.Node
}

// mapping returns the fields of a mapping node; allowed, where given, lists the
// keys that may stand in it.
func (l *loader) mapping(n ast.Node, what string, allowed ...string) []field {
	return l.fields(n, what, map[string]diag.Pos{}, allowed...)
}

// fields is mapping for one of which the keys in first have stood before; those that it returns are added.
func (l *loader) fields(n ast.Node, what string, first map[string]diag.Pos, allowed ...string) []field {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	case *ast.NullNode, nil:
		return nil
	default:
		if !l.alias(n) {
			l.fail("value", l.pos(n), what+" must be a mapping (key: value)", "")
		}
		return nil
	}
	var out []field
	for _, v := range values {
		at := l.pos(v)
		if _, merge := v.Key.(*ast.MergeKeyNode); merge || l.alias(v.Value) {
			if merge {
				l.fail("alias", at, "a policy does not use YAML's merge keys", "write the value out, or use settings")
			}
			continue
		}
		key, ok := l.scalar(v.Key)
		if !ok {
			l.fail("value", at, "a key must be plain text", "")
			continue
		}
		if p, twice := first[key]; twice {
			l.fail("name-twice", at, fmt.Sprintf("%q stands twice in %s", key, what), "keep one of them", p)
			continue
		}
		first[key] = at
		if len(allowed) > 0 && !slices.Contains(allowed, key) {
			l.fail("unknown-key", at, fmt.Sprintf("%s has no key %q", what, key), nearestKey(key, allowed))
			continue
		}
		out = append(out, field{key, at, v.Value})
	}
	return out
}

// spokenBool are words that are meant as true or false, and that YAML takes for texts.
var spokenBool = map[string]bool{
	"yes": true, "no": false, "on": true, "off": false, "1": true, "0": false, "true": true, "false": false,
}

// spokenKeys are words that package managers and people use for keys of the language.
var spokenKeys = map[string]string{
	"apt": "deb", "dnf": "rpm", "yum": "rpm", "microdnf": "rpm", "zypper": "zypp", "pacman": "arch", "alpm": "arch", "flathub": "flatpak",
	"baseurl": "url", "base-url": "url", "uri": "url", "uris": "url", "server": "url", "urls": "mirrors", "mirrorlist": "mirrors",
	"gpgkey": "keys", "gpg-key": "keys", "signed-by": "keys", "key": "keys", "gpgcheck": "signatures", "siglevel": "signatures",
	"distribution": "suites", "suite": "suites", "component": "components", "arch": "architectures", "archs": "architectures",
	"types": "kinds", "name": "title", "description": "title", "enable": "enabled", "disabled": "enabled", "when": "where", "if": "where",
	"condition": "where", "targets": "to", "repos": "repositories", "repository": "repositories", "exclude": "except", "members": "hosts",
}

// nearestKey says which key was probably meant.
func nearestKey(key string, allowed []string) string {
	if meant := spokenKeys[strings.ToLower(key)]; slices.Contains(allowed, meant) {
		return fmt.Sprintf("here it is called %q", meant)
	}
	switch near := names.Nearest(key, allowed); {
	case near != "":
		return fmt.Sprintf("did you mean %q?", near)
	case slices.Contains(allowed, "suites") && slices.Contains(keysOf[repositoryForm](), key):
		return fmt.Sprintf("%q stands one level up, beside the family", key)
	}
	return "allowed are " + strings.Join(allowed, ", ")
}

func (l *loader) alias(n ast.Node) bool {
	switch n.(type) {
	case *ast.AnchorNode, *ast.AliasNode:
		l.fail("alias", l.pos(n), "a policy does not use YAML's anchors and aliases", "write the value out, or use settings")
		return true
	case *ast.TagNode:
		l.fail("alias", l.pos(n), "a policy does not use YAML's tags", "write the plain value")
		return true
	}
	return false
}

func (l *loader) text(f field, what string) (Text, bool) {
	s, ok := l.scalar(f.node)
	if !ok {
		if !l.alias(f.node) {
			l.fail("value", l.pos(f.node), fmt.Sprintf("%s must be text", what), "")
		}
		return Text{}, false
	}
	return Text{s, l.pos(f.node)}, true
}

func (l *loader) oneOf(f field, what string, values ...string) string {
	t, ok := l.text(f, what)
	if ok && !slices.Contains(values, t.Value) {
		l.fail("value", t.Pos, fmt.Sprintf("%s is %q", what, t.Value), "it must be one of "+strings.Join(values, ", "))
	}
	return t.Value
}

func (l *loader) boolean(f field, what string) bool {
	if b, ok := f.node.(*ast.BoolNode); ok {
		return b.Value
	}
	if t, ok := f.node.(*ast.StringNode); ok {
		if meant, spoken := spokenBool[strings.ToLower(t.Value)]; spoken { // what follows from it is judged as it was meant
			l.fail("value", l.pos(f.node), fmt.Sprintf("%s must be true or false, and %q is a text to YAML", what, t.Value),
				fmt.Sprintf("write: %s: %t", f.key, meant))
			return meant
		}
	}
	l.fail("value", l.pos(f.node), what+" must be true or false", "")
	return false
}

// list returns a sequence of texts. An empty sequence is not nil.
func (l *loader) list(f field, what string) []Text {
	seq, ok := f.node.(*ast.SequenceNode)
	if !ok {
		if !l.alias(f.node) {
			l.fail("value", l.pos(f.node), what+" must be a list", "write ["+f.node.String()+"]")
		}
		return nil
	}
	out := []Text{}
	for _, n := range seq.Values {
		if t, ok := l.text(field{node: n}, "each of "+what); ok {
			out = append(out, t)
		}
	}
	return out
}

// words is a list of texts none of which may hold blanks: a file has no way to say them.
// given is a text that may be absent, as a list.
func given(t *Text) []Text {
	if t == nil {
		return nil
	}
	return []Text{*t}
}

// packageName reads the name of one package; nil where it cannot be one.
func (l *loader) packageName(f field) *Text {
	t, ok := l.text(f, f.key)
	if !ok {
		return nil
	}
	if t.Value == "" || strings.ContainsAny(t.Value, " \t\n\"'[]#,;&|<>`\\()*?!") || strings.HasPrefix(t.Value, "-") {
		l.fail("value", t.Pos, fmt.Sprintf("%s is %q", f.key, t.Value), "give the name of one package")
		return nil
	}
	return &t
}

func (l *loader) words(f field) []Text {
	list := l.list(f, f.key)
	for _, t := range list {
		says, remedy := fmt.Sprintf("%q cannot be one of %s", t.Value, f.key), "use one word without blanks, quotes or brackets for each"
		switch {
		case t.Value == "" || strings.ContainsAny(t.Value, " \t\n\"[]#,"):
			l.fail("value", t.Pos, says, remedy)
		case Unseen(t.Value) != "":
			l.failNewly("value", t.Pos, says, remedy)
		}
	}
	return list
}
