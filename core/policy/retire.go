package policy

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/text/splice"
)

// Retirement is what a policy's folder is without a signing key.
type Retirement struct {
	Key         string            // its name in the policy
	Fingerprint string            // of its primary key
	Believed    []string          // repositories that are believed by it before
	Checked     []string          // those of package managers that check the signature of each package, an old one too
	Files       map[string][]byte // policy files that change, as they are then
	Gone        []string          // key files that nothing names then
	Mentions    []diag.Pos        // lines that speak of the key still, in comments
}

// Why a key stays where it is.
var (
	ErrNoKey     = errors.New("there is no such key")
	ErrLastKey   = errors.New("it is the only key of a repository")
	ErrByHand    = errors.New("it has to be taken out by hand")
	ErrWithdrawn = errors.New("hosts are told to take it away")
)

// Retire takes a key out of a policy's folder: its definition, its name at repositories, where those that succeed
// it stand then, and that they succeed it. The folder itself is not touched, nor what else stands in a file. What
// comes of it is read again: each repository is believed by the keys of before without this one, and nothing else
// of the policy has changed.
func Retire(folder Folder, key string, now time.Time) (*Retirement, error) {
	before, diags := Load(folder, now)
	if diag.HasErrors(diags) {
		return nil, fmt.Errorf("the folder has an error: %s", diag.Errors(diags)[0])
	}
	k := before.Keys[key]
	switch {
	case k == nil:
		return nil, fmt.Errorf("%w %q in the folder%s", ErrNoKey, key, hint(key, before.Keys))
	case before.WithdrawalOf(key) != nil:
		return nil, fmt.Errorf("%w, so %s has to stay: it is withdrawn at %s", ErrWithdrawn, key, before.WithdrawalOf(key).Pos)
	}
	e := &retiring{folder: folder, p: before, key: k, edits: map[string]*splice.Edits{}, flows: map[string]map[[2]int]bool{}}
	if err := e.plan(); err != nil {
		return nil, err
	}
	out := e.made()
	whole := maps.Clone(folder)
	maps.Copy(whole, out.Files)
	for _, name := range out.Gone {
		delete(whole, name)
	}
	after, diags := Load(whole, now)
	if diag.HasErrors(diags) {
		return nil, fmt.Errorf("%w: %s", ErrByHand, diag.Errors(diags)[0])
	}
	if err := e.proved(after); err != nil {
		return nil, err
	}
	return out, nil
}

// cut is a part of a file, in bytes.
type cut struct{ from, to int }

// retiring takes one key out.
type retiring struct {
	folder Folder
	p      *Policy
	key    *Key
	heirs  []string                   // keys that succeed it
	edits  map[string]*splice.Edits   // by file
	flows  map[string]map[[2]int]bool // by file: where in it entries begin that stand in brackets
}

// plan finds what has to be cut.
func (e *retiring) plan() error {
	for _, name := range sortedNames(e.p.Keys) {
		if s := e.p.Keys[name].Succeeds; s != nil && s.Value == e.key.Name {
			e.heirs = append(e.heirs, name)
		}
	}
	for _, name := range sortedNames(e.p.Repositories) {
		r := e.p.Repositories[name]
		left := slices.DeleteFunc(slices.Clone(r.Trusts), func(t Text) bool { return t.Value == e.key.Name })
		if len(left) == 0 && len(r.Trusts) > 0 {
			return fmt.Errorf("%w: %s at %s; add the vendor's next one first, with succeeds: %s", ErrLastKey, name, r.Pos, e.key.Name)
		}
		if err := e.named(r); err != nil {
			return err
		}
	}
	for _, name := range e.heirs {
		at := *e.p.Keys[name].Succeeds
		var err error
		if older := e.key.Succeeds; older != nil {
			err = e.replace(at, older.Value)
		} else {
			err = e.drop(at.Pos, "succeeds")
		}
		if err != nil {
			return err
		}
	}
	return e.drop(e.key.Pos, "")
}

// named takes the key out of what a repository names.
func (e *retiring) named(r *Repository) error {
	i := slices.IndexFunc(r.Keys, func(t Text) bool { return t.Value == e.key.Name })
	if i < 0 {
		return nil
	}
	heirs := slices.DeleteFunc(slices.Clone(e.heirs), func(h string) bool {
		return slices.ContainsFunc(r.Keys, func(t Text) bool { return t.Value == h })
	})
	if len(heirs) == 0 {
		return e.drop(r.Keys[i].Pos, "")
	}
	at := r.Keys[i]
	if e.inBrackets(at.Pos) {
		return e.replace(at, strings.Join(heirs, ", "))
	}
	text, start, err := e.at(at.Pos)
	if err != nil {
		return err
	}
	line := bytes.LastIndexByte(text[:start], '\n') + 1
	return e.replace(at, strings.Join(heirs, "\n"+string(text[line:start])))
}

// byHand says where somebody has to look.
func byHand(at diag.Pos) error { return fmt.Errorf("%w: look at %s", ErrByHand, at) }

// at is the text of a file, and the byte of it at which a place is.
func (e *retiring) at(p diag.Pos) (text []byte, start int, err error) {
	text = e.folder[p.File]
	start = len(text) - len(unmarked(text))
	for n := 1; n < p.Line; n++ {
		i := bytes.IndexByte(text[start:], '\n')
		if i < 0 {
			return nil, 0, byHand(p)
		}
		start += i + 1
	}
	for range p.Column - 1 { // which counts characters
		r := bytes.Runes(text[start:min(start+4, len(text))])
		if len(r) == 0 || r[0] == '\n' {
			return nil, 0, byHand(p)
		}
		start += len(string(r[0]))
	}
	return text, start, nil
}

// spelt is a name in every way in which YAML has it; the plain one stands in the others, and is last.
func spelt(name string) []string { return []string{`"` + name + `"`, "'" + name + "'", name} }

// word is how long a name is that stands at a place, with its quotes.
func word(text []byte, name string) int {
	for _, w := range spelt(name) {
		if bytes.HasPrefix(text, []byte(w)) {
			return len(w)
		}
	}
	return 0
}

// replace puts something else where a name stands.
func (e *retiring) replace(at Text, put string) error {
	text, start, err := e.at(at.Pos)
	if err != nil {
		return err
	}
	n := word(text[start:], at.Value)
	if n == 0 {
		return byHand(at.Pos)
	}
	e.edit(at.Pos).Replace(start, start+n, put)
	return nil
}

// edit is what becomes of the file of a place.
func (e *retiring) edit(at diag.Pos) *splice.Edits {
	if e.edits[at.File] == nil {
		e.edits[at.File] = &splice.Edits{}
	}
	return e.edits[at.File]
}

// drop cuts what begins at a place: an item of a list, or an entry of a mapping. Where it is the value of an entry
// that goes, the entry's key is given.
func (e *retiring) drop(at diag.Pos, of string) error {
	text, start, err := e.at(at)
	if err != nil {
		return err
	}
	flow := e.inBrackets(at)
	if of != "" {
		head := bytes.TrimRight(text[:start], " ")
		head, ok := bytes.CutSuffix(head, []byte(":"))
		if !ok {
			return byHand(at)
		}
		for _, w := range spelt(of) {
			if bytes.HasSuffix(head, []byte(w)) {
				start = len(head) - len(w)
				break
			}
		}
		if word(text[start:], of) == 0 {
			return byHand(at)
		}
	} else if word(text[start:], e.key.Name) == 0 {
		return byHand(at)
	}
	c, ok := cut{}, false
	if flow {
		c, ok = bracketed(text, start)
	} else {
		c, ok = lined(text, start)
	}
	if !ok {
		return byHand(at)
	}
	e.edit(at).Delete(c.from, c.to)
	return nil
}

// lined is an entry that has lines of its own: its first, and those that stand further in.
func lined(text []byte, start int) (c cut, ok bool) {
	c.from = bytes.LastIndexByte(text[:start], '\n') + 1
	lead := text[c.from:start]
	if len(bytes.Trim(lead, " -")) > 0 || bytes.Count(lead, []byte("-")) > 1 {
		return c, false
	}
	indent := indentOf(text[c.from:])
	next := func(at int) int {
		if i := bytes.IndexByte(text[at:], '\n'); i >= 0 {
			return at + i + 1
		}
		return len(text)
	}
	c.to = next(start)
	for at := c.to; at < len(text); at = next(at) {
		line := text[at:next(at)]
		if len(bytes.TrimSpace(line)) == 0 {
			continue // it belongs to what follows, where that does not belong to the entry
		}
		if indentOf(line) <= indent {
			break
		}
		c.to = next(at)
	}
	return c, true
}

// bracketed is an entry that stands in brackets, with the comma that parts it from its neighbour.
func bracketed(text []byte, start int) (c cut, ok bool) {
	end, comma := entryEnd(text, start)
	if end < 0 {
		return c, false
	}
	if !comma { // the last one
		left := bytes.TrimRight(text[:start], " \r\n")
		if n := len(left) - 1; n >= 0 && left[n] == ',' {
			return cut{n, len(bytes.TrimRight(text[:end], " \r\n"))}, true
		}
		return cut{start, end}, true
	}
	c = cut{start, end + 1}
	for c.to < len(text) && text[c.to] == ' ' {
		c.to++
	}
	line := bytes.LastIndexByte(text[:start], '\n') + 1
	rest := bytes.TrimLeft(text[c.to:], " \r")
	if len(bytes.TrimSpace(text[line:start])) == 0 && (len(rest) == 0 || rest[0] == '\n' || rest[0] == '#') {
		c.from = line // a line that it had for itself
		if i := bytes.IndexByte(text[c.to:], '\n'); i >= 0 {
			c.to += i + 1
		}
	}
	return c, true
}

// entryEnd finds where an entry in brackets ends: at a comma, or at the bracket that closes what it stands in; -1
// where it does not.
func entryEnd(text []byte, start int) (end int, comma bool) {
	depth, quote := 0, byte(0)
	for i := start; i < len(text); i++ {
		switch b := text[i]; {
		case quote != 0:
			if b == '\\' && quote == '"' {
				i++
			} else if b == quote {
				quote = 0
			}
		case (b == '"' || b == '\'') && bytes.IndexByte([]byte(" ,:[{\n"), text[max(i-1, 0)]) >= 0:
			quote = b
		case b == '#' && i > 0 && (text[i-1] == ' ' || text[i-1] == '\n'):
			n := bytes.IndexByte(text[i:], '\n')
			if n < 0 {
				return -1, false
			}
			i += n
		case b == '[' || b == '{':
			depth++
		case depth == 0 && (b == ',' || b == ']' || b == '}'):
			return i, b == ','
		case b == ']' || b == '}':
			depth--
		}
	}
	return -1, false
}
