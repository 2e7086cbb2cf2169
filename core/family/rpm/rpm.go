// Package rpm says what dnf makes of dnf.conf and its .repo files.
//
// The rules are those of dnf 4.14 as Debian packages it, seen by running it;
// each is kept as a test that asks the real python3-dnf. dnf.conf(5) is the
// manual.
package rpm

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Family is the name of this family in surveys, sheets and policies.
const Family = source.FamilyRpm

// Config is dnf's own configuration; it may define repositories too.
const Config = "/etc/dnf/dnf.conf"

// OldConfig is that of hosts on which yum is all there is.
const OldConfig = "/etc/yum.conf"

// repoDirs and varDirs are where dnf looks unless dnf.conf says otherwise. Later
// folders of variables win.
var (
	repoDirs = []string{"/etc/yum.repos.d", "/etc/yum/repos.d", "/etc/distro.repos.d"}
	varDirs  = []string{"/etc/yum/vars", "/etc/dnf/vars"}
)

// WatchDirs are the folders whose changes can change what Read returns.
var WatchDirs = slices.Concat([]string{
	"/etc", "/etc/dnf", "/etc/dnf/plugins", "/etc/pki/rpm-gpg", "/var/lib/rpm/pubkeys", "/usr/lib/sysimage/rpm/pubkeys",
}, repoDirs, varDirs, decidingDirs)

const (
	defaultPriority = 99
	defaultCost     = 1000
)

type reader struct {
	family.Reading
	five        bool      // it is dnf 5 that reads
	version     string    // of dnf 5
	checkPolicy string    // what [main] says of how gpgcheck is meant
	laidOver    []section // over those of repositories, in their order
	root        *rootfs.FS
	vars        map[string]string
	main        defaults
	seen        map[string]bool
	costs       []int // of Sources, one each
	order       []int // indexes of the enabled Sources
}

// defaults are the values of [main] that repositories inherit.
type defaults struct {
	enabled, gpgcheck, repoGPGCheck bool
	clientCert, username            string
	arch                            string // by which dnf 4 goes in the machine's place
	password                        bool   // one is set
	reposDir, varsDir               []string
}

// Present reports whether dnf is, or is meant to be, on the host.
func Present(root *rootfs.FS) bool {
	for _, name := range append([]string{Config}, repoDirs...) {
		if _, err := root.Stat(name); err == nil {
			return true
		}
	}
	return false
}

// pluginCode notes the code of plugins that dnf and rpm run of themselves.
func (r *reader) pluginCode(root *rootfs.FS) {
	KeepPlugins(&r.Reading, root)
	for _, lib := range libs {
		for _, dir := range []string{"/libdnf/plugins", "/libdnf5/plugins", "/dnf5/plugins"} {
			r.KeepSystem(root, lib+dir, 0, ".so")
		}
		entries, err := root.ReadDir(lib)
		if err != nil {
			continue
		}
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), "python3") {
				r.KeepSystem(root, path.Join(lib, e.Name(), "site-packages/dnf-plugins"), 0, ".py")
			}
		}
	}
	for _, s := range r.Settings {
		if s.Name == "main.pluginpath" {
			for _, dir := range strings.FieldsFunc(s.Value, func(c rune) bool { return c == ',' || c == ' ' }) {
				r.KeepSystem(root, path.Clean("/"+dir), 0, ".py")
			}
		}
	}
}

// Read reads dnf's sources off a root.
func Read(root *rootfs.FS, host family.Host) family.Reading {
	r := &reader{
		Reading: family.Begin(Family), root: root, seen: map[string]bool{},
		main: defaults{enabled: true, reposDir: repoDirs, varsDir: varDirs}, five: isFive(root), version: host.DNF5,
	}
	if r.five {
		r.main.reposDir, r.main.varsDir = repoDirs5, varDirs5
	}
	conf := r.configure()
	plugins := []string{"/etc/dnf/plugins"}
	for _, s := range r.Settings {
		if s.Name == "main.pluginconfpath" {
			plugins = strings.FieldsFunc(s.Value, func(c rune) bool { return c == ',' || c == ' ' })
		}
	}
	for _, dir := range plugins {
		r.KeepPrograms(root, path.Clean("/"+dir), ".conf")
	}
	r.pluginCode(root)
	r.Decides(root, r.decides())
	r.variables(host)
	if r.five {
		r.releases()
		r.overrides()
	}
	if conf != nil {
		r.sections(conf, r.config())
	}
	if r.five {
		r.locks5()
	} else {
		r.locks()
	}
	files, aside := r.files()
	for _, name := range files {
		r.file(name)
	}
	for _, name := range aside {
		r.aside(name)
	}
	r.DecideVariables("\r\n")
	sort.SliceStable(r.order, func(i, j int) bool {
		a, b := r.order[i], r.order[j]
		if p, q := *r.Sources[a].Priority, *r.Sources[b].Priority; p != q {
			return p < q
		}
		return r.costs[a] < r.costs[b]
	})
	for n, i := range r.order {
		r.Sources[i].Position = n + 1
	}
	return r.Reading
}

// files lists the files that dnf reads, in its order, and those that it leaves
// aside though they look like it.
func (r *reader) files() (read, aside []string) {
	if r.five {
		for _, dir := range r.main.reposDir { // none hides one of another folder
			read = append(read, r.visible([]string{dir}, ".repo")...)
		}
		return read, nil
	}
	for _, dir := range r.main.reposDir {
		dir = strings.TrimRight(dir, "/")
		read = append(read, r.root.Glob(dir+"/*.repo")...)
		entries, err := r.root.ReadDir("/" + dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			if n := e.Name(); n[0] != '.' && strings.Contains(n, ".repo") && !strings.HasSuffix(n, ".repo") {
				aside = append(aside, path.Join("/", dir, n))
			}
		}
	}
	slices.SortStableFunc(read, func(a, b string) int {
		return slices.Compare(strings.Split(strings.TrimSuffix(a, ".repo"), "/"), strings.Split(strings.TrimSuffix(b, ".repo"), "/"))
	})
	return read, aside
}

func (r *reader) file(name string) {
	text, info, err := r.root.ReadTextInfo(name)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			r.Problem(name, 0, "dnf skips the file, it cannot be read: "+family.Plain(err), false)
		}
		return
	}
	r.Keep(info, name, text)
	f := r.parse(text)
	if f.Err != nil && r.five {
		r.Problem(name, f.Err.Line, "dnf refuses to work: "+f.Err.Message, true)
		return
	}
	if f.Err != nil {
		r.Problem(name, f.Err.Line, "dnf skips the file: "+f.Err.Message, false)
		for _, s := range r.joined(f) {
			if s.id != "main" {
				r.drop(name, s, source.OffAsInvalid)
			}
		}
		return
	}
	r.sections(f, name)
	for _, off := range f.Commented() {
		s := section{id: off.Name, line: off.Line, values: map[string]entry{}}
		for _, e := range off.Entries {
			s.set(e[0], entry{e[1], off.Line})
		}
		if s.located() {
			r.drop(name, s, source.OffByComment)
		}
	}
}

// aside reads a file that dnf leaves aside.
func (r *reader) aside(name string) {
	info, err := r.root.Stat(name)
	if err != nil || !info.Mode().IsRegular() {
		return
	}
	text, err := r.root.ReadText(name)
	if err != nil {
		return
	}
	f := r.parse(text)
	if f.Err != nil {
		return
	}
	for _, s := range r.joined(f) {
		if s.id != "main" && s.located() {
			r.drop(name, s, source.OffByFilename)
		}
	}
}

func (r *reader) add(file string, s section) {
	if !utf8.ValidString(s.id) {
		r.Problem(file, s.line, "dnf refuses to work: a section's name is not UTF-8", true)
		return
	}
	id := r.substitute(s.id)
	if i := strings.IndexFunc(id, func(c rune) bool { return !idChar(c) }); i >= 0 && r.five {
		r.Problem(file, s.line, fmt.Sprintf("dnf refuses to work: the id %q may hold letters, digits and -_.: only", id), true)
		return
	} else if i >= 0 {
		r.Problem(file, s.line, fmt.Sprintf("dnf skips the repository %q: its id may hold letters, digits and -_.: only", id), false)
		r.drop(file, s, source.OffAsInvalid)
		return
	}
	s = r.overridden(s)
	src, cost := r.build(file, s)
	switch {
	case r.seen[id]:
		r.Problem(file, s.line, fmt.Sprintf("dnf skips the repository %q: another definition of that id was read before", id), false)
		src.Enabled, src.DisabledBy = false, source.OffByDuplicate
	default:
		r.seen[id] = true
		if t := r.substitute(r.plain(s.values["type"].text)); !r.five && !slices.Contains(types, t) {
			r.Problem(file, s.values["type"].line, fmt.Sprintf("dnf refuses to work: repository %q has the unknown type %q", id, t), true)
		}
		if src.Enabled {
			r.order = append(r.order, len(r.Sources))
		}
	}
	r.append(src, cost)
	r.access(file, &src, s)
	if src.DisabledBy != source.OffByDuplicate {
		for _, key := range s.keys {
			r.holds(key, r.plain(r.valueOf(key, s.values[key].text)), id, file, s.values[key].line)
		}
	}
}

// build makes a Source of a section.
func (r *reader) build(file string, s section) (source.Source, int) {
	id := r.substitute(s.id)
	src := source.Source{
		Family:  Family,
		File:    file,
		Line:    s.line,
		ID:      id,
		Name:    id,
		Kinds:   []string{"binary"},
		Options: map[string]string{},
	}
	enabled, packages, metadata := r.main.enabled, r.main.gpgcheck, r.main.repoGPGCheck
	priority, cost := defaultPriority, defaultCost
	for _, key := range s.keys {
		e := s.values[key]
		value := r.plain(r.valueOf(key, e.text))
		if known(repoOptions, key) && !utf8.ValidString(value) {
			r.Problem(file, e.line, fmt.Sprintf("dnf refuses to work: the value of %s is not UTF-8", key), true)
			continue
		}
		switch key {
		case "name":
			src.Name = value
			continue
		case "enabled":
			r.boolean(&enabled, file, e.line, key, value)
			continue
		case "baseurl":
			src.URLs = masked(r.list(r.plain(e.text)))
			for _, u := range r.list(value) {
				if strings.HasPrefix(u, "/") && !r.five {
					u = "file://" + u
				}
				src.EffURLs = append(src.EffURLs, family.MaskURL(u))
			}
			continue
		case "mirrorlist":
			src.Mirrorlist = family.MaskURL(value)
			continue
		case "metalink":
			src.Metalink = family.MaskURL(value)
			continue
		case "gpgkey":
			src.SignedBy = masked(r.list(value))
			continue
		case "priority":
			r.number(&priority, file, e.line, key, value)
			continue
		case "cost":
			r.number(&cost, file, e.line, key, value)
		case "gpgcheck":
			r.boolean(&packages, file, e.line, key, value)
		case "repo_gpgcheck":
			r.boolean(&metadata, file, e.line, key, value)
		}
		r.judge(file, e.line, key, value)
		src.Options[key] = family.Option(key, value)
	}
	src.Enabled = enabled
	if !enabled {
		src.DisabledBy = source.OffByFlag
	}
	src.Checks = source.Checks{Packages: check(packages), Metadata: check(metadata)}
	src.Priority = &priority
	family.Tidy(&src)
	return src, cost
}

func masked(list []string) []string {
	for i := range list {
		list[i] = family.MaskURL(list[i])
	}
	return list
}

func check(on bool) string {
	if on {
		return source.CheckRequired
	}
	return source.CheckOff
}

// access lists what a repository logs in with.
func (r *reader) access(file string, src *source.Source, s section) {
	value := func(key, inherited string) string {
		if e, ok := s.values[key]; ok {
			return r.plain(r.valueOf(key, e.text))
		}
		return inherited
	}
	if authority := value("sslcacert", ""); authority != "" {
		r.Vouch = append(r.Vouch, authority)
		name := path.Clean("/" + authority) // a path, below / where timers start dnf
		if text, info, err := r.root.ReadTextInfo(name); err == nil {
			family.KeepCertificates(r.Texts, r.Modes, info, name, text)
		}
	}
	if authority := value("proxy_sslcacert", ""); authority != "" {
		r.Vouch = append(r.Vouch, authority)
	}
	if cert := value("sslclientcert", r.main.clientCert); cert != "" {
		r.Certificate(r.root, cert, src.ID, file, src.Line)
	}
	if user := value("username", r.main.username); user != "" {
		r.Login(r.root, file, src.ID, user)
	}
	for _, key := range []string{"baseurl", "mirrorlist", "metalink"} {
		if e, ok := s.values[key]; ok {
			for _, u := range r.list(r.substitute(e.text)) {
				r.LoginInURL(r.root, file, u)
			}
		}
	}
}
