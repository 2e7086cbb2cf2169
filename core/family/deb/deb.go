// Package deb says what apt makes of its source lists, and how to write them.
//
// The rules are those of apt 2.6 as Debian packages it, seen by running it; each
// is kept as a test that asks the real apt-get. sources.list(5) is the manual.
package deb

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/aptconf"
	"patientlantern.example/lantern/core/text/aptline"
	"patientlantern.example/lantern/core/text/deb822"
)

// Family is the name of this family in surveys, sheets and policies.
const Family = "deb"

// Where apt looks.
const (
	MainList = "/etc/apt/sources.list"
	PartsDir = "/etc/apt/sources.list.d"
)

// WatchDirs are the folders whose changes can change what Read returns.
var WatchDirs = []string{"/etc/apt", PartsDir, "/etc/apt/apt.conf.d", "/etc/apt/auth.conf.d", "/etc/apt/keyrings", "/etc/apt/trusted.gpg.d", "/usr/share/keyrings"}

type reader struct {
	family.Reading
	root     *rootfs.FS
	conf     aptconf.Tree
	archs    []string // that a source without a word about it is for
	native   string
	releases map[string]*release
	position int
}

// release is what apt keeps for one URL and suite; entries must agree on it.
type release struct {
	set                               bool
	trusted, checkValid, checkDate    string
	validMin, validMax, dateMaxFuture string
	signedBy                          string
	insecure, weak, downgrade         bool
}

// Read reads apt's sources and keys off a root. architectures are dpkg's names
// for those of the host, its native one first.
func Read(root *rootfs.FS, architectures []string) family.Reading {
	r := &reader{Reading: family.Begin(Family), root: root, archs: architectures, releases: map[string]*release{}}
	r.configure()
	main, parts := r.conf.File("Dir::Etc::sourcelist"), r.conf.File("Dir::Etc::sourceparts")
	if r.isFile(main) {
		r.file(main, true)
	}
	var entries []fs.DirEntry
	if parts != "" && parts != "/dev/null" {
		var err error
		if entries, err = root.ReadDir(parts); err != nil && !errors.Is(err, fs.ErrNotExist) {
			r.Problem(parts, 0, "cannot be listed: "+family.Plain(err), false)
		}
	}
	var aside []string
	for _, e := range entries {
		name := path.Join(parts, e.Name())
		regular := e.Type().IsRegular()
		var err error
		if !regular {
			var info fs.FileInfo
			if info, err = root.Stat(name); err == nil {
				regular = info.Mode().IsRegular()
			}
		}
		switch {
		case err != nil && looksLikeList(e.Name()):
			r.Problem(name, 0, "cannot be read: "+family.Plain(err), false)
		case !regular:
		case IsRead(e.Name()):
			r.file(name, true)
		case looksLikeList(e.Name()):
			aside = append(aside, name)
		}
	}
	if entries, err := root.ReadDir("/etc/apt"); err == nil {
		for _, e := range entries {
			if n := "/etc/apt/" + e.Name(); n != main && e.Type().IsRegular() && looksLikeList(e.Name()) {
				aside = append(aside, n)
			}
		}
	}
	for _, name := range aside {
		r.file(name, false)
	}
	r.keys()
	r.access()
	return r.Reading
}

// IsRead reports whether apt reads a file of that name in sources.list.d.
func IsRead(name string) bool {
	ext := name[strings.LastIndexByte(name, '.')+1:]
	return ext != name && (ext == "list" || ext == "sources") && plainName(name)
}

// plainName reports whether apt takes a file of that name out of a folder at all.
func plainName(name string) bool {
	if name == "" || name[0] == '.' || name[len(name)-1] == '.' {
		return false
	}
	for _, c := range []byte(name) {
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9':
		case c == '_', c == '-', c == ':', c == '.':
		default:
			return false
		}
	}
	return true
}

// looksLikeList reports whether a file that apt does not read was probably one.
func looksLikeList(name string) bool {
	return name[0] != '.' && (strings.Contains(name, ".list") || strings.Contains(name, ".sources"))
}

func (r *reader) file(name string, read bool) {
	text, info, err := r.root.ReadTextInfo(name)
	if err != nil {
		r.Problem(name, 0, "cannot be read: "+family.Plain(err), read)
		return
	}
	var list []source.Source
	var bad []source.Problem
	deb822Style := strings.HasSuffix(name, ".sources") || !read && strings.Contains(path.Base(name), ".sources")
	if deb822Style {
		list, bad = r.stanzas(name, text)
	} else {
		list, bad = r.lines(name, text)
	}
	if !read {
		if len(bad) > 0 {
			return
		}
		for i := range list {
			if list[i].Enabled {
				list[i].Enabled, list[i].DisabledBy = false, source.OffByFilename
			}
		}
		r.Sources = append(r.Sources, list...)
		return
	}
	r.Texts[name], r.Modes[name] = text, info.Mode().Perm()
	if len(bad) > 0 {
		r.Problems = append(r.Problems, bad[0]) // apt stops reading the file there
	}
	for i := range list {
		if s := &list[i]; s.Enabled {
			r.position++
			s.Position = r.position
			r.agree(s)
		}
	}
	r.Sources = append(r.Sources, list...)
}

func (r *reader) lines(name string, text []byte) (list []source.Source, bad []source.Problem) {
	f := aptline.Parse(text)
	for i := range f.Lines {
		l := &f.Lines[i]
		switch l.Kind {
		case aptline.Malformed:
			bad = append(bad, source.Problem{Family: Family, File: name, Line: i + 1, Message: "apt refuses the entry: " + lineTrouble(l.Err), Fatal: true})
			continue
		case aptline.Entry, aptline.Off:
		default:
			continue
		}
		s := source.Source{
			Family: Family, File: name, Line: i + 1, Enabled: l.Kind == aptline.Entry,
			Kinds: kinds([]string{l.Type}), URLs: []string{l.URI.Value}, Suites: []string{l.Suite.Value},
		}
		if !s.Enabled {
			s.DisabledBy = source.OffByComment
		}
		for _, c := range l.Components {
			s.Components = append(s.Components, c.Value)
		}
		options := make(map[string]string, len(l.Options))
		for _, o := range l.Options {
			options[o.Key] = o.Value
		}
		r.finish(&s, options, options["arch"], true)
		list = append(list, s)
	}
	return list, bad
}

// lineTrouble turns apt's name for what is wrong with a line into a sentence.
func lineTrouble(err string) string {
	switch err {
	case "type":
		return "it has a type and nothing else"
	case "URI":
		return "it has no URL, or a quote or bracket in it is not closed"
	case "Suite":
		return "it has no suite"
	case "URI parse":
		return "its URL has no scheme"
	case "Component":
		return "it has no component, and the suite does not end in /"
	case "absolute Suite Component":
		return "a suite that ends in / takes no component"
	}
	return err
}

// optionNames maps the fields of a stanza to the options of a line.
var optionNames = map[string]string{
	"architectures": "arch", "architectures-add": "arch+", "architectures-remove": "arch-",
	"languages": "lang", "languages-add": "lang+", "languages-remove": "lang-",
	"targets": "target", "targets-add": "target+", "targets-remove": "target-",
	"trusted": "trusted", "check-valid-until": "check-valid-until", "valid-until-min": "valid-until-min",
	"valid-until-max": "valid-until-max", "check-date": "check-date", "date-max-future": "date-max-future",
	"signed-by": "signed-by", "pdiffs": "pdiffs", "by-hash": "by-hash",
}

func (r *reader) stanzas(name string, text []byte) (list []source.Source, bad []source.Problem) {
	f := deb822.Parse(text)
	refuse := func(line int, format string, args ...any) {
		bad = append(bad, source.Problem{Family: Family, File: name, Line: line, Message: "apt refuses the stanza: " + fmt.Sprintf(format, args...), Fatal: true})
	}
	for i := range f.Stanzas {
		line := f.Line(f.Stanzas[i].Start)
		if f.Stanzas[i].Field("Types") == nil {
			refuse(line, "it has no Types field")
			continue
		}
		types := f.Words(i, "Types")
		if n := slices.IndexFunc(types, func(t string) bool { return t != "deb" && t != "deb-src" }); n >= 0 {
			refuse(line, "type %q is not known", types[n])
			continue
		}
		if len(types) == 0 {
			continue
		}
		s := source.Source{
			Family: Family, File: name, Line: line, Enabled: true, Kinds: kinds(types),
			URLs: f.Words(i, "URIs"), Suites: f.Words(i, "Suites"), Components: f.Words(i, "Components"),
		}
		if v, _ := f.Get(i, "Enabled"); v != "" && !isTrue(v, true) {
			s.Enabled, s.DisabledBy = false, source.OffByFlag
		}
		if trouble := stanzaTrouble(&s); trouble != "" && s.Enabled {
			refuse(line, "%s", trouble)
			continue
		}
		options := map[string]string{}
		for n := range f.Stanzas[i].Fields {
			fd := &f.Stanzas[i].Fields[n]
			key := fd.Name
			switch lower := strings.ToLower(key); lower {
			case "types", "uris", "suites", "components", "enabled":
				continue
			case "architectures", "signed-by":
				key = optionNames[lower]
			}
			options[key] = f.Value(fd)
		}
		r.finish(&s, options, strings.Join(f.Words(i, "Architectures"), ","), false)
		list = append(list, s)
	}
	if f.Broken >= 0 {
		refuse(f.Line(f.Broken), "no field can be made of the text to the end of the file (is a colon missing?)")
	}
	return list, bad
}

func stanzaTrouble(s *source.Source) string {
	if len(s.URLs) == 0 {
		return "it has no URIs"
	}
	if len(s.Suites) == 0 {
		return "it has no Suites"
	}
	for _, u := range s.URLs {
		if !strings.Contains(u, ":") {
			return fmt.Sprintf("the URL %q has no scheme", family.MaskURL(u))
		}
	}
	for _, suite := range s.Suites {
		flat := strings.HasSuffix(suite, "/")
		if flat && len(s.Components) > 0 {
			return fmt.Sprintf("the suite %q ends in / and takes no Components", suite)
		}
		if !flat && len(s.Components) == 0 {
			return fmt.Sprintf("it has no Components, and the suite %q does not end in /", suite)
		}
	}
	return ""
}

func kinds(types []string) []string {
	var out []string
	for _, t := range types {
		k := "binary"
		if t == "deb-src" {
			k = "source"
		}
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return out
}

// isTrue reads a boolean as apt does: numbers, then words, else the default.
func isTrue(v string, def bool) bool {
	if n, err := strconv.ParseInt(strings.TrimLeft(v, " \t\n\r\v\f"), 0, 64); err == nil && n >= 0 && n <= 1 {
		return n == 1
	}
	switch strings.ToLower(v) {
	case "no", "false", "without", "off", "disable":
		return false
	case "yes", "true", "with", "on", "enable":
		return true
	}
	return def
}

// finish fills what lines and stanzas have in common. options uses the names of
// the one-line style for arch and signed-by, and the file's own for the rest.
// allow-insecure is heeded in one-line entries only.
func (r *reader) finish(s *source.Source, options map[string]string, arch string, oneLine bool) {
	native := r.native
	if arch != "" {
		s.Archs = strings.Split(arch, ",")
	}
	for _, u := range s.URLs {
		s.EffURLs = append(s.EffURLs, family.MaskURL(EffectiveURL(u, native)))
	}
	for i, u := range s.URLs {
		if r.root != nil { // a text that is judged on its own is no file of a host
			r.LoginInURL(r.root, s.File, u)
		}
		s.URLs[i] = family.MaskURL(u)
	}
	for _, suite := range s.Suites {
		s.EffSuites = append(s.EffSuites, strings.ReplaceAll(suite, "$(ARCH)", native))
	}
	s.EffArchs = effectiveArchs(r.archs, s.Archs, option(options, "arch+"), option(options, "arch-"))
	if v, ok := options["signed-by"]; ok {
		s.SignedBy = signedBy(v)
		delete(options, "signed-by")
	}
	delete(options, "arch")
	s.Checks = source.Checks{Packages: source.CheckOff, Metadata: source.CheckRequired}
	switch {
	case isTrue(option(options, "trusted"), false):
		s.Checks.Metadata = source.CheckOff
	case oneLine && isTrue(options["allow-insecure"], r.allows("Insecure")), !oneLine && r.allows("Insecure"):
		s.Checks.Metadata = source.CheckOptional
	}
	for key, value := range options {
		options[key] = family.Option(key, value)
	}
	s.Options = options
	family.Tidy(s)
}

// allows reports whether apt.conf lets repositories be Insecure, Weak or
// DowngradeToInsecure where they do not say otherwise themselves.
func (r *reader) allows(what string) bool {
	return isTrue(r.conf.Get("Acquire::Allow"+what+"Repositories", ""), false)
}

// option returns an option by its one-line name, whichever style wrote it.
func option(options map[string]string, name string) string {
	if v, ok := options[name]; ok {
		return v
	}
	for k, v := range options {
		if optionNames[strings.ToLower(k)] == name {
			return strings.Join(strings.Fields(v), ",")
		}
	}
	return ""
}

func effectiveArchs(host, written []string, add, remove string) []string {
	archs := slices.Clone(host)
	if len(written) > 0 {
		archs = slices.Clone(written)
	}
	for _, a := range strings.Split(add, ",") {
		if a != "" && !slices.Contains(archs, a) {
			archs = append(archs, a)
		}
	}
	drop := strings.Split(remove, ",")
	return slices.DeleteFunc(archs, func(a string) bool { return slices.Contains(drop, a) })
}

const keyBlock = "-----BEGIN PGP PUBLIC KEY BLOCK-----"

// signedBy lists what a Signed-By value names: paths, fingerprints, or the
// primary fingerprints of a key block that stands in the value itself.
func signedBy(value string) []string {
	if strings.Contains(value, keyBlock) {
		var fprs []string
		if keys, err := keyring.Read(embedded(value)); err == nil {
			for _, k := range keys {
				fprs = append(fprs, k.Fingerprint)
			}
		}
		return []string{"embedded:" + strings.Join(fprs, ",")}
	}
	var out []string
	for _, w := range strings.FieldsFunc(value, func(c rune) bool { return c == ',' || strings.ContainsRune(" \t\n\r\v\f", c) }) {
		if w[0] != '/' {
			w = strings.ToUpper(w)
		}
		out = append(out, w)
	}
	return out
}

// embedded undoes deb822's wrapping of a key block: blanks at both ends of each
// line go, and a lone dot stands for an empty line.
func embedded(value string) []byte {
	var out strings.Builder
	for line := range strings.SplitSeq(value, "\n") {
		line = strings.TrimSpace(line)
		if line == "." {
			line = ""
		}
		out.WriteString(line + "\n")
	}
	return []byte(out.String())
}

// agree checks an enabled source against those before it, as apt does: entries
// for one release must not contradict each other.
func (r *reader) agree(s *source.Source) {
	want := release{
		trusted:       tristate(option(s.Options, "trusted")),
		checkValid:    tristate(option(s.Options, "check-valid-until")),
		checkDate:     tristate(option(s.Options, "check-date")),
		validMin:      option(s.Options, "valid-until-min"),
		validMax:      option(s.Options, "valid-until-max"),
		dateMaxFuture: option(s.Options, "date-max-future"),
		signedBy:      strings.Join(s.SignedBy, ","),
		insecure:      isTrue(s.Options["allow-insecure"], r.allows("Insecure")),
		weak:          isTrue(s.Options["allow-weak"], r.allows("Weak")),
		downgrade:     isTrue(s.Options["allow-downgrade-to-insecure"], r.allows("DowngradeToInsecure")),
		set:           true,
	}
	for _, fpr := range s.SignedBy {
		if fpr[0] != '/' && !strings.HasPrefix(fpr, "embedded:") {
			if _, err := keyring.ParseFingerprint(strings.TrimSuffix(fpr, "!")); err != nil || len(strings.TrimSuffix(fpr, "!")) != 40 {
				r.Problem(s.File, s.Line, fmt.Sprintf("apt refuses the entry: Signed-By names %q, which is neither a path nor a fingerprint", fpr), true)
				return
			}
		}
	}
	for _, u := range s.EffURLs {
		for _, suite := range s.EffSuites {
			key := ReleaseKey(u, suite)
			have := r.releases[key]
			if have == nil {
				w := want
				r.releases[key] = &w
				continue
			}
			what := ""
			switch {
			case have.insecure != want.insecure:
				what = "allow-insecure"
			case have.weak != want.weak:
				what = "allow-weak"
			case have.downgrade != want.downgrade:
				what = "allow-downgrade-to-insecure"
			case have.trusted != want.trusted:
				what = "Trusted"
			case have.checkValid != want.checkValid:
				what = "Check-Valid-Until"
			case have.checkDate != want.checkDate:
				what = "Check-Date"
			case have.validMin != want.validMin && have.validMin != "":
				what = "Valid-Until-Min"
			case have.validMax != want.validMax && have.validMax != "":
				what = "Valid-Until-Max"
			case have.dateMaxFuture != want.dateMaxFuture && have.dateMaxFuture != "":
				what = "Date-Max-Future"
			case have.signedBy != want.signedBy && have.signedBy != "":
				what = "Signed-By"
			}
			if what != "" {
				r.Problem("", 0, fmt.Sprintf("apt refuses all sources: %s:%d contradicts an earlier entry for %s %s in %s", s.File, s.Line, u, suite, what), true)
				return
			}
			if have.signedBy == "" {
				have.signedBy = want.signedBy
			}
		}
	}
}

func tristate(v string) string {
	switch {
	case v == "":
		return ""
	case isTrue(v, false):
		return "yes"
	}
	return "no"
}

type keyDir struct{ dir, scope string }

// keyDirs are the places of keys that sources name.
var keyDirs = []keyDir{
	{"/etc/apt/keyrings", source.ScopeNamed},
	{"/usr/share/keyrings", source.ScopeNamed},
}

// keyFile is a file with keys, read but not yet understood.
type keyFile struct{ name, scope string }

func (r *reader) keys() {
	named := map[string]bool{}
	for i := range r.Sources {
		for _, by := range r.Sources[i].SignedBy {
			named[by] = true
		}
	}
	seen := map[string]bool{}
	var files []keyFile
	var texts [][]byte
	add := func(name, scope string, must bool) {
		if seen[name] || name == "" || name == "/dev/null" {
			return
		}
		seen[name] = true
		data, info, err := r.root.ReadTextInfo(name)
		if err != nil {
			if must || !errors.Is(err, fs.ErrNotExist) {
				r.Problem(name, 0, "the key file cannot be read: "+family.Plain(err), false)
			}
			return
		}
		if len(data) == 0 {
			return
		}
		if named[name] || strings.HasPrefix(name, "/etc/apt/keyrings/") && bytes.HasPrefix(data, []byte("-----BEGIN")) {
			family.KeepPublic(r.Texts, r.Modes, info, name, data)
		}
		files, texts = append(files, keyFile{name, scope}), append(texts, data)
	}
	add(r.conf.File("Dir::Etc::trusted"), source.ScopeAny, false)
	dirs := append(slices.Clone(keyDirs), keyDir{r.conf.File("Dir::Etc::trustedparts"), source.ScopeAny})
	for _, d := range dirs {
		if d.dir == "" || d.dir == "/dev/null" {
			continue
		}
		entries, err := r.root.ReadDir(d.dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			ext := path.Ext(e.Name())
			if e.Name()[0] != '.' && (ext == ".gpg" || ext == ".asc" || ext == ".pgp" && d.scope == source.ScopeNamed) && !e.IsDir() {
				add(path.Join(d.dir, e.Name()), d.scope, false)
			}
		}
	}
	var embedded []*source.Source
	for i := range r.Sources {
		s := &r.Sources[i]
		for _, by := range s.SignedBy {
			switch {
			case by[0] == '/':
				add(by, source.ScopeNamed, s.Enabled)
			case strings.HasPrefix(by, "embedded:"):
				embedded = append(embedded, s)
			}
		}
	}
	for i, got := range keyring.ReadAll(texts) {
		if got.Err != nil {
			delete(r.Texts, files[i].name)
			r.Problem(files[i].name, 0, "the key file cannot be understood: "+got.Err.Error(), false)
			continue
		}
		for _, k := range got.Keys {
			k.Where, k.Scope = files[i].name, files[i].scope
			r.Keys = append(r.Keys, k)
		}
	}
	for _, s := range embedded {
		r.embeddedKeys(s)
	}
}

func (r *reader) embeddedKeys(s *source.Source) {
	text, ok := r.Texts[s.File]
	if !ok {
		return
	}
	keys, err := keyring.Read(EmbeddedKeys(text, s.Line))
	if err != nil {
		r.Problem(s.File, s.Line, "the key in Signed-By cannot be understood: "+err.Error(), false)
		return
	}
	for _, k := range keys {
		k.Where, k.Scope = s.File, source.ScopeNamed
		r.Keys = append(r.Keys, k)
	}
}

// EmbeddedKeys returns the armoured key inside the Signed-By of the stanza that
// begins on a line, or nil.
func EmbeddedKeys(text []byte, line int) []byte {
	f := deb822.Parse(text)
	for i := range f.Stanzas {
		if f.Line(f.Stanzas[i].Start) == line {
			v, _ := f.Get(i, "Signed-By")
			return embedded(v)
		}
	}
	return nil
}

// RootedKeys puts root before every path that a Signed-By of the file names, so
// that apt can be asked about a root that is not its own.
func RootedKeys(name string, text []byte, root string) []byte {
	rooted := func(v string) (string, bool) {
		if strings.Contains(v, keyBlock) || !strings.Contains(v, "/") {
			return v, false
		}
		words := strings.FieldsFunc(v, func(c rune) bool { return strings.ContainsRune(", \t\n\r", c) })
		for i, w := range words {
			if w[0] == '/' {
				words[i] = root + w
			}
		}
		return strings.Join(words, ","), true
	}
	local := func(v string) (string, bool) { // URLs of files on the host
		words, changed := strings.Fields(v), false
		for i, w := range words {
			for _, scheme := range []string{"file:", "mirror+file:", "copy:"} {
				if rest, ok := strings.CutPrefix(w, scheme); ok && strings.HasPrefix(rest, "/") {
					words[i], changed = scheme+root+"/"+strings.TrimLeft(rest, "/"), true
				}
			}
		}
		return strings.Join(words, " "), changed
	}
	if strings.HasSuffix(name, ".sources") {
		f := deb822.Parse(text)
		for i := range f.Stanzas {
			if v, ok := f.Get(i, "URIs"); ok {
				if v, changed := local(v); changed {
					f.Set(i, "URIs", v)
				}
			}
			if v, ok := f.Get(i, "Signed-By"); ok {
				if v, changed := rooted(v); changed {
					f.Set(i, "Signed-By", v)
				}
			}
		}
		return f.Bytes()
	}
	f := aptline.Parse(text)
	for i := range f.Lines {
		if v, ok := f.Lines[i].Option("signed-by"); ok {
			if v, changed := rooted(v); changed {
				f.SetOption(i, "signed-by", v)
			}
		}
	}
	return f.Bytes()
}
