package policy

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/source"
)

// Limits of a folder.
const (
	MaxFile   = 4 << 20
	MaxFolder = 32 << 20
	maxDepth  = 32
)

// Folder is the content of a policy folder: slash-separated name → bytes.
type Folder map[string][]byte

// Collect reads the policy files and key files of a folder. Hidden files and
// folders are left out, symbolic links are not followed.
func Collect(fsys fs.FS) (Folder, []diag.Diagnostic) {
	out := Folder{}
	var bad []diag.Diagnostic
	total := int64(0)
	refuse := func(code, name, msg, remedy string) {
		bad = append(bad, diag.Diagnostic{Code: code, Severity: diag.Error, Pos: diag.Pos{File: name}, Message: msg, Remedy: remedy})
	}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name != "." && d.Name()[0] == '.' {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() {
			return nil
		}
		ext := path.Ext(name)
		if ext != ".yaml" && ext != ".yml" && ext != ".asc" && ext != ".gpg" && ext != ".pgp" && ext != ".pem" {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if info.Size() <= MaxFile {
			total += info.Size()
		}
		if info.Size() > MaxFile || total > MaxFolder {
			refuse("size", name, fmt.Sprintf("the file has %d bytes; a policy file may have %d MiB, a folder %d MiB", info.Size(), MaxFile>>20, MaxFolder>>20), "split it, or move what is no policy elsewhere")
			return nil
		}
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return err
		}
		out[name] = data
		return nil
	})
	if err != nil {
		var pe *fs.PathError
		if errors.As(err, &pe) {
			refuse("nothing-read", pe.Path, "cannot be read: "+pe.Err.Error(), "check the path and its permissions")
		} else {
			refuse("nothing-read", ".", err.Error(), "")
		}
	}
	return out, bad
}

type loader struct {
	folder   Folder
	now      time.Time
	policy   *Policy
	out      []diag.Diagnostic
	file     string
	shift    int // lines above the piece of the file that is being read
	compiler *condition.Compiler
	noticeAt diag.Pos
	hints    int
	used     map[string]bool // "repository x", "group x", "key x"
}

// Load reads a folder. now is the time that keys are judged at. The policy is
// whole only when no diagnostic is an error.
func Load(folder Folder, now time.Time) (*Policy, []diag.Diagnostic) {
	l := &loader{folder: folder, now: now, used: map[string]bool{}, policy: &Policy{
		Keys: map[string]*Key{}, Repositories: map[string]*Repository{}, Contracts: map[string]*Contract{}, Channels: map[string]*Channel{}, Groups: map[string]*Group{},
		Labels: map[string]map[string]Text{}, Levels: map[string]int{}, Notice: DefaultNotice,
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
		l.report("nothing-read", diag.Error, diag.Pos{File: "."}, "no policy file (*.yaml) stands in the folder", "name the folder that holds policy.yaml")
	}
	if !l.bounded() {
		return l.policy, l.out
	}
	for _, name := range l.policy.Files {
		l.file = name
		l.readFile(folder[name])
	}
	if n := len(l.policy.Assignments); n > mostAssignments {
		l.fail("too-large", l.policy.Assignments[mostAssignments].Pos, fmt.Sprintf("there are %d assignments, and %d are the most", n, mostAssignments), "give groups of groups what they have in common")
	}
	if n := len(l.policy.Repositories); n > mostAssignments {
		l.fail("too-large", diag.Pos{File: "."}, fmt.Sprintf("there are %d repositories, and %d are the most", n, mostAssignments), "say what they have in common once, with settings and cases")
	}
	if unread := slices.DeleteFunc(slices.Clone(l.out), func(d diag.Diagnostic) bool {
		return d.Code != "syntax" && d.Code != "encoding" && d.Code != "too-large"
	}); len(unread) > 0 {
		diag.Sort(unread) // what follows from a file that is not read is not said
		return l.policy, unread
	}
	l.references()
	l.groupReferences()
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
	if i := bytes.IndexByte(data, '\t'); i >= 0 {
		start := bytes.LastIndexByte(data[:i], '\n') + 1
		if len(bytes.TrimSpace(data[start:i])) == 0 {
			l.fail("syntax", diag.At(l.file, bytes.Count(data[:i], []byte{'\n'})+1, i-start+1), "a tab stands where YAML wants blanks", "indent with blanks")
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
	for i, n := range docs {
		l.shift = shifts[i]
		l.document(n, i > 0 && len(parts) > 1)
	}
	l.shift = 0
	if len(docs) == 0 {
		l.fail("format", diag.At(l.file, 1, 1), "the file is empty", "begin it with: format: "+Format)
	}
}

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
	first := map[string]diag.Pos{}
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
			remedy := "allowed are " + strings.Join(allowed, ", ")
			if near := names.Nearest(key, allowed); near != "" {
				remedy = fmt.Sprintf("did you mean %q?", near)
			}
			l.fail("unknown-key", at, fmt.Sprintf("%s has no key %q", what, key), remedy)
			continue
		}
		out = append(out, field{key, at, v.Value})
	}
	return out
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
			for _, k := range l.mapping(f.node, "keys") {
				l.key(k)
			}
		case "repositories":
			for _, k := range l.mapping(f.node, "repositories") {
				l.repository(k)
			}
		case "contracts":
			for _, k := range l.mapping(f.node, "contracts") {
				l.contract(k)
			}
		case "channels":
			for _, k := range l.mapping(f.node, "channels") {
				l.channel(k)
			}
		case "notice":
			l.notice(f)
		case "labels":
			for _, k := range l.mapping(f.node, "labels") {
				l.labels(k)
			}
		case "groups":
			for _, k := range l.mapping(f.node, "groups") {
				l.group(k)
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
		}
	}
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

func (l *loader) name(f field, what string, already diag.Pos, taken bool) bool {
	if !nameForm.MatchString(f.key) {
		l.fail("name", f.at, fmt.Sprintf("%s name %q is not allowed", what, f.key), "use small letters, digits and -, at most 63")
		return false
	}
	if taken {
		l.fail("name-twice", f.at, fmt.Sprintf("the %s %q is defined twice", what, f.key), "keep one of them, or give the other a new name", already)
		return false
	}
	return true
}

func (l *loader) key(f field) {
	old, taken := l.policy.Keys[f.key]
	var before diag.Pos
	if taken {
		before = old.Pos
	}
	if !l.name(f, "key", before, taken) {
		return
	}
	k := &Key{Name: f.key, Pos: f.at}
	l.policy.Keys[f.key] = k
	var file, fpr Text
	for _, x := range l.mapping(f.node, fmt.Sprintf("the key %q", f.key), keysOf[keyForm]()...) {
		switch x.key {
		case "file":
			file, _ = l.text(x, "file")
		case "fingerprint":
			fpr, _ = l.text(x, "fingerprint")
		case "succeeds":
			if t, ok := l.text(x, "succeeds"); ok {
				k.Succeeds = &t
			}
		case "because":
			t, _ := l.text(x, "because")
			k.Because = strings.TrimSpace(t.Value)
		}
	}
	if file.Value == "" || fpr.Value == "" {
		l.fail("missing", f.at, fmt.Sprintf("the key %q needs a file and a fingerprint", f.key), "add what is missing")
		return
	}
	want, err := keyring.ParseFingerprint(fpr.Value)
	if err != nil {
		l.fail("fingerprint", fpr.Pos, err.Error(), "copy it from the vendor's own page, whole")
		return
	}
	k.Fingerprint, k.File = want, path.Clean(path.Join(path.Dir(l.file), file.Value))
	data, ok := l.folder[k.File]
	if !ok {
		var have []string
		for n := range l.folder {
			if ext := path.Ext(n); ext != ".yaml" && ext != ".yml" {
				have = append(have, n)
			}
		}
		remedy := "put the key file (.asc or .gpg) there; nothing is fetched from the net"
		if near := names.Nearest(k.File, have); near != "" {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		l.fail("key-file", file.Pos, fmt.Sprintf("the key file %q is not in the folder", k.File), remedy)
		return
	}
	list, err := keyring.Certificates(data)
	if errors.Is(err, keyring.ErrSecret) {
		l.fail("secret", file.Pos, fmt.Sprintf("the key file %q holds a private key", k.File), "put the public key alone there, and treat the private one as lost")
		return
	}
	if err != nil {
		l.fail("key-file", file.Pos, fmt.Sprintf("the key file %q cannot be read: %v", k.File, err), "put an OpenPGP public key there")
		return
	}
	var have []string
	for _, e := range list {
		if keyring.Fingerprint(e) != want {
			have = append(have, keyring.Fingerprint(e))
			continue
		}
		k.Describe, k.Weakness = keyring.Describe(e), keyring.Weakness(e)
		if k.Armored, err = keyring.Armor(openpgp.EntityList{e}); err != nil {
			l.fail("key-file", file.Pos, fmt.Sprintf("the key in %q cannot be written again: %v", k.File, err), "")
		}
	}
	if k.Armored == "" {
		l.fail("key-mismatch", fpr.Pos, fmt.Sprintf("the key file %q holds %s, not the pinned %s", k.File, strings.Join(have, " and "), want), "find out which is right before you change either")
		return
	}
	if k.Describe.Revoked {
		l.fail("key-unusable", f.at, fmt.Sprintf("the key %q is revoked", f.key), "get the vendor's new key")
	}
}

func (l *loader) repository(f field) {
	old, taken := l.policy.Repositories[f.key]
	var before diag.Pos
	if taken {
		before = old.Pos
	}
	if !l.name(f, "repository", before, taken) {
		return
	}
	r := &Repository{Name: f.key, Pos: f.at, Enabled: true, Signatures: source.CheckRequired, Settings: map[string]Setting{}, At: map[string]diag.Pos{}}
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
		l.fail("no-reason", sigAt, fmt.Sprintf("the repository %q switches signature checks off without a reason", r.Name), "say why: because: \"…\"")
	}
	l.reasons(r)
	if r.Empty() {
		l.fail("missing", r.Pos, fmt.Sprintf("the repository %q says nothing about any family of package managers", r.Name), "add: deb: { url: …, suites: […], components: […] }, or: rpm: { url: … }")
		return
	}
	if r.InPlace {
		l.inPlaceRules(r, sigAt)
		return
	}
	if r.Signatures == source.CheckRequired && len(r.Keys) == 0 {
		l.fail("key-missing", r.Pos, fmt.Sprintf("the repository %q names no key, so nothing that it signs could be checked", r.Name), "add: keys: [NAME]")
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

// inPlaceRules checks a repository that is the distribution's own.
func (l *loader) inPlaceRules(r *Repository, sigAt diag.Pos) {
	for name, p := range r.Places() {
		switch {
		case p == nil:
		case name == "flatpak":
			l.fail("value", p.Pos, fmt.Sprintf("the repository %q is edited in place, and flatpak has no entries of the distribution's own", r.Name), "drop in-place, or flatpak")
		case len(p.Sections) == 0:
			l.fail("missing", p.Pos, fmt.Sprintf("the repository %q is edited in place and does not say which sections are meant", r.Name), "add: sections: [NAME]")
		case p.URL != nil || p.Mirrors != nil || p.Access != nil || p.Authority != nil || p.Priority != nil:
			l.fail("value", p.Pos, fmt.Sprintf("the repository %q is edited in place and keeps what its sections say", r.Name), "leave sections alone there, or drop in-place")
		}
	}
	for _, x := range [][]Text{r.Above, r.Below} {
		if len(x) > 0 {
			l.fail("value", x[0].Pos, fmt.Sprintf("the repository %q is edited in place and keeps its place in the order", r.Name), "say above or below in the other repository")
		}
	}
	if r.Media != nil {
		l.fail("value", r.Media.Pos, fmt.Sprintf("the repository %q is edited in place and keeps the URLs of its entries", r.Name), "drop media, or in-place")
	}
	if len(r.Files) > 0 {
		l.fail("value", r.Files[0].Pos, fmt.Sprintf("the repository %q is edited in place and has no files of its own", r.Name), "drop files, or in-place")
	}
	if r.Deb != nil && len(r.Deb.Suites) == 0 {
		l.fail("missing", r.Deb.Pos, fmt.Sprintf("the repository %q names no suites", r.Name), "add: suites: [stable]")
	}
	if len(r.Keys) > 0 {
		l.fail("value", r.Keys[0].Pos, fmt.Sprintf("the repository %q is edited in place and keeps the key that its entries name", r.Name), "drop keys, or in-place")
	}
	if r.Signatures == source.CheckOff {
		l.fail("value", sigAt, fmt.Sprintf("the repository %q is edited in place and keeps the checks that its entries have", r.Name), "drop signatures, or in-place")
	}
}

// definitionRules checks what must be given of a file of the policy's own.
func (l *loader) definitionRules(r *Repository, what string, d *Definition) {
	plain := func(u *Text) {
		if r.Signatures == source.CheckOff && u != nil && strings.HasPrefix(expandDefaults(u.Value, r.Settings), "http://") {
			l.report("plain-transport", diag.Warning, u.Pos, what+" comes over http without a signature check: anybody on the way can change it", "use https, or check signatures")
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
		l.fail("value", deb.Pos, "add-components and drop-components outside a case are for repositories that are edited in place", "list what is wanted under components")
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

var secretURL = regexp.MustCompile(`://[^/\s:@]*:[^/\s@]+@`)

func (l *loader) noSecret(t Text) {
	if secretURL.MatchString(t.Value) {
		l.fail("secret", t.Pos, "a URL with a password stands in the policy", "take the password out, and change it: whoever reads the policy could read it")
	}
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
		case "pin":
			if t, ok := l.text(x, "pin"); ok {
				d.Pin = &t
				if k, _, _ := strings.Cut(t.Value, " "); k != "release" && k != "origin" && k != "version" || strings.ContainsAny(t.Value, "\r\n") {
					l.fail("value", t.Pos, fmt.Sprintf("the pin is %q", t.Value), "write it as Pin: of preferences(5), such as release o=Saltmarsh")
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
					l.fail("value", t.Pos, fmt.Sprintf("the %s of the release is %q, and a pin cannot say a comma", x.key, t.Value), "leave it out and give the others")
				}
				*map[string]**Text{"origin": &r.Origin, "label": &r.Label, "suite": &r.Suite, "codename": &r.Codename}[x.key] = &t
			}
		}
		if len(r.Texts()) == 0 {
			l.fail("missing", r.Pos, "the release says nothing that a pin can match", "give origin, label, suite or codename as the Release file says them; lantern policy check --upstreams asks")
			continue
		}
		out = append(out, r)
	}
	return out
}

// words is a list of texts none of which may hold blanks: a file has no way to say them.
func (l *loader) words(f field) []Text {
	list := l.list(f, f.key)
	for _, t := range list {
		if t.Value == "" || strings.ContainsAny(t.Value, " \t\n\"[]#,") {
			l.fail("value", t.Pos, fmt.Sprintf("%q cannot be one of %s", t.Value, f.key), "use one word without blanks, quotes or brackets for each")
		}
	}
	return list
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
		if name, found := strings.CutPrefix(ce.Message, "no such fact: "); found {
			if near := names.Nearest(name, condition.Names()); near != "" {
				remedy = fmt.Sprintf("did you mean %q?", near)
			}
		}
	}
	l.fail("expression", at, fmt.Sprintf("the condition `%s` does not compile: %v", strings.Join(strings.Fields(t.Value), " "), err), remedy)
	return nil
}

func (l *loader) group(f field) {
	if f.key == Everyone {
		l.fail("name", f.at, "the group everyone is there already, and holds every host", "choose another name")
		return
	}
	old, taken := l.policy.Groups[f.key]
	var before diag.Pos
	if taken {
		before = old.Pos
	}
	if !l.name(f, "group", before, taken) {
		return
	}
	g := &Group{Name: f.key, Pos: f.at}
	l.policy.Groups[f.key] = g
	errs := len(l.out)
	seen := map[string]bool{}
	for _, x := range l.mapping(f.node, fmt.Sprintf("the group %q", f.key), keysOf[groupForm]()...) {
		switch x.key {
		case "hosts":
			for _, t := range l.list(x, "hosts") {
				list, err := names.Expand(t.Value)
				if err != nil {
					l.fail("range", t.Pos, err.Error(), "write it as gw-{01..12}.brinewick.test")
					continue
				}
				for _, n := range list {
					if !seen[n] {
						seen[n] = true
						g.Hosts = append(g.Hosts, n)
					}
				}
			}
		case "where":
			g.Where = l.condition(x)
		case "groups":
			g.Of = l.list(x, "groups")
		case "except":
			g.Except = l.members(l.list(x, "except"))
		}
	}
	if g.Where == nil && len(g.Hosts) == 0 && len(g.Of) == 0 && len(l.out) == errs {
		l.fail("missing", f.at, fmt.Sprintf("the group %q says neither hosts nor where nor groups", f.key), "add: hosts: [\"gw-{01..12}.brinewick.test\"]")
	}
}

func (l *loader) assignment(n ast.Node) {
	a := &Assignment{Pos: l.pos(n), Settings: map[string]Setting{}}
	for _, x := range l.mapping(n, "an assignment", keysOf[assignmentForm]()...) {
		switch x.key {
		case "to", "over":
			var list []Text
			if _, isList := x.node.(*ast.SequenceNode); isList {
				list = l.list(x, x.key)
			} else if t, ok := l.text(x, x.key); ok {
				list = []Text{t}
			}
			if list = l.members(list); x.key == "to" {
				a.To = list
			} else {
				a.Over = list
			}
		case "repositories":
			a.Repositories = l.list(x, "repositories")
		case "channels":
			a.Channels = l.follows(x)
		case "seats":
			v := l.oneOf(x, "seats", SeatsByHand, SeatsAutomatic)
			a.Seats = &Text{v, x.at}
		case "without-contract":
			a.Without = l.decision(x)
		case "unlisted":
			v := l.oneOf(x, "unlisted", source.UnlistedReport, source.UnlistedSwitchOff, source.UnlistedRemove)
			a.Unlisted = &Text{v, x.at}
		case "settings":
			for _, s := range l.mapping(x.node, "settings") {
				if t, ok := l.text(s, fmt.Sprintf("the setting %q", s.key)); ok {
					l.noSecret(t)
					l.secretSetting(s.key, t)
					a.Settings[s.key] = Setting{t.Value, s.at}
				}
			}
		}
	}
	if len(a.To) == 0 {
		l.fail("missing", a.Pos, "the assignment does not say to whom", "add: to: everyone, or a group")
		return
	}
	l.policy.Assignments = append(l.policy.Assignments, a)
}

// references checks that names lead somewhere, and that definitions are used.
func (l *loader) references() {
	p := l.policy
	for _, r := range p.Repositories {
		for _, k := range r.Keys {
			resolveName(l, "key", k, p.Keys)
		}
		l.interpolations(r)
		if r.Needs != nil {
			for _, t := range r.Needs.Repositories {
				resolveName(l, "repository", t, p.Repositories)
			}
		}
	}
	for _, a := range p.Assignments {
		for _, list := range [][]Text{a.To, a.Over} {
			for _, g := range list {
				if g.Value != Everyone {
					resolveName(l, "group", g, p.Groups)
				}
			}
		}
		for _, r := range a.Repositories {
			resolveName(l, "repository", r, p.Repositories)
		}
		for key, s := range a.Settings {
			repo, setting, _ := strings.Cut(key, ".")
			r := p.Repositories[repo]
			if r == nil {
				l.fail("unknown-name", s.Pos, fmt.Sprintf("the setting %q names no repository", key), "write it as REPOSITORY.SETTING"+hint(repo, p.Repositories))
				continue
			}
			if _, ok := r.Settings[setting]; !ok && !r.spoilt {
				l.fail("unknown-name", s.Pos, fmt.Sprintf("the repository %q has no setting %q", repo, setting), "give it a default under its settings first"+hint(setting, r.Settings))
			}
		}
	}
	l.channelReferences()
	l.circles()
}

// unusedDefinitions names what nothing leads to.
func (l *loader) unusedDefinitions() {
	p := l.policy
	unused(l, "key", p.Keys, func(k *Key) diag.Pos { return k.Pos })
	unused(l, "repository", p.Repositories, func(r *Repository) diag.Pos { return r.Pos })
	unused(l, "group", p.Groups, func(g *Group) diag.Pos { return g.Pos })
}

// circles finds assignments that stand over themselves by way of others.
func (l *loader) circles() {
	list := l.policy.Assignments
	to := map[string][]int{} // group → assignments to it
	for i, a := range list {
		for _, t := range a.To {
			to[t.Value] = append(to[t.Value], i)
		}
	}
	const (
		open = 1
		done = 2
	)
	state := make([]int, len(list))
	var walk func(i int) bool
	walk = func(i int) bool {
		state[i] = open
		for _, g := range list[i].Over {
			for _, j := range to[g.Value] {
				if i == j || state[j] == done {
					continue
				}
				if state[j] == open {
					l.fail("cycle", list[j].Over[0].Pos, fmt.Sprintf("the assignment at %s stands over itself by way of others, so neither wins", list[j].Pos), "take one over: out")
					return false
				}
				if !walk(j) {
					return false
				}
			}
		}
		state[i] = done
		return true
	}
	for i := range list {
		if state[i] == 0 && !walk(i) {
			return
		}
	}
}

// mostHints bounds for how many names the nearest one is looked for.
const mostHints = 50

func hint[T any](name string, all map[string]T) string {
	list := make([]string, 0, len(all))
	for n := range all {
		list = append(list, n)
	}
	if near := names.Nearest(name, list); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

func resolveName[T any](l *loader, kind string, t Text, all map[string]T) {
	l.used[kind+" "+t.Value] = true
	if _, ok := all[t.Value]; !ok {
		near := ""
		if l.hints++; l.hints <= mostHints {
			near = hint(t.Value, all)
		}
		l.fail("unknown-name", t.Pos, fmt.Sprintf("there is no %s %q", kind, t.Value), "define it first"+near)
	}
}

func unused[T any](l *loader, kind string, all map[string]T, at func(T) diag.Pos) {
	for n, v := range all {
		if !l.used[kind+" "+n] {
			l.report("unused", diag.Warning, at(v), fmt.Sprintf("the %s %q is used nowhere", kind, n), "use it, or take it out")
		}
	}
}

// interpolations checks every ${name} of a repository.
func (l *loader) interpolations(r *Repository) {
	if r.spoilt {
		return // a key that is mistyped is one mistake, not one for each place that needs it
	}
	known := condition.Names()
	var settings []string
	for n := range r.Settings {
		settings = append(settings, n)
	}
	check := func(t Text) {
		for name, err := range Variables(t.Value) {
			if err != nil {
				l.fail("unknown-fact", t.Pos, fmt.Sprintf("%q: %v", t.Value, err), "write ${name}")
				return
			}
			if name == TokenName || name == MediaName && r.Media != nil || slices.Contains(known, name) || slices.Contains(settings, name) || strings.HasPrefix(name, "label.") || strings.HasPrefix(name, "tools.") {
				continue
			}
			remedy := "give it under settings, or use one of " + strings.Join(known, ", ") + ", label.NAME"
			if near := names.Nearest(name, append(slices.Clone(known), settings...)); near != "" {
				remedy = fmt.Sprintf("did you mean ${%s}?", near)
			}
			l.fail("unknown-fact", t.Pos, fmt.Sprintf("${%s} is neither a setting of %q nor a fact", name, r.Name), remedy)
		}
	}
	for _, s := range r.Settings {
		check(s)
	}
	for t := range r.Texts {
		check(t)
	}
	for _, c := range r.Cases {
		for t := range c.Texts {
			check(t)
		}
	}
}
