// Package deb says what apt makes of its source lists, and how to write them.
//
// The rules are those of apt 2.6 as Debian packages it, seen by running it; each
// is kept as a test that asks the real apt-get. sources.list(5) is the manual.
package deb

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/aptconf"
)

// Family is the name of this family in surveys, sheets and policies.
const Family = source.FamilyDeb

// Where apt looks.
const (
	MainList = "/etc/apt/sources.list"
	PartsDir = "/etc/apt/sources.list.d"
)

// WatchDirs are the folders whose changes can change what Read returns.
var WatchDirs = append([]string{
	"/etc/apt",
	PartsDir,
	"/etc/apt/preferences.d",
	"/etc/apt/apt.conf.d",
	"/etc/apt/auth.conf.d",
	"/etc/apt/keyrings",
	"/etc/apt/trusted.gpg.d",
	"/usr/share/keyrings",
}, decidingDirs...)

type reader struct {
	family.Reading
	root     *rootfs.FS
	conf     aptconf.Tree
	archs    []string // that a source without a word about it is for
	native   string
	releases map[string]*release
	position int

	confFiles int  // that were read
	confStop  bool // apt reads no further
	pairs     int  // of URL and suite that were compared

	way       keyWay              // how apt takes keys
	early     map[string]textFile // files with keys that were read before anything else
	earlyKeys func()              // waits until their keys are known
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
	r := &reader{Reading: family.Begin(Family), root: root, archs: architectures, releases: map[string]*release{}, way: wayOf(root)}
	r.configure()
	r.keysAhead()
	r.Decides(root, deciding)
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
	r.access()
	r.pins()
	r.keys()
	return r.Reading
}

// Status is dpkg's database of packages.
const Status = "/var/lib/dpkg/status"

// Foreign is dpkg's list of the architectures that it takes beside its own.
const Foreign = "/var/lib/dpkg/arch"

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
		if r.Full(name, list[i].Line) {
			return
		}
		if s := &list[i]; s.Enabled {
			r.position++
			s.Position = r.position
			r.agree(s, !deb822Style)
		}
		r.Sources = append(r.Sources, list[i])
	}
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
		s.EffURLs = append(s.EffURLs, family.MaskEffective(EffectiveURL(u, native), u))
	}
	for i, u := range s.URLs {
		if r.root != nil { // a text that is judged on its own is no file of a host
			r.LoginInURL(r.root, s.File, u)
		}
		s.URLs[i] = family.MaskURL(u)
	}
	for _, suite := range s.Suites {
		if !oneLine || strings.HasSuffix(suite, "/") { // the name of a release is taken as it is in a line
			suite = withArch(suite, native)
		}
		s.EffSuites = append(s.EffSuites, suite)
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
	case oneLine && isTrue(options["allow-insecure"], false), r.allows("Insecure"): // the permission for all cannot be taken back
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
	if remove == "" {
		return archs
	}
	drop := strings.Split(remove, ",")
	return slices.DeleteFunc(archs, func(a string) bool { return slices.Contains(drop, a) })
}
