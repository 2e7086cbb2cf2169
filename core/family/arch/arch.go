// Package arch says what pacman makes of pacman.conf.
//
// The rules are those of pacman 6.0 as Debian packages it, seen by running it;
// each is kept as a test that asks the real pacman-conf and pacman.
// pacman.conf(5) is the manual.
package arch

import (
	"bytes"
	"cmp"
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
const Family = source.FamilyArch

// Config is the file from which pacman reads all others.
const Config = "/etc/pacman.conf"

// WatchDirs are the folders whose changes can change what Read returns.
var WatchDirs = []string{"/etc", "/etc/pacman.d", "/etc/pacman.d/hooks", "/etc/pacman.d/gnupg", "/etc/gnupg"}

// maxIncludes is how deep pacman lets files include others.
const maxIncludes = 10

// maxIncluded bounds how many files are included, each time.
const maxIncluded = 2_000

// Places are folders that pacman.conf can move.
type Places struct{ DB, GPG string }

type reader struct {
	family.Reading
	Places
	root     *rootfs.FS
	host     family.Host
	repos    []*repo
	level    level             // of [options]
	unsaid   level             // where nothing is said
	archs    []string          // as Architecture names them
	named    bool              // a header was seen
	said     map[string][]said // directives of [options] that matter
	included int               // files
	rootDir  string            // where packages are installed, and the database stands
	at       *repo             // nil while in [options]
	stop     bool              // pacman reads no further
}

// repo is one section as pacman collects it.
type repo struct {
	source  source.Source
	servers []string // as written, secrets and all
	level   level
	include []string
}

// Present reports whether pacman is, or is meant to be, on the host.
func Present(root *rootfs.FS) bool {
	for _, name := range []string{Config, "/var/lib/pacman/local"} {
		if _, err := root.Stat(name); err == nil {
			return true
		}
	}
	return false
}

// Read reads pacman's sources off a root, and where it keeps its database and keys.
func Read(root *rootfs.FS, host family.Host) family.Reading {
	r := &reader{Reading: family.Begin(Family), root: root, host: host, level: levelOf(root)}
	r.unsaid = r.level
	r.file(Config, "", 0, 0)
	for _, a := range r.archs {
		if a == "auto" {
			a = host.Arch
		}
		if a != "" { // of a root alone it may not be known what the machine is: its variable stays
			r.Architectures = append(r.Architectures, a)
		}
	}
	r.settle()
	r.settings()
	hooks := []string{"/etc/pacman.d/hooks"}
	for _, s := range r.said["HookDir"] {
		hooks = append(hooks, path.Clean("/"+s.value))
	}
	slices.Sort(hooks)
	for _, dir := range slices.Compact(hooks) {
		r.KeepPrograms(root, dir, ".hook")
	}
	r.KeepSystem(root, "/usr/share/libalpm/hooks", 0, ".hook")
	if r.DB == "" {
		r.DB = r.rootDir + "/var/lib/pacman"
	}
	if r.GPG == "" {
		r.GPG = "/etc/pacman.d/gnupg"
	}
	r.DB, r.GPG = path.Clean("/"+r.DB), path.Clean("/"+r.GPG)
	command := ""
	if list := r.said["XferCommand"]; len(list) > 0 {
		command = list[len(list)-1].value
	}
	r.Decides(root, deciding(r.GPG, command))
	r.Database, r.Keyring = r.DB, r.GPG
	return r.Reading
}

func (r *reader) refuse(file string, line int32, format string, args ...any) {
	r.stop = true
	r.Problem(file, int(line), "pacman refuses to work: "+fmt.Sprintf(format, args...), true)
}

// configures reports whether a file that is included says anything to pacman: it may be any file on the host, and one
// that says nothing stays there.
func configures(text []byte) bool {
	said := false
	for line := range bytes.Lines(text) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		if said = true; bytes.ContainsAny(line, "[=#") || bytes.IndexByte(line, ':') < 0 {
			return true
		}
	}
	return !said
}

// file reads one file; from and line say where it is included.
func (r *reader) file(name, from string, line int32, depth int) {
	info, err := r.root.Stat("/" + name)
	if name == "" {
		err = fs.ErrNotExist
	}
	if err == nil && info.IsDir() || name != "" && path.Clean("/"+name) == "/dev/null" {
		return // pacman opens it and finds no line in it; what is below /dev need not stand on another root
	}
	var text []byte
	if err == nil {
		text, info, err = r.root.ReadTextInfo("/" + name)
	}
	if err != nil {
		if from == "" {
			from = name
		}
		r.refuse(from, line, "%s cannot be read: %s", name, family.Plain(err))
		return
	}
	name = path.Clean("/" + name)
	if depth > 0 && !configures(text) {
		return
	}
	r.Keep(info, name, text)
	f := ini.ParsePacman(text)
	for i := range f.Sections {
		s := &f.Sections[i]
		if !s.Headless {
			r.open(f.Name(s), name, int(s.Line))
		}
		entries := f.Entries(s)
		for j := range entries {
			if r.entry(f, &entries[j], name, depth); r.stop {
				return
			}
		}
	}
	for _, off := range f.Commented() {
		r.commented(&off, name)
	}
}

func (r *reader) open(id, file string, line int) {
	r.named = true
	if id == "options" {
		r.at = nil
		return
	}
	r.at = &repo{
		source: source.Source{
			Family:  Family,
			File:    file,
			Line:    line,
			ID:      id,
			Name:    id,
			Enabled: true,
			Kinds:   []string{"binary"},
			Options: map[string]string{},
		},
	}
	r.repos = append(r.repos, r.at)
}

func (r *reader) entry(f *ini.File, e *ini.Entry, file string, depth int) {
	key, value := f.Key(e), f.Value(e)
	switch {
	case key == "Include":
		r.include(e, value, file, depth)
	case !r.named:
		r.refuse(file, e.Line, "%q stands before the first section", key)
	case r.at == nil:
		r.option(key, value, e, file)
	default:
		r.setting(key, value, e, file)
	}
}

func (r *reader) include(e *ini.Entry, value, file string, depth int) {
	switch {
	case e.Bare():
		r.refuse(file, e.Line, "Include needs a value")
		return
	case r.included >= maxIncluded:
		r.refuse(file, e.Line, "files include more than %d others, and those from here on are not read", maxIncluded)
		return
	case depth >= maxIncludes:
		r.refuse(file, e.Line, "files include each other more than %d deep", maxIncludes)
		return
	}
	if r.at != nil {
		r.at.include = append(r.at.include, value)
	}
	names := r.root.Glob(value)
	if len(names) == 0 {
		names = []string{value}
	}
	for _, name := range names {
		r.included++
		if r.file(name, file, e.Line, depth+1); r.stop || r.included > maxIncluded {
			return
		}
	}
}

// option takes a directive of [options], as far as sources depend on it or
// pacman refuses it.
func (r *reader) option(key, value string, e *ini.Entry, file string) {
	if e.Bare() && !strings.HasPrefix(key, sandboxOff) {
		return
	}
	r.note(key, value, file, int(e.Line))
	bad := func(value string) { r.refuse(file, e.Line, "invalid value for %s: %q", key, value) }
	switch key {
	case "Architecture":
		r.archs = append(r.archs, words(value)...)
	case "RootDir":
		r.rootDir = cmp.Or(r.rootDir, value)
	case "DBPath":
		if r.DB == "" {
			r.DB = value
		}
	case "GPGDir":
		if r.GPG == "" {
			r.GPG = value
		}
	case "SigLevel":
		if word := r.level.set(words(value)); word != "" {
			bad(word)
		}
	case "LocalFileSigLevel", "RemoteFileSigLevel":
		var l level
		if word := l.set(words(value)); word != "" {
			bad(word)
		}
	case "CleanMethod":
		for _, w := range words(value) {
			if w != "KeepInstalled" && w != "KeepCurrent" {
				bad(w)
				return
			}
		}
	case "ParallelDownloads":
		if !positive(value) {
			bad(value)
		}
	case "XferCommand":
		if !wordsplit(value) {
			bad(value)
		}
	}
}

// setting takes a directive of a repository.
func (r *reader) setting(key, value string, e *ini.Entry, file string) {
	o := r.at.source.Options
	switch key {
	case "Server", "SigLevel", "Usage":
		if e.Bare() {
			r.refuse(file, e.Line, "%s needs a value", key)
			return
		}
	default: // of a newer pacman, where it may add up, as CacheServer does
		o[key] = strings.TrimSpace(o[key] + " " + family.Option(key, value))
		return
	}
	switch key {
	case "Server":
		r.at.servers = append(r.at.servers, value)
		return
	case "SigLevel":
		if word := r.at.level.set(words(value)); word != "" {
			r.refuse(file, e.Line, "invalid value for SigLevel: %q", word)
			return
		}
	case "Usage":
		for _, w := range words(value) {
			switch w {
			case "Sync", "Search", "Install", "Upgrade", "All":
			default:
				r.refuse(file, e.Line, "Usage %q is not known", w)
				return
			}
		}
	}
	o[key] = strings.Join(append(words(o[key]), words(value)...), " ")
}

// settle does what pacman does once all is read: variables, defaults, and which
// of several sections of one name is in force.
func (r *reader) settle() {
	seen := map[string]bool{}
	position := 0
	for _, p := range r.repos {
		s := &p.source
		if r.Full(s.File, s.Line) {
			return
		}
		if len(p.include) > 0 {
			s.Options["Include"] = family.Option("Include", strings.Join(p.include, " "))
		}
		s.Checks = r.level.merge(p.level).checks()
		for _, u := range p.servers {
			if strings.Contains(u, "$arch") && len(r.archs) == 0 && !r.stop {
				r.refuse(s.File, int32(s.Line), "the server %s of [%s] contains $arch, but no Architecture is set", family.MaskURL(u), s.ID)
			}
		}
		switch {
		case s.ID == "" || s.ID == "local" || strings.Contains(s.ID, "/"):
			s.Enabled, s.DisabledBy = false, source.OffAsInvalid
			r.Problem(s.File, s.Line, fmt.Sprintf("pacman drops the section: a repository cannot be named %q", s.ID), false)
		case seen[s.ID]:
			s.Enabled, s.DisabledBy = false, source.OffByDuplicate
			r.Problem(s.File, s.Line, fmt.Sprintf("pacman drops the section: [%s] stands twice, and the first is in force", s.ID), false)
		default:
			seen[s.ID] = true
			position++
			s.Position = position
		}
		dropped := false
		for _, u := range p.servers {
			s.URLs = append(s.URLs, family.MaskURL(u))
			r.LoginInURL(r.root, s.File, u)
			if u == "" && !dropped {
				dropped = true
				r.Problem(s.File, s.Line, fmt.Sprintf("[%s] has an empty Server: pacman leaves it and those behind it out", s.ID), false)
			}
			if !dropped {
				s.EffURLs = append(s.EffURLs, family.MaskURL(r.expand(u, s.ID)))
			}
		}
		family.Tidy(s)
		r.Sources = append(r.Sources, *s)
	}
}

// expand puts the variables of a server line in, and takes one final slash off.
func (r *reader) expand(u, id string) string {
	if len(r.Architectures) > 0 {
		u = strings.ReplaceAll(u, "$arch", r.Architectures[0])
	}
	return strings.TrimSuffix(strings.ReplaceAll(u, "$repo", id), "/")
}

// commented adds a section of which every line is commented out.
func (r *reader) commented(c *ini.CommentedSection, file string) {
	s := source.Source{
		Family: Family, File: file, Line: c.Line, ID: c.Name, Name: c.Name, DisabledBy: source.OffByComment, Kinds: []string{"binary"},
		Options: map[string]string{}, Checks: r.level.checks(),
	}
	p := &repo{source: s}
	usable := false
	for _, e := range c.Entries {
		switch e[0] {
		case "Server":
			p.servers = append(p.servers, e[1])
			usable = usable || strings.Contains(e[1], ":") // and no word that stands for one
			continue
		case "Include":
			usable = true
		case "SigLevel":
			p.level.set(words(e[1]))
		}
		p.source.Options[e[0]] = family.Option(e[0], e[1])
	}
	if !usable || c.Name == "options" || c.Name == "" {
		return
	}
	for _, u := range p.servers {
		p.source.URLs = append(p.source.URLs, family.MaskURL(u))
		p.source.EffURLs = append(p.source.EffURLs, family.MaskURL(r.expand(u, c.Name)))
	}
	p.source.Checks = r.level.merge(p.level).checks()
	family.Tidy(&p.source)
	r.Sources = append(r.Sources, p.source)
}

// words splits at blanks alone, as strtok does there; a tab is part of a word.
func words(s string) []string {
	return strings.FieldsFunc(s, func(c rune) bool { return c == ' ' })
}
