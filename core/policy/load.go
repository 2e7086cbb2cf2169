package policy

import (
	"bytes"
	"fmt"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
)

// Limits of a folder.
const (
	MaxFile   = 4 << 20
	MaxFolder = 32 << 20
	maxDepth  = 32
)

type loader struct {
	folder   Folder
	now      time.Time
	policy   *Policy
	out      []diag.Diagnostic
	file     string
	shift    int                            // lines above the piece of the file that is being read
	pieced   map[string]map[string]diag.Pos // where the entries of the sections stand, of a file that is read in pieces
	compiler *condition.Compiler
	noticeAt diag.Pos
	hints    int
	used     map[string]bool // "repository x", "group x", "key x"
}

// Load reads a folder. now is the time that keys are judged at. The policy is
// whole only when no diagnostic is an error.
func Load(folder Folder, now time.Time) (*Policy, []diag.Diagnostic) {
	l := &loader{folder: folder, now: now, used: map[string]bool{}, policy: &Policy{
		Keys:         map[string]*Key{},
		Withdrawn:    map[string]*Withdrawal{},
		Repositories: map[string]*Repository{},
		Contracts:    map[string]*Contract{},
		Channels:     map[string]*Channel{},
		Groups:       map[string]*Group{},
		Plans:        map[string]*Plan{},
		Sites:        map[string]*Site{},
		Labels:       map[string]map[string]Text{}, Levels: map[string]int{}, Notice: DefaultNotice,
	}}
	var err error
	if l.compiler, err = condition.NewCompiler(); err != nil {
		l.report("expression", diag.Error, diag.Pos{File: "."}, err.Error(), "")
		return l.policy, l.out
	}
	for name := range folder {
		if ext := path.Ext(name); ext == ".yaml" || ext == ".yml" {
			l.policy.Files = append(l.policy.Files, name)
		}
	}
	sort.Strings(l.policy.Files)
	if len(l.policy.Files) == 0 {
		l.report(
			"nothing-read",
			diag.Error,
			diag.Pos{File: "."},
			"no policy file (*.yaml) stands in the folder",
			"name the folder that holds policy.yaml",
		)
	}
	if !l.bounded() {
		return l.policy, l.out
	}
	for _, name := range l.policy.Files {
		l.file = name
		l.readFile(folder[name])
	}
	if n := len(l.policy.Assignments); n > mostAssignments {
		l.fail(
			"too-large",
			l.policy.Assignments[mostAssignments].Pos,
			fmt.Sprintf("there are %d assignments, and %d are the most", n, mostAssignments),
			"give groups of groups what they have in common",
		)
	}
	if n := len(l.policy.Repositories); n > mostAssignments {
		l.fail(
			"too-large",
			diag.Pos{File: "."},
			fmt.Sprintf("there are %d repositories, and %d are the most", n, mostAssignments),
			"say what they have in common once, with settings and cases",
		)
	}
	if unread := slices.DeleteFunc(slices.Clone(l.out), func(d diag.Diagnostic) bool {
		return d.Code != "syntax" && d.Code != "encoding" && d.Code != "too-large"
	}); len(unread) > 0 {
		diag.Sort(unread) // what follows from a file that is not read is not said
		return l.policy, unread
	}
	l.references()
	l.groupReferences()
	l.planReferences()
	l.siteReferences()
	l.expectReferences()
	l.precedence()
	l.keyReferences()
	l.unusedDefinitions()
	l.checks()
	diag.Sort(l.out)
	return l.policy, l.out
}

// mostMessage bounds a message, in bytes: it quotes what stands in the file.
const mostMessage = 2000

func (l *loader) report(code, severity string, at diag.Pos, message, remedy string, also ...diag.Pos) {
	if len(message) > mostMessage {
		message = strings.ToValidUTF8(message[:mostMessage/2], "") + " … " + strings.ToValidUTF8(message[len(message)-mostMessage/4:], "")
	}
	l.out = append(l.out, diag.Diagnostic{Code: code, Severity: severity, Pos: at, Message: message, Remedy: remedy, Also: also})
}

// failNewly is fail for what earlier versions took.
func (l *loader) failNewly(code string, at diag.Pos, message, remedy string) {
	l.fail(code, at, message, remedy)
	l.out[len(l.out)-1].Newer = true
}

// Published reads a folder that was published at a time, by this version or one before: what those took and this one refuses is read,
// and warned of.
func Published(folder Folder, at time.Time) (*Policy, []diag.Diagnostic) {
	p, diags := Load(folder, at)
	return p, diag.Borne(diags, func(diag.Diagnostic) bool { return true })
}

func (l *loader) fail(code string, at diag.Pos, message, remedy string, also ...diag.Pos) {
	l.report(code, diag.Error, at, message, remedy, also...)
}

func (l *loader) pos(n ast.Node) diag.Pos {
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 && !m.IsFlowStyle {
		n = m.Values[0].Key
	} else if v, ok := n.(*ast.MappingValueNode); ok {
		n = v.Key
	}
	if t := n.GetToken(); t != nil && t.Position != nil {
		return diag.At(l.file, t.Position.Line+l.shift, t.Position.Column)
	}
	return diag.Pos{File: l.file}
}

func (l *loader) readFile(data []byte) {
	if !utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0 {
		l.fail("encoding", diag.Pos{File: l.file}, "the file is not UTF-8 text", "save it as UTF-8")
		return
	}
	data = plain(data)
	if i := bytes.IndexByte(data, '\t'); i >= 0 {
		start := bytes.LastIndexByte(data[:i], '\n') + 1
		if len(bytes.TrimSpace(data[start:i])) == 0 {
			l.fail(
				"syntax",
				diag.At(l.file, bytes.Count(data[:i], []byte{'\n'})+1, i-start+1),
				"a tab stands where YAML wants blanks",
				"indent with blanks",
			)
			return
		}
	}
	if at, deep := tooDeep(data); deep {
		l.fail("syntax", diag.At(l.file, at, 1), fmt.Sprintf("brackets are nested more than %d deep", maxDepth), "write it flat")
		return
	}
	if at := nesting(data); at > 0 {
		l.fail("syntax", diag.At(l.file, at, 1), fmt.Sprintf("lists and mappings are nested more than %d deep", maxIndent), "write it flat")
		return
	}
	var docs []ast.Node
	var shifts []int
	parts := pieces(data)
	for _, p := range parts {
		f, err := parse(p.text)
		if err != nil && len(parts) > 1 { // the parser says best what is wrong with the whole
			parts = []piece{{text: data}}
			docs, shifts = nil, nil
			f, err = parse(data)
		}
		if err != nil {
			l.unreadable(err)
			return
		}
		for _, doc := range f.Docs {
			if doc.Body != nil {
				docs, shifts = append(docs, doc.Body), append(shifts, p.shift)
			}
		}
		if len(parts) == 1 {
			break
		}
	}
	l.pieced = nil
	if len(parts) > 1 {
		l.pieced = map[string]map[string]diag.Pos{}
	}
	for i, n := range docs {
		l.shift = shifts[i]
		l.document(n, i > 0 && len(parts) > 1)
	}
	l.shift = 0
	if len(docs) == 0 {
		l.fail("format", diag.At(l.file, 1, 1), "the file is empty", "begin it with: format: "+Format)
	}
}

// scalar returns the text of a plain value.
func (l *loader) scalar(n ast.Node) (string, bool) {
	switch v := n.(type) {
	case *ast.StringNode:
		return v.Value, true
	case *ast.LiteralNode:
		return strings.TrimSuffix(v.Value.Value, "\n"), true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, true
	case *ast.MappingKeyNode:
		return l.scalar(v.Value)
	}
	return "", false
}

// section returns the entries of a section; of a file that is read in pieces, those of the pieces before are kept in
// mind.
func (l *loader) section(f field) []field {
	if l.pieced == nil {
		return l.mapping(f.node, f.key)
	}
	if l.pieced[f.key] == nil {
		l.pieced[f.key] = map[string]diag.Pos{}
	}
	return l.fields(f.node, f.key, l.pieced[f.key])
}

// document reads one document. more is true for a further piece of the file.
func (l *loader) document(n ast.Node, more bool) {
	fields := l.mapping(n, "a policy file", keysOf[fileForm]()...)
	given := false
	for _, f := range fields {
		if f.key == "format" {
			given = true
			if t, ok := l.text(f, "format"); ok && t.Value != Format {
				l.fail("format", t.Pos, fmt.Sprintf("the file is in the format %q", t.Value), "this program reads "+Format)
				return
			}
		}
	}
	if !given && !more && len(fields) > 0 {
		l.fail("format", l.pos(n), "the format is not named", "begin the file with: format: "+Format)
	}
	for _, f := range fields {
		switch f.key {
		case "keys":
			for _, k := range l.section(f) {
				l.key(k)
			}
		case "withdrawn":
			for _, k := range l.section(f) {
				l.withdrawal(k)
			}
		case "repositories":
			for _, k := range l.section(f) {
				l.repository(k)
			}
		case "contracts":
			for _, k := range l.section(f) {
				l.contract(k)
			}
		case "channels":
			for _, k := range l.section(f) {
				l.channel(k)
			}
		case "publishing":
			for _, x := range l.mapping(f.node, "publishing", keysOf[publishingForm]()...) {
				l.policy.Consent = l.boolean(x, x.key) || l.policy.Consent // in whichever file
			}
		case "notice":
			l.notice(f)
		case "labels":
			for _, k := range l.section(f) {
				l.labels(k)
			}
		case "groups":
			for _, k := range l.section(f) {
				l.group(k)
			}
		case "plans":
			for _, k := range l.section(f) {
				l.plan(k)
			}
		case "sites":
			for _, k := range l.section(f) {
				l.site(k)
			}
		case "assign":
			seq, ok := f.node.(*ast.SequenceNode)
			if !ok {
				l.fail("value", l.pos(f.node), "assign must be a list", "begin each assignment with: - to:")
				continue
			}
			for _, n := range seq.Values {
				l.assignment(n)
			}
		case "expect":
			seq, ok := f.node.(*ast.SequenceNode)
			if !ok {
				l.fail("value", l.pos(f.node), "expect must be a list", "begin each expectation with: - that:")
				continue
			}
			for _, n := range seq.Values {
				l.expectation(n)
			}
		}
	}
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// isNew checks the name of something that is defined, and that it is not defined already.
func isNew[T any](l *loader, f field, what string, all map[string]*T, at func(*T) diag.Pos) bool {
	if old, taken := all[f.key]; taken {
		return l.name(f, what, at(old), true)
	}
	return l.name(f, what, diag.Pos{}, false)
}

func (l *loader) name(f field, what string, already diag.Pos, taken bool) bool {
	if !nameForm.MatchString(f.key) {
		l.fail("name", f.at, fmt.Sprintf("%s name %q is not allowed", what, f.key), "use small letters, digits and -, at most 63")
		return false
	}
	if taken {
		l.fail(
			"name-twice",
			f.at,
			fmt.Sprintf("the %s %q is defined twice", what, f.key),
			"keep one of them, or give the other a new name",
			already,
		)
		return false
	}
	return true
}
