package policy

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// ErrFormat is returned for a text that cannot be put into form without a loss.
var ErrFormat = errors.New("it cannot be put into form without a loss")

// Tidy puts a policy file into the house's form: two blanks for each level, keys in the
// order of the reference, one space around what stands in braces, one empty line
// between definitions at most. Comments are kept where they stand. It changes no
// meaning: what would not be read again as it was is refused.
func Tidy(text []byte) ([]byte, error) {
	if !utf8.Valid(text) {
		return nil, fmt.Errorf("%w: it is not UTF-8", ErrFormat)
	}
	text = plain(text)
	unix := string(text)
	f, err := parse(text)
	if err != nil || len(f.Docs) != 1 || f.Docs[0].Body == nil {
		return nil, fmt.Errorf("%w: it is not one document of YAML", ErrFormat)
	}
	if strings.Contains(unix, "\r") { // for YAML it ends a line, for every editor it does not
		return nil, fmt.Errorf("%w: a carriage return stands inside a line", ErrFormat)
	}
	w := &tidier{lines: strings.Split(strings.TrimRight(unix, "\n"), "\n")}
	body := f.Docs[0].Body
	first := w.start(body)
	lead := w.between(1, first-1)
	if i := lastGap(lead); i >= 0 { // what stands apart is of the file, not of its first key
		w.remarks(lead[:i+1], 0, false)
		lead = lead[i+1:]
	}
	w.block(body, 0, lead, w.between(w.end(body)+1, len(w.lines)), reflect.TypeFor[fileForm]())
	out := []byte(strings.Trim(w.out.String(), "\n") + "\n")
	if w.failed || !same(text, out) {
		return nil, ErrFormat
	}
	return out, nil
}

// same reports whether two texts hold the same values and comments.
func same(a, b []byte) bool {
	var x, y any
	if yaml.Unmarshal(a, &x) != nil || yaml.Unmarshal(b, &y) != nil || !reflect.DeepEqual(x, y) {
		return false
	}
	return strings.Count(string(a), "#") == strings.Count(string(b), "#")
}

type tidier struct {
	lines  []string
	out    strings.Builder
	failed bool
}

// remark is a comment that fills a line, or an empty line.
type remark struct {
	indent int
	text   string // empty for an empty line
}

// between returns the remarks that stand on some lines, which hold nothing else.
func (w *tidier) between(from, to int) (out []remark) {
	for n := max(from, 1); n <= min(to, len(w.lines)); n++ {
		text := strings.TrimSpace(w.lines[n-1])
		switch {
		case text == "":
			if len(out) == 0 || out[len(out)-1].text != "" {
				out = append(out, remark{})
			}
		case text[0] == '#':
			out = append(out, remark{len(w.lines[n-1]) - len(strings.TrimLeft(w.lines[n-1], " ")), text})
		case text == "---":
			w.failed = true
		default:
			w.failed = true
		}
	}
	return out
}

func (w *tidier) remarks(list []remark, indent int, last bool) {
	for i, r := range list {
		if r.text == "" && last && i == len(list)-1 {
			continue
		}
		if r.text == "" {
			if s := w.out.String(); s != "" && !strings.HasSuffix(s, "\n\n") {
				w.out.WriteByte('\n')
			}
			continue
		}
		w.out.WriteString(strings.Repeat(" ", indent) + r.text + "\n")
	}
}

// start and end are the first and last line on which something of a node stands.
func (w *tidier) start(n ast.Node) int {
	first := 0
	walkTokens(n, func(line int) {
		if first == 0 || line < first {
			first = line
		}
	})
	return first
}

func (w *tidier) end(n ast.Node) int {
	last := 0
	walkTokens(n, func(line int) { last = max(last, line) })
	return last
}

// walkTokens yields the line of each token that a node consists of.
func walkTokens(n ast.Node, yield func(line int)) {
	ast.Walk(visitor(func(n ast.Node) {
		t := n.GetToken()
		if t == nil || t.Position == nil {
			return
		}
		line := t.Position.Line
		if lit, ok := n.(*ast.LiteralNode); ok {
			yield(lit.Start.Position.Line)
			yield(lit.Start.Position.Line + strings.Count(strings.TrimRight(lit.Value.GetToken().Origin, "\n "), "\n") + 1)
			return
		}
		if s, ok := n.(*ast.StringNode); ok { // one that goes on over lines ends where its text does
			yield(line)
			yield(line + strings.Count(strings.TrimSpace(s.Token.Origin), "\n"))
			return
		}
		if m, ok := n.(*ast.MappingNode); ok && m.IsFlowStyle && m.End != nil {
			yield(m.End.Position.Line)
		}
		if s, ok := n.(*ast.SequenceNode); ok {
			if s.IsFlowStyle && s.End != nil {
				yield(s.End.Position.Line)
			}
			if !s.IsFlowStyle && s.Start != nil {
				yield(s.Start.Position.Line)
				return
			}
		}
		if _, ok := n.(*ast.MappingValueNode); ok {
			return // its colon; the key says more
		}
		yield(line)
	}), n)
}

type visitor func(ast.Node)

func (v visitor) Visit(n ast.Node) ast.Visitor {
	v(n)
	return v
}

func lastGap(list []remark) int {
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].text == "" {
			return i
		}
	}
	return -1
}

// block prints a mapping or sequence in lines of its own. lead and foot are the remarks
// above its first line and behind its last.
func (w *tidier) block(n ast.Node, indent int, lead, foot []remark, form reflect.Type) {
	switch x := n.(type) {
	case *ast.MappingNode:
		w.mapping(x.Values, indent, lead, foot, form)
	case *ast.MappingValueNode:
		w.mapping([]*ast.MappingValueNode{x}, indent, lead, foot, form)
	case *ast.SequenceNode:
		w.remarks(lead, indent, false)
		w.sequence(x, indent, foot, form)
	default:
		w.failed = true
	}
}

// item is an entry with the remarks that belong to it.
type item struct {
	lead, foot []remark
	node       *ast.MappingValueNode
	value      ast.Node // of a sequence
}

// share gives the remarks between two entries to the one above where they stand deeper
// than its beginning, else to the one below.
func share(list []remark, column int) (above, below []remark) {
	i := 0
	for i < len(list) && list[i].text != "" && list[i].indent > column {
		i++
	}
	return list[:i], list[i:]
}

func (w *tidier) mapping(values []*ast.MappingValueNode, indent int, lead, foot []remark, form reflect.Type) {
	items := make([]item, len(values))
	for i, v := range values {
		items[i].node = v
		if i == 0 {
			items[0].lead = lead
			continue
		}
		above, below := share(w.between(w.end(values[i-1])+1, w.start(v)-1), column(values[i-1]))
		items[i-1].foot, items[i].lead = above, below
	}
	var rest []remark
	if len(values) > 0 {
		items[len(items)-1].foot, rest = share(foot, column(values[len(values)-1]))
	}
	order := keysOfType(form)
	if len(order) > 0 && !slices.ContainsFunc(items, func(x item) bool { return slices.Index(order, keyText(x.node)) < 0 }) {
		slices.SortStableFunc(items, func(a, b item) int {
			return slices.Index(order, keyText(a.node)) - slices.Index(order, keyText(b.node))
		})
		if len(items) > 0 && len(items[0].lead) > 0 && items[0].lead[0].text == "" &&
			indent > 0 { // what came to the top needs no gap above
			items[0].lead = items[0].lead[1:]
		}
	}
	for _, x := range items {
		w.remarks(x.lead, indent, false)
		w.entry(x, indent, form)
	}
	w.remarks(rest, indent, indent == 0)
}

func column(v *ast.MappingValueNode) int { return v.Key.GetToken().Position.Column - 1 }

func keyText(v *ast.MappingValueNode) string {
	if s, ok := v.Key.(*ast.StringNode); ok {
		return s.Value
	}
	return v.Key.GetToken().Value
}

// keysOfType lists the keys of a form; nil where the keys are people's own names.
func keysOfType(form reflect.Type) []string {
	if form == nil || form.Kind() != reflect.Struct || form == reflect.TypeFor[channelForm]() {
		return nil
	}
	return keysIn(form, nil)
}

// formOf is the form of what stands under a key.
func formOf(form reflect.Type, key string) reflect.Type {
	if form == nil {
		return nil
	}
	switch form.Kind() {
	case reflect.Map, reflect.Slice:
		return deref(form.Elem())
	case reflect.Struct:
		if form == reflect.TypeFor[channelForm]() && key != "title" {
			return reflect.TypeFor[choiceForm]()
		}
		for i := range form.NumField() {
			f := form.Field(i)
			if f.Anonymous {
				if t := formOf(f.Type, key); t != nil {
					return t
				}
			} else if f.Tag.Get("yaml") == key {
				return deref(f.Type)
			}
		}
	}
	return nil
}

func deref(t reflect.Type) reflect.Type {
	if t.Kind() == reflect.Pointer {
		return t.Elem()
	}
	return t
}

func (w *tidier) entry(x item, indent int, form reflect.Type) {
	key := strings.TrimSpace(x.node.Key.GetToken().Origin)
	if _, plain := x.node.Key.(*ast.StringNode); !plain {
		key = x.node.Key.String()
	}
	w.out.WriteString(strings.Repeat(" ", indent) + strings.TrimSuffix(key, ":") + ":")
	w.value(x.node.Value, x.node.Key.GetToken().Position.Line, indent, x.foot, formOf(form, keyText(x.node)))
}

// value prints what stands behind a key or a dash.
func (w *tidier) value(n ast.Node, line, indent int, foot []remark, form reflect.Type) {
	if _, null := n.(*ast.NullNode); null {
		w.out.WriteString(w.trailing(line) + "\n")
		w.remarks(foot, indent+2, false)
		return
	}
	if flat, ok := w.flat(n); ok {
		w.out.WriteString(" " + flat + w.trailing(w.end(n)) + "\n")
		w.remarks(foot, indent+2, false)
		return
	}
	switch x := n.(type) {
	case *ast.LiteralNode:
		w.literal(x, indent)
		w.remarks(foot, indent+2, false)
	case *ast.MappingNode:
		if x.IsFlowStyle {
			w.original(n, line, indent)
			return
		}
		w.out.WriteString(w.trailing(line) + "\n")
		w.block(n, indent+2, w.between(line+1, w.start(n)-1), foot, form)
	case *ast.MappingValueNode:
		w.out.WriteString(w.trailing(line) + "\n")
		w.block(n, indent+2, w.between(line+1, w.start(n)-1), foot, form)
	case *ast.SequenceNode:
		if x.IsFlowStyle {
			w.original(n, line, indent)
			return
		}
		w.out.WriteString(w.trailing(line) + "\n")
		w.block(n, indent+2, w.between(line+1, w.start(n)-1), foot, form)
	default:
		w.failed = true
	}
}

// trailing is the comment at the end of a line.
func (w *tidier) trailing(line int) string {
	if line < 1 || line > len(w.lines) {
		return ""
	}
	text := w.lines[line-1]
	quote := byte(0)
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && (i == 0 || strings.IndexByte(" [{,:", text[i-1]) >= 0):
			quote = c
		case c == '#' && i > 0 && text[i-1] == ' ':
			return " " + strings.TrimSpace(text[i:])
		}
	}
	return ""
}

// flat writes a value that stands on one line.
func (w *tidier) flat(n ast.Node) (string, bool) {
	if w.start(n) != w.end(n) {
		return "", false
	}
	switch x := n.(type) {
	case *ast.MappingNode:
		if !x.IsFlowStyle {
			return "", false
		}
		var out []string
		for _, v := range x.Values {
			value, ok := w.flat(v.Value)
			if _, null := v.Value.(*ast.NullNode); null {
				value, ok = "", true
			}
			if !ok {
				return "", false
			}
			out = append(out, strings.TrimSuffix(strings.TrimSpace(v.Key.GetToken().Origin), ":")+": "+value)
		}
		if len(out) == 0 {
			return "{}", true
		}
		return "{ " + strings.Join(out, ", ") + " }", true
	case *ast.SequenceNode:
		if !x.IsFlowStyle {
			return "", false
		}
		var out []string
		for _, v := range x.Values {
			value, ok := w.flat(v)
			if !ok {
				return "", false
			}
			out = append(out, value)
		}
		return "[" + strings.Join(out, ", ") + "]", true
	case *ast.StringNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		t := n.GetToken()
		return strings.TrimSpace(t.Origin), true
	}
	return "", false
}

// original writes a value over several lines as it stands, moved to its place.
func (w *tidier) original(n ast.Node, line, indent int) {
	first, last := w.start(n), w.end(n)
	if first != line {
		w.failed = true
		return
	}
	text := w.lines[line-1]
	at := n.GetToken().Position.Column - 1
	if at > len(text) {
		w.failed = true
		return
	}
	w.out.WriteString(" " + strings.TrimRight(text[at:], " ") + "\n")
	was := len(text) - len(strings.TrimLeft(text, " "))
	for i := line; i < last; i++ {
		l := w.lines[i]
		deep := len(l) - len(strings.TrimLeft(l, " "))
		w.out.WriteString(strings.TrimRight(strings.Repeat(" ", max(indent+deep-was, 0))+strings.TrimSpace(l), " ") + "\n")
	}
}

// literal writes a text of several lines, moved to its place.
func (w *tidier) literal(x *ast.LiteralNode, indent int) {
	line := x.Start.Position.Line
	w.out.WriteString(" " + strings.TrimSpace(x.Start.Value) + w.trailing(line) + "\n")
	last := w.end(x)
	for last > line && strings.TrimSpace(w.lines[min(last, len(w.lines))-1]) == "" {
		last--
	}
	least := -1
	for _, l := range w.lines[line:min(last, len(w.lines))] {
		if strings.TrimSpace(l) != "" {
			if deep := len(l) - len(strings.TrimLeft(l, " ")); least < 0 || deep < least {
				least = deep
			}
		}
	}
	for _, l := range w.lines[line:min(last, len(w.lines))] {
		if strings.TrimSpace(l) == "" {
			w.out.WriteByte('\n')
			continue
		}
		w.out.WriteString(strings.Repeat(" ", indent+2) + l[least:] + "\n")
	}
}

func (w *tidier) sequence(x *ast.SequenceNode, indent int, foot []remark, form reflect.Type) {
	form = formOf(form, "")
	items := make([]item, len(x.Values))
	dash := x.Start.Position.Column - 1
	for i, v := range x.Values {
		items[i].value = v
		if i == 0 {
			continue
		}
		above, below := share(w.between(w.end(x.Values[i-1])+1, w.start(v)-1), dash)
		items[i-1].foot, items[i].lead = above, below
	}
	var rest []remark
	if len(items) > 0 {
		items[len(items)-1].foot, rest = share(foot, dash)
	}
	for _, it := range items {
		w.remarks(it.lead, indent, false)
		pad := strings.Repeat(" ", indent)
		if flat, ok := w.flat(it.value); ok {
			w.out.WriteString(pad + "- " + flat + w.trailing(w.end(it.value)) + "\n")
			w.remarks(it.foot, indent+2, false)
			continue
		}
		inner := &tidier{lines: w.lines}
		inner.block(it.value, indent+2, nil, it.foot, form)
		text := inner.out.String()
		if inner.failed || !strings.HasPrefix(text, pad+"  ") {
			w.failed = true
			return
		}
		w.out.WriteString(pad + "- " + text[indent+2:])
	}
	w.remarks(rest, indent, false)
}
