// Package zypp says what zypper makes of zypp.conf and its .repo files.
//
// The rules are those of libzypp 17.25 and zypper 1.14 as Debian packages them,
// seen by running zypper; each is kept as a test that asks it. zypper(8) and the
// comments of zypp.conf are the manual.
package zypp

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// Family is the name of this family in surveys, sheets and policies.
const Family = source.FamilyZypp

// Config is libzypp's own configuration.
const Config = "/etc/zypp/zypp.conf"

// WatchDirs are the folders whose changes can change what Read returns.
var WatchDirs = append([]string{
	"/etc/zypp/repos.d",
	"/etc/zypp/services.d",
	"/etc/zypp/vars.d",
	"/etc/zypp/credentials.d",
	"/etc/products.d",
}, decidingDirs...)

const (
	defaultPriority = 99
	baseProduct     = "/etc/products.d/baseproduct"
	plugins         = "/usr/lib/zypp/plugins/services"
)

// multi are the keys of a .repo file whose values may go on over lines.
var multi = []string{"baseurl", "gpgkey", "mirrorlist", "metalink"}

// Parse reads a .repo file as zypper does.
func Parse(text []byte) *ini.File { return ini.ParseZypp(text, multi...) }

type reader struct {
	family.Reading
	root     *rootfs.FS
	vars     map[string]string
	check    *bool // of [main]; libzypp checks where nothing is said
	metadata *bool
	packages *bool
	dirs     places
	services map[string]bool
	lockFile string
	levelled bool // the processor's level is part of $arch
	newer    bool // libzypp is one that reads zypp.conf.d
	drops    bool // files in zypp.conf.d are taken into account
	seen     map[string]bool
	said     map[string][]source.Problem // of definitions that count, by alias
	later    []source.Source             // definitions that are not in force
}

// places are the folders that zypp.conf can move.
type places struct{ repos, services, vars, credentials, vendors string }

// Present reports whether zypper is, or is meant to be, on the host.
func Present(root *rootfs.FS) bool {
	for _, name := range []string{Config, "/etc/zypp/repos.d", "/etc/zypp/services.d"} {
		if _, err := root.Stat(name); err == nil {
			return true
		}
	}
	return false
}

// Read reads zypper's sources off a root.
func Read(root *rootfs.FS, host family.Host) family.Reading {
	r := &reader{Reading: family.Begin(Family), root: root, vars: map[string]string{},
		services: map[string]bool{}, seen: map[string]bool{}, said: map[string][]source.Problem{}}
	arch, asked := r.configure(host.Arch)
	if !asked && r.levelled && arch == "x86_64" && host.Level > 1 {
		arch = fmt.Sprintf("%s_v%d", arch, host.Level)
	}
	r.variables(host, arch)
	r.readServices()
	r.readRepos()
	r.KeepSystem(root, "/usr/lib/zypp/plugins", 1)
	r.Decides(root, deciding(r.dirs.vendors, r.drops))
	r.DecideVariables("\n")
	slices.SortStableFunc(r.Sources, func(a, b source.Source) int { return strings.Compare(a.ID, b.ID) })
	position := 0
	for i := range r.Sources {
		if r.Sources[i].Enabled {
			position++
			r.Sources[i].Position = position
		}
	}
	r.Sources = append(r.Sources, r.later...)
	r.catalogue()
	r.locks(r.lockFile)
	return r.Reading
}

func (r *reader) refuse(file string, line int, format string, args ...any) {
	r.Problem(file, line, "zypper refuses to work: "+fmt.Sprintf(format, args...), true)
}

// readServices learns which services are defined: repositories of others are
// thrown away.
func (r *reader) readServices() {
	entries, err := r.root.ReadDirAsStored(r.dirs.services)
	if err != nil {
		entries = nil
	}
	for _, e := range entries {
		name := path.Join(r.dirs.services, e.Name())
		if e.Name()[0] == '.' || !e.Type().IsRegular() && !r.regular(name) {
			continue
		}
		text, info, err := r.root.ReadTextInfo(name)
		if err != nil {
			r.refuse(name, 0, "the file cannot be read: %s", family.Plain(err))
			continue
		}
		r.Keep(info, name, text)
		f := ini.ParseZypp(text)
		if f.Err != nil {
			r.refuse(name, f.Err.Line, "%s", f.Err.Message)
			continue
		}
		for i := range f.Sections {
			s := &f.Sections[i]
			if !s.Headless { // what stands before the first has no name, and is read all the same
				r.services[f.Name(s)] = true
			}
			if u, _ := f.Get(s, "url"); u != "" {
				if _, err := parse(u); err != nil {
					r.refuse(name, int(s.Line), "the URL of the service %q: %s", f.Name(s), err)
				}
				r.LoginInURL(r.root, name, u)
			}
			if !s.Headless {
				r.service(f, s, name)
			}
			if t, said := f.Get(s, "type"); said && !slices.Contains(serviceTypes, strings.ToLower(t)) {
				r.refuse(name, int(s.Line), "the service %q has the unknown type %q", f.Name(s), t)
			}
		}
	}
	if entries, err := r.root.ReadDir(plugins); err == nil {
		for _, e := range entries {
			r.services[e.Name()] = true
		}
	}
}

func (r *reader) regular(name string) bool {
	info, err := r.root.Stat(name)
	return err == nil && info.Mode().IsRegular()
}

func (r *reader) readRepos() {
	entries, err := r.root.ReadDirAsStored(r.dirs.repos)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			r.Problem(r.dirs.repos, 0, "cannot be listed: "+family.Plain(err), false)
		}
		return
	}
	for _, e := range entries {
		n, name := e.Name(), path.Join(r.dirs.repos, e.Name())
		switch {
		case n[0] == '.' || !e.Type().IsRegular() && !r.regular(name):
		case strings.HasSuffix(n, ".repo"):
			r.file(name, "")
		case strings.Contains(n, ".repo"):
			r.file(name, source.OffByFilename)
		}
	}
}

func (s *section) last(key string) (string, bool) {
	v := s.values[key]
	if len(v) == 0 {
		return "", false
	}
	return v[len(v)-1], true
}

// urls returns the words of a key that holds URLs.
func (s *section) urls(key string) (out []string) {
	for _, line := range s.values[key] {
		out = append(out, words(line)...)
	}
	return out
}

func (r *reader) file(name, off string) {
	text, info, err := r.root.ReadTextInfo(name)
	if err != nil {
		if off == "" {
			r.refuse(name, 0, "the file cannot be read: %s", family.Plain(err))
		}
		return
	}
	f := Parse(text)
	if off != "" {
		if f.Err == nil {
			r.asideFile(f, name, off)
		}
		return
	}
	r.Keep(info, name, text)
	if f.Err != nil {
		r.refuse(name, f.Err.Line, "%s", f.Err.Message)
	}
	for _, s := range r.merge(f, name) {
		if r.Full(name, s.line) {
			return
		}
		r.add(name, s)
	}
	for _, c := range f.Commented() {
		s := newSection(c.Name, c.Line)
		for _, e := range c.Entries {
			s.set(e[0], e[1], c.Line)
		}
		if s.located() {
			r.drop(name, s, source.OffByComment)
		}
	}
}

func (r *reader) asideFile(f *ini.File, name, off string) {
	problems := len(r.Problems)
	for _, s := range r.merge(f, name) {
		if s.located() {
			r.drop(name, s, off)
		}
	}
	r.Problems = r.Problems[:problems]
}

// readable refuses URLs of a section that zypper cannot read.
func (r *reader) readable(file string, s *section) {
	for _, key := range multi {
		list := s.urls(key)
		for i, u := range list {
			if _, err := parse(u); err != nil {
				shown := family.MaskURL(u)
				if i > 0 && family.SaysSecret(list[i-1]) {
					shown = family.Hidden
				}
				r.refuse(file, s.lines[key], "the %s of %q, %s: %s", key, s.alias, shown, err)
			}
			r.LoginInURL(r.root, file, u)
		}
	}
}

func (r *reader) add(file string, s *section) {
	r.readable(file, s)
	r.mirrored(file, s)
	service, _ := s.last("service")
	switch {
	case service != "" && !r.services[service]:
		r.seen[s.alias] = true
		r.withdraw(s.alias)
		r.Problem(file, s.line, fmt.Sprintf("zypper throws the repository %q away: there is no service %q", s.alias, service), false)
		r.drop(file, s, source.OffAsInvalid)
	case r.seen[s.alias]:
		r.Problem(file, s.line, fmt.Sprintf("zypper skips the repository %q: another file defines it", s.alias), false)
		r.drop(file, s, source.OffByDuplicate)
	default:
		r.seen[s.alias] = true
		problems := len(r.Problems)
		src := r.build(file, s)
		r.said[s.alias] = slices.Clone(r.Problems[problems:])
		r.Sources = append(r.Sources, src)
		r.credentials(&src, s)
		if strings.Contains(strings.Join(src.URLs, " ")+src.Mirrorlist, "releasever") && r.vars["releasever"] == "" {
			r.Problem(file, s.line, fmt.Sprintf("%q uses $releasever, which is empty: %s is missing", s.alias, baseProduct), false)
		}
	}
}

// withdraw takes a repository back that was read before: zypper throws away whatever has
// the alias of one whose service is not there, and takes it out of its file.
func (r *reader) withdraw(alias string) {
	for i := range r.Sources {
		if s := r.Sources[i]; s.ID == alias {
			r.Sources = slices.Delete(r.Sources, i, i+1)
			s.Enabled, s.DisabledBy = false, source.OffAsInvalid
			r.later = append(r.later, s)
			r.Problems = slices.DeleteFunc(r.Problems, func(p source.Problem) bool { return slices.Contains(r.said[alias], p) })
			return
		}
	}
}

// mirrored refuses the list of mirrors of a section that has a URL of its own as well, with its variables put in:
// zypper looks at it as it reads, whatever becomes of the section.
func (r *reader) mirrored(file string, s *section) {
	if len(s.urls("baseurl")) == 0 {
		return
	}
	for _, key := range []string{"metalink", "mirrorlist"} {
		if list := s.urls(key); len(list) > 0 {
			r.effective(file, s, key, list[0], "")
			return
		}
	}
}

func (r *reader) build(file string, s *section) source.Source {
	src := source.Source{
		Family:  Family,
		File:    file,
		Line:    s.line,
		ID:      s.alias,
		Enabled: true,
		Kinds:   []string{"binary"},
		Options: map[string]string{},
	}
	priority := int64(0)
	var check, metadata, packages *bool
	for _, key := range s.keys {
		value, _ := s.last(key)
		switch key {
		case "name":
			src.Name, _ = r.PutIn(value, r.vars) // they decide nothing there
			continue
		case "enabled":
			src.Enabled = saysYes(value)
			continue
		case "priority":
			priority = int64(uint32(source.Number(value)))
			continue
		case "baseurl", "gpgkey", "mirrorlist", "metalink":
			continue
		case "gpgcheck":
			check = tristate(value)
		case "repo_gpgcheck":
			on := saysYes(value)
			metadata = &on
		case "pkg_gpgcheck":
			on := saysYes(value)
			packages = &on
		}
		src.Options[key] = family.Option(key, value)
	}
	if src.Name == "" {
		src.Name = s.alias
	}
	if !src.Enabled {
		src.DisabledBy = source.OffByFlag
	}
	if priority == 0 {
		priority = defaultPriority
	}
	p := int(priority)
	src.Priority = &p
	src.Checks = r.checks(check, metadata, packages)
	r.locate(&src, file, s)
	family.Tidy(&src)
	return src
}

// locate fills in where a repository comes from and which keys it names.
func (r *reader) locate(src *source.Source, file string, s *section) {
	proxy, _ := s.last("proxy")
	seen := map[string]bool{}
	list := s.urls("baseurl")
	for i, u := range list {
		src.URLs = append(src.URLs, family.MaskURL(u))
		if i > 0 && family.SaysSecret(list[i-1]) {
			src.EffURLs = append(src.EffURLs, family.Hidden)
			continue
		}
		if a, err := parse(u); err == nil {
			if seen[a.identity()] {
				continue
			}
			seen[a.identity()] = true
		}
		src.EffURLs = append(src.EffURLs, r.effective(file, s, "baseurl", u, proxy))
	}
	for n, u := range s.urls("gpgkey") {
		problems := len(r.Problems)
		src.SignedBy = append(src.SignedBy, r.effective(file, s, "gpgkey", u, ""))
		for i := problems; n > 0 && i < len(r.Problems); i++ {
			r.Problems[i].Fatal = false // only the first is looked at before it is needed
		}
	}
	problems := len(r.Problems)
	trim := func() {
		if len(list) > 0 { // mirrored has said it
			r.Problems = r.Problems[:problems]
		}
	}
	metalink := s.urls("metalink")
	if len(metalink) > 0 {
		src.Metalink = r.effective(file, s, "metalink", metalink[0], "")
		trim()
	}
	if other := s.urls("mirrorlist"); len(other) > 0 && (len(metalink) == 0 || r.newer) { // an older libzypp passes one of them over
		src.Mirrorlist = r.effective(file, s, "mirrorlist", other[0], "")
		if len(metalink) == 0 {
			trim()
		}
	}
}

func (r *reader) effective(file string, s *section, key, written, proxy string) string {
	u, err := parse(written)
	if err != nil {
		return family.MaskURL(written) // said before
	}
	if proxy != "" {
		u.through(proxy)
	}
	out, err := u.effective(r.expand)
	if err != nil {
		r.refuse(file, s.lines[key], "the %s of %q with its variables put in: %s", key, s.alias, err)
	}
	return family.MaskURL(out.print(true, true))
}

// checks says what zypper enforces: gpgcheck=1 counts for both finer checks, and
// those of zypp.conf count only where the repository says nothing of gpgcheck.
func (r *reader) checks(check, metadata, packages *bool) source.Checks {
	all := check
	if check == nil {
		all = r.check
		if metadata == nil {
			metadata = r.metadata
		}
		if packages == nil {
			packages = r.packages
		}
	}
	word := func(fine *bool) string {
		if all == nil || *all || fine != nil && *fine {
			return source.CheckRequired
		}
		return source.CheckOff
	}
	return source.Checks{Packages: word(packages), Metadata: word(metadata)}
}
