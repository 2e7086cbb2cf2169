package zypp

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// lock is one of libzypp's locks: a query for packages, in lines `key: value`.
type lock struct {
	line      int
	names     []string
	strings   []string // of a query_string: names in which nothing else is read
	beside    []string // other attributes that it looks for: "solvable_provides: x"
	repos     []string
	kinds     []string
	match     string
	sensitive bool
	version   string
	status    string
	nameless  bool // a name in it is empty
	asks      bool // it has said something that makes a query; one that asks for nothing more is for all packages
}

// All stands for every package in a lock that names none.
const All = "*"

// matches are the ways in which names are compared; of another word libzypp takes no notice.
var matches = []string{"exact", "substring", "glob", "regex", "word"}

// What a line of a list of locks is to libzypp.
const (
	ends   = iota // no key stands in it: it ends a lock, whatever else it says
	remark        // begins with #, at the very front
	says
)

// parted takes a line `key: value` of a list of locks apart.
func parted(line string) (key, value string, is int) {
	line = strings.TrimSuffix(line, "\n")
	if strings.HasPrefix(line, "#") {
		return "", "", remark
	}
	key, value, ok := strings.Cut(line, ":")
	if !ok {
		return "", "", ends
	}
	return strings.Trim(key, " \t"), strings.Trim(value, " \t"), says
}

// locks reads libzypp's locks: blocks of lines `key: value` with a line without a key between them. A block without a
// name is for every package that meets the rest of it.
func (r *reader) locks(name string) {
	text, info, err := r.root.ReadTextInfo(name)
	if err != nil {
		return
	}
	r.Keep(info, name, text)
	var l lock
	n := 0
	for line := range strings.Lines(string(text)) {
		n++
		switch key, value, is := parted(line); is {
		case ends:
			r.lock(&l, name)
			l = lock{}
		case says:
			l.take(key, value, n)
		}
	}
	r.lock(&l, name)
}

// take notes one line, the nth of its file.
func (l *lock) take(key, value string, n int) {
	switch key {
	case "solvable_name":
		if l.nameless = l.nameless || value == ""; value != "" {
			l.names = append(l.names, value)
		}
	case "query_string":
		if value != "" {
			l.strings = append(l.strings, value)
		}
	case "repo":
		if value != "" {
			l.repos = append(l.repos, value)
		}
	case "type":
		l.kinds = append(l.kinds, strings.ToLower(value))
	case "match_type":
		l.match = ""
		if slices.Contains(matches, value) {
			l.match = value
		}
	case "case_sensitive":
		l.sensitive = saysYes(value)
	case "version":
		l.version = value
	case "install_status":
		l.status = value
	case "comment": // zypper's own word for whoever reads it
		return
	case "": // asked: it makes a query, and looks for nothing
	default: // libzypp takes any other for an attribute of packages
		l.beside = append(l.beside, key+": "+value)
	}
	l.asks = true
	if l.line == 0 {
		l.line = n
	}
}

// lock notes what a lock is for: each of its names, in each of its repositories.
func (r *reader) lock(l *lock, file string) {
	if !l.asks {
		return
	}
	whole := l.settle()
	names, rest := slices.Concat(l.names, l.strings), ""
	if len(names) > 0 {
		l.beside = slices.DeleteFunc(l.beside, func(b string) bool {
			return !strings.HasPrefix(b, "solvable_") && !strings.HasPrefix(b, "complex:")
		})
	}
	if len(l.beside) > 0 { // any of it is enough
		for _, n := range l.names {
			l.beside = append(l.beside, "solvable_name: "+n)
		}
		for _, n := range l.strings {
			l.beside = append(l.beside, "query_string: "+n)
		}
		names, rest = nil, strings.Join(l.beside, "; ")
	}
	if len(names) == 0 {
		names = []string{All}
		if rest == "" {
			l.match, l.sensitive = "glob", true // nothing is compared
		}
	}
	op, _, _ := strings.Cut(Compared(l.version), " ")
	readable := slices.Contains(Operators, op)
	if !readable {
		r.Problem(file, l.line, fmt.Sprintf("zypper installs nothing: %q in a lock is no comparison of versions", op), false)
	}
	repos := l.repos
	if len(repos) == 0 {
		repos = []string{""}
	}
	said := map[string]bool{}
	note := func(name, criteria string) {
		for _, repo := range repos {
			if key := name + "\x00" + repo + "\x00" + criteria; !said[key] {
				said[key] = true
				r.HoldWhere(source.HoldLock, name, repo, criteria, file, l.line)
			}
		}
	}
	for i, name := range names {
		kinds, bare, version := []string(nil), name, ""
		if i < len(l.names) {
			kinds, bare, version = Parted(name)
		}
		if len(kinds) == 0 {
			kinds = l.kinds
		}
		if version == "" || !readable || l.version != "" && len(names) > 1 { // asked: of one name its own counts, of several that of the lock
			version = l.version
		}
		note(bare, l.criteria(bare, kinds, version, rest))
	}
	if whole {
		l.match, l.sensitive = "glob", true
		note(All, l.criteria(All, l.kinds, l.version, ""))
	}
}

// settle leaves out what libzypp takes no notice of, and reports whether the lock is for every package as well. Names that say
// a kind or a version are taken by themselves: where a lock has no others, its strings count for nothing, unless an empty name
// stands beside them, and that one is for all where there are no strings.
func (l *lock) settle() (whole bool) {
	own := len(l.names) > 0
	for _, name := range l.names {
		kinds, _, version := Parted(name)
		own = own && (len(kinds) > 0 || version != "")
	}
	if own && !l.nameless {
		l.strings = nil
	}
	return own && l.nameless && len(l.strings) == 0
}

// Parted takes a name apart that says a kind or a version as well: package:tern >= 2.
func Parted(name string) (kinds []string, bare, version string) {
	for _, kind := range []string{"package", "pattern", "patch", "product", "application", "srcpackage"} {
		if rest, ok := strings.CutPrefix(name, kind+":"); ok {
			kinds, name = []string{kind}, rest
		}
	}
	if at := strings.IndexAny(name, "<>="); at > 0 {
		op := name[at:]
		end := len(op) - len(strings.TrimLeft(op, "<>="))
		if edition := strings.TrimLeft(op[end:], " \t"); slices.Contains(Operators, op[:end]) && edition != "" {
			return kinds, strings.TrimRight(name[:at], " \t"), op[:end] + " " + edition
		}
	}
	return kinds, name, ""
}

// Operators are the ways in which a lock compares versions.
var Operators = []string{"==", "=", "<=", "<", ">=", ">", "!="}

// criteria are what a lock asks for beside a name, where that is not what zypper itself writes.
func (l *lock) criteria(name string, kinds []string, version, rest string) string {
	var out []string
	say := func(key, value string) { out = append(out, key+": "+value) }
	plain := !strings.ContainsAny(name, `*?[\`)
	if match := cmp.Or(l.match, "substring"); match != "glob" && (match != "exact" || !plain) {
		say("match_type", match)
	}
	if !l.sensitive {
		say("case_sensitive", "off")
	}
	if len(kinds) > 0 && !slices.Contains(kinds, "package") {
		say("type", strings.Join(kinds, " "))
	}
	if version != "" {
		say("version", Compared(version))
	}
	if l.status == "installed" || l.status == "uninstalled" {
		say("install_status", l.status)
	}
	if rest != "" {
		out = append(out, rest)
	}
	return strings.Join(out, "; ")
}

// Compared is a version with how it is compared, in one spelling.
func Compared(version string) string {
	edition := strings.TrimLeft(version, "<>=!")
	op := version[:len(version)-len(edition)]
	if op == "" || op == "==" {
		op = "="
	}
	return op + " " + strings.Trim(edition, " \t")
}

// mark begins the comment of each lock that a policy has put there: zypper keeps it when it writes the list anew.
const mark = "Patient Lantern: "

// LockFile is where a host keeps its locks.
func LockFile(settings []source.Setting) string {
	for i := range settings {
		if s := &settings[i]; s.Family == Family && s.Name == "main.locksfile.path" && s.Value != "" {
			return path.Clean("/" + s.Value)
		}
	}
	return Locks
}

// Locked reports whether zypper goes by its locks at all, as it does unless zypp.conf says otherwise.
func Locked(settings []source.Setting) bool {
	return !slices.ContainsFunc(settings, NoLocks)
}

// NoLocks reports whether a setting has zypper go by no locks.
func NoLocks(s source.Setting) bool {
	return s.Family == Family && s.Name == "main.locksfile.apply" && saysNo(s.Value)
}

// Arrange gives a list of locks those of a policy, and takes out others that a policy has put there. What
// somebody else wrote stays as it is, byte for byte.
func Arrange(text []byte, want []source.SheetLock) []byte {
	have := map[source.SheetLock]bool{}
	var out strings.Builder
	for _, block := range blocks(string(text)) {
		l, of := source.SheetLock{}, ""
		if l, of = ours(block); of == "" {
			out.WriteString(block)
			continue
		}
		for _, w := range want {
			if w == l && !have[w] {
				have[w] = true
				out.WriteString(block)
			}
		}
	}
	rest := out.String()
	for _, w := range want {
		if have[w] {
			continue
		}
		have[w] = true
		if rest != "" && !strings.HasSuffix(rest, "\n") {
			rest += "\n"
		}
		if last := strings.LastIndexByte(strings.TrimSuffix(rest, "\n"), '\n'); rest != "" && strings.TrimSpace(rest[last+1:]) != "" {
			rest += "\n"
		}
		rest += fmt.Sprintf("type: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: %s\n%s\ncomment: %s%s\n\n",
			w.Package, w.Criteria, mark, w.Repository)
	}
	return []byte(rest)
}

// blocks parts a list of locks behind the lines that end them.
func blocks(text string) (out []string) {
	from, at, said := 0, 0, false
	for line := range strings.Lines(text) {
		_, _, is := parted(line)
		if blank := is == ends; !blank && said {
			out, from, said = append(out, text[from:at]), at, false
		} else if blank && at > from {
			said = true
		}
		at += len(line)
	}
	if from < len(text) {
		out = append(out, text[from:])
	}
	return out
}

// ours reads a block that a policy has put there; of is empty for another's.
func ours(block string) (l source.SheetLock, of string) {
	var q lock
	for line := range strings.Lines(block) {
		key, value, is := parted(line)
		if key == "comment" {
			of = strings.TrimPrefix(value, mark)
			if of == value {
				of = ""
			}
			continue
		}
		if is == says {
			q.take(key, value, 1)
		}
	}
	if of == "" || len(q.names) != 1 {
		return l, of
	}
	_, name, version := Parted(q.names[0])
	return source.SheetLock{Repository: of, Package: name, Criteria: q.criteria(name, q.kinds, cmp.Or(version, q.version), "")}, of
}
