// Package condition compiles and evaluates the expressions of a policy. They are
// CEL, the Common Expression Language, over traits and labels.
package condition

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/version"
)

// CostLimit bounds the work of one evaluation, in CEL's own units.
const CostLimit = 100_000

// MaxLength bounds the length of an expression in bytes.
const MaxLength = 4096

// Facts is what an expression and an interpolation may look at.
type Facts struct {
	Host   string
	Labels map[string]string
	Traits *source.Traits
}

type fact struct {
	name string
	typ  *cel.Type
	get  func(*Facts) any
}

// facts names every single-valued fact, and how it is read.
var facts = []fact{
	{"arch", cel.StringType, func(f *Facts) any { return f.Traits.Arch }},
	{"cpu.level", cel.IntType, func(f *Facts) any { return int64(f.Traits.CPU.Level) }},
	{"cpu.vendor", cel.StringType, func(f *Facts) any { return f.Traits.CPU.Vendor }},
	{"family", cel.StringType, func(f *Facts) any { return f.Traits.Family }},
	{"host.name", cel.StringType, func(f *Facts) any { return f.Host }},
	{"os.codename", cel.StringType, func(f *Facts) any { return f.Traits.OS.Codename }},
	{"os.id", cel.StringType, func(f *Facts) any { return f.Traits.OS.ID }},
	{"os.major", cel.IntType, func(f *Facts) any { return number(f.Traits.OS.Version, 0) }},
	{"os.minor", cel.IntType, func(f *Facts) any { return number(f.Traits.OS.Version, 1) }},
	{"os.version", cel.StringType, func(f *Facts) any { return f.Traits.OS.Version }},
}

// Names lists the single-valued facts.
func Names() []string {
	out := make([]string, len(facts))
	for i, f := range facts {
		out[i] = f.name
	}
	return out
}

// IsFact reports whether a name is that of a single-valued fact, which a host tells of itself.
func IsFact(name string) bool {
	return slices.ContainsFunc(facts, func(f fact) bool { return f.name == name })
}

// Get returns a fact by its name, as text: "os.codename", "label.duty",
// "tools.apt". ok is false where there is no fact of that name; an absent label
// or tool is the empty text, and so is what a host does not tell of itself.
func (f *Facts) Get(name string) (value string, ok bool) {
	if l, found := strings.CutPrefix(name, "label."); found {
		return f.Labels[l], true
	}
	if t, found := strings.CutPrefix(name, "tools."); found {
		return f.Traits.Tools[t], true
	}
	for i := range facts {
		if facts[i].name == name {
			switch v := facts[i].get(f).(type) {
			case int64:
				if strings.HasPrefix(name, "os.") && digits(f.Traits.OS.Version) == "" { // a number of no version, or of a word
					return "", true
				}
				return strconv.FormatInt(v, 10), true
			case string:
				return v, true
			}
		}
	}
	return "", false
}

// number returns the nth dot-separated number of a version, 0 where there is none: 9 of "9-beta.1".
func number(version string, n int) int64 {
	parts := strings.Split(version, ".")
	if n >= len(parts) {
		return 0
	}
	v, _ := strconv.ParseInt(digits(parts[n]), 10, 64)
	return v
}

// digits are those that a text begins with.
func digits(text string) string {
	return text[:len(text)-len(strings.TrimLeft(text, "0123456789"))]
}

// Compiler compiles expressions, each text once.
type Compiler struct {
	env  *cel.Env
	done map[string]*Condition
}

// NewCompiler makes the environment that expressions are checked in.
func NewCompiler() (*Compiler, error) {
	opts := []cel.EnvOption{
		cel.Variable("label", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("tools", cel.MapType(cel.StringType, cel.StringType)),
	}
	for _, f := range facts {
		opts = append(opts, cel.Variable(f.name, f.typ))
	}
	opts = append(
		opts,
		cel.Function(
			"atLeast",
			cel.MemberOverload(
				"string_atLeast_string",
				[]*cel.Type{cel.StringType, cel.StringType},
				cel.BoolType,
				cel.BinaryBinding(atLeast),
			),
		),
	)
	env, err := cel.NewEnv(opts...)
	if err != nil {
		return nil, fmt.Errorf("setting up expressions: %w", err)
	}
	return &Compiler{env, map[string]*Condition{}}, nil
}

// atLeast compares two versions: tools.apt.atLeast("2.4"). A tool that is not there is
// no version at all.
func atLeast(have, least ref.Val) ref.Val {
	a, ok := have.Value().(string)
	b, ok2 := least.Value().(string)
	if !ok || !ok2 {
		return types.NewErr("atLeast compares two texts")
	}
	return types.Bool(a != "" && version.Deb(a, b) >= 0)
}

// Condition is a compiled expression.
type Condition struct {
	Text   string
	Reads  []string // the facts it looks at, sorted: "os.major", "label.duty"
	labels []string // labels that are "" where a host has none
	tools  []string
	prog   cel.Program
}

// Error is an expression that does not compile. Offset counts characters.
type Error struct {
	Near    string // the fact that was probably meant; empty for none
	Offset  int
	Message string
}

func (e *Error) Error() string { return e.Message }

// Compile checks text and makes it ready for evaluation.
func (c *Compiler) Compile(text string) (*Condition, error) {
	if len(text) > MaxLength {
		return nil, &Error{"", 0, fmt.Sprintf("the expression is longer than %d bytes", MaxLength)}
	}
	if cond, ok := c.done[text]; ok {
		return cond, nil
	}
	checked, issues := c.env.Compile(text)
	if issues != nil && issues.Err() != nil {
		first := issues.Errors()[0]
		offset := first.Location.Column()
		for i, line := range strings.SplitAfter(text, "\n") {
			if i+1 < first.Location.Line() {
				offset += len([]rune(line))
			}
		}
		if name, ok := undeclared(first.Message); ok {
			at := max(strings.Index(text, name), 0)
			name = dotted.FindString(text[at:])
			return nil, &Error{nearestFact(name), at, "no such fact: " + name}
		}
		return nil, &Error{"", offset, strings.Join(strings.Fields(first.Message), " ")}
	}
	if checked.OutputType() != cel.BoolType {
		return nil, &Error{"", 0, fmt.Sprintf("the expression is of type %s; a condition is true or false", checked.OutputType())}
	}
	prog, err := c.env.Program(checked, cel.CostLimit(CostLimit))
	if err != nil {
		return nil, &Error{"", 0, err.Error()}
	}
	cond := &Condition{Text: text, prog: prog}
	cond.inspect(checked.NativeRep())
	c.done[text] = cond
	return cond, nil
}

// dotted is a name with what follows it after dots.
var dotted = regexp.MustCompile(`^\w+(\.\w+)*`)

// spoken are names that people give to facts.
var spoken = map[string]string{
	"os.distro": "os.id", "os.distribution": "os.id", "os.name": "os.id", "distro": "os.id", "distribution": "os.id",
	"os.release": "os.version", "release": "os.version", "version": "os.version", "os.version_id": "os.version",
	"os.version_codename": "os.codename", "codename": "os.codename", "os.family": "family", "os.arch": "arch",
	"architecture": "arch", "machine": "arch", "cpu.arch": "arch", "hostname": "host.name", "name": "host.name", "fqdn": "host.name",
	"host": "host.name", "labels": "label.NAME", "tags": "label.NAME", "package_manager": "family", "pkg_mgr": "family", "major": "os.major",
}

// nearestFact is the fact that was probably meant.
func nearestFact(name string) string {
	if meant := spoken[strings.ToLower(name)]; meant != "" {
		return meant
	}
	return names.Nearest(name, Names())
}

// undeclared returns the name that CEL does not know, where that is its complaint.
func undeclared(msg string) (string, bool) {
	rest, ok := strings.CutPrefix(msg, "undeclared reference to '")
	name, _, closed := strings.Cut(rest, "'")
	return name, ok && closed
}

// inspect notes which facts the expression reads.
func (c *Condition) inspect(a *ast.AST) {
	asked := map[string]bool{} // labels that has() asks for must stay absent
	add := func(list *[]string, s string) {
		if !slices.Contains(*list, s) {
			*list = append(*list, s)
		}
	}
	for _, ref := range a.ReferenceMap() {
		if ref.Name != "" && ref.Name != "label" && ref.Name != "tools" && slices.Contains(Names(), ref.Name) {
			add(&c.Reads, ref.Name)
		}
	}
	for _, e := range ast.MatchDescendants(ast.NavigateAST(a), ast.AllMatcher()) {
		var of, key string
		switch e.Kind() {
		case ast.SelectKind:
			s := e.AsSelect()
			if s.Operand().Kind() != ast.IdentKind {
				continue
			}
			of, key = s.Operand().AsIdent(), s.FieldName()
			if s.IsTestOnly() {
				asked[of+"."+key] = true
			}
		case ast.CallKind:
			call := e.AsCall()
			if call.FunctionName() != "_[_]" && call.FunctionName() != "@in" {
				continue
			}
			m, k := call.Args()[0], call.Args()[1]
			if call.FunctionName() == "@in" {
				m, k = k, m
			}
			if m.Kind() != ast.IdentKind {
				continue
			}
			of, key = m.AsIdent(), "*"
			if k.Kind() == ast.LiteralKind {
				if s, ok := k.AsLiteral().Value().(string); ok {
					key = s
				}
			}
			if call.FunctionName() == "@in" {
				asked[of+"."+key] = true
			}
		case ast.ComprehensionKind:
			if r := e.AsComprehension().IterRange(); r.Kind() == ast.IdentKind {
				of, key = r.AsIdent(), "*"
			}
		}
		if of == "label" || of == "tools" {
			add(&c.Reads, of+"."+key)
		}
	}
	slices.Sort(c.Reads)
	for _, r := range c.Reads {
		of, key, _ := strings.Cut(r, ".")
		if key == "*" || asked[r] {
			continue
		}
		switch of {
		case "label":
			c.labels = append(c.labels, key)
		case "tools":
			c.tools = append(c.tools, key)
		}
	}
}

// Holds evaluates the condition for one host. A label that the host does not
// have is the empty text, unless the expression asks with has() or in.
func (c *Condition) Holds(f *Facts) (bool, error) {
	vars := make(map[string]any, len(facts)+2)
	for i := range facts {
		if slices.Contains(c.Reads, facts[i].name) {
			vars[facts[i].name] = facts[i].get(f)
		}
	}
	vars["label"] = filled(f.Labels, c.labels)
	vars["tools"] = filled(f.Traits.Tools, c.tools)
	out, _, err := c.prog.Eval(vars)
	if err != nil {
		return false, fmt.Errorf("%q cannot be evaluated: %w", c.Text, err)
	}
	b, ok := out.Value().(bool)
	if !ok {
		return false, errors.New("the expression did not give true or false")
	}
	return b, nil
}

func filled(have map[string]string, want []string) map[string]string {
	out := make(map[string]string, len(have)+len(want))
	for _, k := range want {
		out[k] = ""
	}
	for k, v := range have {
		out[k] = v
	}
	return out
}

// Parts returns the expressions that must all hold for the condition to hold: the
// operands of && at its top.
func (c *Compiler) Parts(cond *Condition) []*Condition {
	checked, issues := c.env.Compile(cond.Text)
	if issues != nil && issues.Err() != nil {
		return []*Condition{cond}
	}
	var out []*Condition
	whole := true
	var walk func(e ast.Expr)
	walk = func(e ast.Expr) {
		if e.Kind() == ast.CallKind && e.AsCall().FunctionName() == "_&&_" {
			for _, a := range e.AsCall().Args() {
				walk(a)
			}
			return
		}
		text, err := cel.ExprToString(e, checked.NativeRep().SourceInfo())
		if err != nil {
			whole = false
			return
		}
		part, err := c.Compile(text)
		if err != nil {
			whole = false
			return
		}
		out = append(out, part)
	}
	walk(checked.NativeRep().Expr())
	if !whole {
		return []*Condition{cond}
	}
	return out
}

// Read describes the facts that a condition looks at, with their values on a host.
func (c *Condition) Read(f *Facts) []string {
	var out []string
	for _, name := range c.Reads {
		of, key, _ := strings.Cut(name, ".")
		if key == "*" {
			continue
		}
		value, _ := f.Get(name)
		_, labelled := f.Labels[key]
		switch {
		case of == "label" && !labelled:
			out = append(out, "no label "+key)
		case value == "":
			out = append(out, "no "+name)
		default:
			out = append(out, name+" "+value)
		}
	}
	return out
}
