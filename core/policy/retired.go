package policy

import (
	"bytes"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"patientlantern.example/lantern/core/diag"
)

// inBrackets reports whether what begins at a place stands in brackets, and not in lines of its own.
func (e *retiring) inBrackets(at diag.Pos) bool {
	if e.flows[at.File] == nil {
		e.flows[at.File] = flows(plain(e.folder[at.File]))
	}
	return e.flows[at.File][[2]int{at.Line, at.Column}]
}

// flows finds by line and column where entries begin that stand in brackets.
func flows(text []byte) map[[2]int]bool {
	out := map[[2]int]bool{}
	for _, x := range pieces(text) {
		f, err := parse(x.text)
		if err != nil {
			continue // what is to be cut is not found in it, and said
		}
		note := func(n ast.Node) {
			if t := n.GetToken(); t != nil && t.Position != nil {
				out[[2]int{t.Position.Line + x.shift, t.Position.Column}] = true
			}
		}
		for _, doc := range f.Docs {
			if doc.Body == nil {
				continue
			}
			inside := visitor(func(n ast.Node) {
				switch v := n.(type) {
				case *ast.MappingNode:
					if v.IsFlowStyle {
						for _, x := range v.Values {
							note(x.Key)
							note(x.Value)
						}
					}
				case *ast.SequenceNode:
					if v.IsFlowStyle {
						for _, x := range v.Values {
							note(x)
						}
					}
				}
			})
			ast.Walk(inside, doc.Body)
		}
	}
	return out
}

// made is what the folder is with everything cut.
func (e *retiring) made() *Retirement {
	out := &Retirement{
		Key: e.key.Name, Fingerprint: e.key.Fingerprint, Checked: []string{}, Files: map[string][]byte{}, Gone: []string{},
		Mentions: []diag.Pos{},
	}
	for name, edits := range e.edits {
		out.Files[name] = withoutEmpty(edits.Apply(e.folder[name]), "keys")
	}
	named := func(k *Key) bool { return k != e.key && k.File == e.key.File }
	if !slices.ContainsFunc(slices.Collect(maps.Values(e.p.Keys)), named) {
		out.Gone = append(out.Gone, e.key.File)
	}
	for _, name := range sortedNames(e.p.Repositories) {
		r := e.p.Repositories[name]
		if !slices.ContainsFunc(r.Trusts, func(t Text) bool { return t.Value == e.key.Name }) {
			continue
		}
		if out.Believed = append(out.Believed, name); r.checksPackages() {
			out.Checked = append(out.Checked, name)
		}
	}
	for _, name := range e.p.Files {
		text, changed := out.Files[name]
		if !changed {
			text = e.folder[name]
		}
		out.Mentions = append(out.Mentions, mentions(name, text, e.key.Name)...)
	}
	return out
}

// withoutEmpty takes the head of a section away under which nothing stands any more.
func withoutEmpty(text []byte, section string) []byte {
	var out [][]byte
	lines := bytes.SplitAfter(text, []byte("\n"))
	for i, line := range lines {
		if sectionHead.Match(bytes.TrimRight(line, "\n")) && bytes.HasPrefix(line, []byte(section+":")) {
			next := i + 1
			for next < len(lines) && blank(lines[next]) {
				next++
			}
			if next == len(lines) || topLevel(lines[next]) {
				continue
			}
		}
		out = append(out, line)
	}
	return bytes.Join(out, nil)
}

// mentions finds the lines in which a name stands as a word of its own.
func mentions(file string, text []byte, name string) (out []diag.Pos) {
	word := regexp.MustCompile(`(^|[^a-z0-9-])` + regexp.QuoteMeta(name) + `($|[^a-z0-9-])`)
	n := 0
	for line := range strings.Lines(string(text)) {
		n++
		if i := strings.IndexByte(line, '#'); i >= 0 && word.MatchString(line[i:]) {
			out = append(out, diag.At(file, n, strings.Index(line[i:], name)+i+1))
		}
	}
	return out
}

// proved reports what else has changed than that the key is out.
func (e *retiring) proved(after *Policy) error {
	if after.Keys[e.key.Name] != nil {
		return byHand(after.Keys[e.key.Name].Pos)
	}
	for name, r := range e.p.Repositories {
		want := slices.DeleteFunc(valuesOf(r.Trusts), func(n string) bool { return n == e.key.Name })
		if now := after.Repositories[name]; now == nil || !slices.Equal(want, valuesOf(now.Trusts)) {
			return fmt.Errorf("%w: the repository %s would be believed by other keys; look at %s", ErrByHand, name, r.Pos)
		}
	}
	for _, d := range Compare(e.p, after) {
		switch {
		case d.Kind == Removed && d.What == "key "+e.key.Name:
		case d.Kind == Changed && strings.HasPrefix(d.What, "repository ") && d.Part == "keys":
		case d.Kind == Changed && strings.HasPrefix(d.What, "key ") && d.Part == "succeeds":
		default:
			return fmt.Errorf("%w: otherwise %s", ErrByHand, d)
		}
	}
	return nil
}

// valuesOf are texts in order, each once.
func valuesOf(list []Text) []string {
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = t.Value
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// checksPackages reports whether some package manager for which the repository is defined checks a signature of
// each package. apt checks that of an index alone.
func (r *Repository) checksPackages() bool {
	own := func(d *Definition) bool { return d.Rpm != nil || d.Zypp != nil || d.Arch != nil || d.Flat != nil }
	checks := func(d *Definition) bool {
		return own(d) || slices.ContainsFunc(d.Files, func(x Extra) bool { return own(&x.Definition) })
	}
	return checks(&r.Definition) || slices.ContainsFunc(r.Cases, func(c Case) bool { return checks(&c.Definition) })
}
