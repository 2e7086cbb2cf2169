// Package flatpak says what flatpak makes of the remotes of the system's own
// installation.
//
// The rules are those of flatpak 1.14 and libostree 2022.7 as Debian packages
// them, seen by running flatpak; each is kept as a test that asks it.
// flatpak-remote(5), flatpak-flatpakrepo(5) and ostree.repo-config(5) are the
// manuals.
package flatpak

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
	"patientlantern.example/lantern/core/text/pattern"
)

// Family is the name of this family in surveys, sheets and policies.
const Family = source.FamilyFlatpak

// Where flatpak looks.
const (
	Repo    = "/var/lib/flatpak/repo"
	Config  = Repo + "/config"
	PartDir = "/etc/flatpak/remotes.d"

	preinstallDir = "/etc/flatpak/preinstall.d"
)

// WatchDirs are the folders whose changes can change what Read returns.
var WatchDirs = []string{Repo, PartDir, preinstallDir, otherInstallations}

const (
	partExt         = ".flatpakrepo"
	partGroup       = "Flatpak Repo"
	defaultPriority = 1
)

type reader struct {
	family.Reading
	root    *rootfs.FS
	remotes map[string]bool
	applied []string
	strict  bool // glib is a newer one
}

// preinstalled are the folders that say which applications are to be there.
var preinstalled = []family.Deciding{
	{Path: preinstallDir, Names: family.Suffix(".preinstall"), Touches: family.Origin, Comment: "#", Since: 1},
	{
		Path: "/usr/share/flatpak/preinstall.d", Names: family.Suffix(".preinstall"), Touches: family.Origin, Comment: "#",
		Stays: true, Loose: true, Since: 1,
	},
}

// Present reports whether flatpak has or is to have remotes on the host.
func Present(root *rootfs.FS) bool {
	for _, name := range []string{Repo, PartDir, otherInstallations} {
		if _, err := root.Stat(name); err == nil {
			return true
		}
	}
	return false
}

// Read reads flatpak's sources off a root.
func Read(root *rootfs.FS) family.Reading {
	r := &reader{Reading: family.Begin(Family), root: root, remotes: map[string]bool{}, strict: newerGlib(root)}
	r.config()
	r.parts()
	r.others()
	r.Decides(root, preinstalled)
	on := make([]*source.Source, 0, len(r.Sources))
	for i := range r.Sources {
		if r.Sources[i].Enabled {
			on = append(on, &r.Sources[i])
		}
	}
	slices.SortStableFunc(on, func(a, b *source.Source) int {
		if *a.Priority != *b.Priority {
			return *b.Priority - *a.Priority
		}
		return strings.Compare(a.ID, b.ID)
	})
	var filters []string
	for n, s := range on {
		s.Position = n + 1
		if f := s.Options["xa.filter"]; strings.HasPrefix(f, "/") && !slices.Contains(filters, f) {
			filters = append(filters, f)
			r.Decides(root, []family.Deciding{{
				Path: path.Clean(f), Touches: family.Origin, Comment: "#", Line: family.Prefix("allow", "deny"), Stays: true, Since: 1,
			}})
		}
	}
	return r.Reading
}

func (r *reader) refuse(file string, line int, format string, args ...any) {
	r.Problem(file, line, "flatpak refuses to work: "+fmt.Sprintf(format, args...), true)
}

// group is what a key file says under one name, in all places together.
type group struct {
	line   int
	keys   []string
	values map[string]string // raw
	lines  map[string]int
	strict bool // an escape that is none makes the value none
}

func (r *reader) groups(f *ini.File) (names []string, all map[string]*group) {
	all = map[string]*group{}
	for i := range f.Sections {
		s := &f.Sections[i]
		name := f.Name(s)
		g := all[name]
		if g == nil {
			g = &group{line: int(s.Line), strict: r.strict, values: map[string]string{}, lines: map[string]int{}}
			all[name] = g
			names = append(names, name)
		}
		for _, e := range f.Entries(s) {
			key := f.Key(&e)
			if _, ok := g.values[key]; !ok {
				g.keys = append(g.keys, key)
			}
			g.values[key], g.lines[key] = f.Value(&e), int(e.Line)
		}
	}
	return names, all
}

// text returns a value as a string, where it is one.
func (g *group) text(key string) (string, bool) {
	raw, ok := g.values[key]
	if !ok || !utf8.ValidString(raw) || g.odd(key) {
		return "", false
	}
	return ini.Unescape(raw), true
}

// odd reports whether a value is none because of an escape that is none, or that ends too early.
func (g *group) odd(key string) bool { return g.strict && !escaped(g.values[key]) }

// escaped reports whether every escape in a value is one.
func escaped(raw string) bool {
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' {
			continue
		}
		if i++; i == len(raw) || !strings.ContainsRune(`sntr\`, rune(raw[i])) {
			return false
		}
	}
	return true
}

// strictGlib is the first version of glib, as its library's name has it, that is known to take odd escapes for no value.
const strictGlib = 8400

// newerGlib reports whether the root's flatpak reads key files by a newer glib.
func newerGlib(root *rootfs.FS) bool {
	numbers := family.Libraries(root, "libglib-2.0.so.0.", "libglib-2.0.so.0")
	return len(numbers) > 0 && numbers[0] >= strictGlib
}

// boolean reads true, false, 1 and 0; ok is false for anything else.
func boolean(raw string) (value, ok bool) {
	return source.Truth(Family, raw)
}

// integer reads a number as GLib does; what is none is 0.
func integer(raw string) int {
	s := strings.TrimLeft(raw, " \t\n\v\f\r")
	end := 0
	if end < len(s) && (s[end] == '+' || s[end] == '-') {
		end++
	}
	for end < len(s) && s[end] >= '0' && s[end] <= '9' {
		end++
	}
	if end < len(s) && strings.IndexByte(" \t\n\f\r", s[end]) < 0 {
		return 0
	}
	n, err := strconv.ParseInt(s[:end], 10, 64)
	if err != nil || n > math.MaxInt32 || n < math.MinInt32 {
		return 0
	}
	return int(n)
}

// remote is how the group of a remote is named; what ends a line in any script ends a name as well.
var remote = pattern.Lazy(`^remote "([^\x{85}\x{2028}\x{2029}]+)"$`)

func (r *reader) config() {
	text, info, err := r.root.ReadTextInfo(Config)
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := r.root.Stat(Repo); err == nil {
			r.refuse(Config, 0, "the repository has no configuration")
		}
		return
	}
	if err != nil {
		r.refuse(Config, 0, "its configuration cannot be read: %s", family.Plain(err))
		return
	}
	r.Keep(info, Config, text)
	f := ini.ParseKeyFile(text)
	switch {
	case !utf8.Valid(text) || strings.IndexByte(string(text), 0) >= 0:
		r.refuse(Config, 0, "its configuration is not UTF-8")
		return
	case f.Err != nil:
		r.refuse(Config, f.Err.Line, "%s", f.Err.Message)
	}
	names, all := r.groups(f)
	r.core(all)
	for _, name := range names {
		if m := remote().FindStringSubmatch(name); m != nil {
			r.remotes[m[1]] = true
			r.remote(m[1], all[name])
		}
	}
}

// bools are the settings of the repository that must be true or false.
var bools = []string{
	"archive",
	"enable-uncompressed-cache",
	"fsync",
	"per-object-fsync",
	"disable-xattrs",
	"locking",
	"add-remotes-config-dir",
}

// modes are those a repository can have.
var modes = []string{"bare", "bare-user", "bare-user-only", "archive-z2", "archive", "bare-split-xattrs"}

// core checks what makes flatpak refuse the whole repository.
func (r *reader) core(all map[string]*group) {
	core := all["core"]
	if core == nil {
		r.refuse(Config, 0, "there is no [core] with a repo_version")
		return
	}
	if v, ok := core.values["repo_version"]; !ok || v != "1" {
		r.refuse(Config, core.lines["repo_version"], "repo_version must be 1, it is %q", v)
	}
	for _, key := range bools {
		if v, ok := core.values[key]; ok {
			if on, ok := boolean(v); !ok {
				r.refuse(Config, core.lines[key], "%s must be true or false, it is %q", key, v)
			} else if on && key == "archive" {
				r.refuse(Config, core.lines[key], "repositories of the kind %q are not supported", key)
			}
		}
	}
	if v, ok := core.values["mode"]; ok && !slices.Contains(modes, v) {
		r.refuse(Config, core.lines["mode"], "the mode %q is not known", v)
	}
	r.space(core)
	r.settings(core)
	if v, ok := core.text("xa.applied-remotes"); ok {
		r.applied = strings.Split(v, ";")
	}
}

var sizes = pattern.Lazy(`^([0-9]+)(G|M|T)B$`)

// space checks the two settings for free space.
func (r *reader) space(core *group) {
	size, hasSize := core.values["min-free-space-size"]
	if hasSize && !sizes().MatchString(size) {
		r.refuse(Config, core.lines["min-free-space-size"], "min-free-space-size must be a number of MB, GB or TB, it is %q", size)
	}
	percent, ok := core.values["min-free-space-percent"]
	if !ok {
		return
	}
	n, err := strconv.ParseUint(percent, 10, 64)
	if err != nil && !hasSize || n > 99 {
		r.refuse(Config, core.lines["min-free-space-percent"], "min-free-space-percent must be a number up to 99, it is %q", percent)
	}
}

// remote adds a remote of the repository's configuration.
func (r *reader) remote(id string, g *group) {
	s := source.Source{
		Family: Family, File: Config, Line: g.line, ID: id, Enabled: true, Kinds: []string{"binary"}, Options: map[string]string{},
		Checks: source.Checks{Packages: source.CheckRequired, Metadata: source.CheckOff},
	}
	if !slices.ContainsFunc(g.keys, func(key string) bool {
		return !strings.Contains(key, "[") || strings.HasSuffix(key, "[C]") || strings.HasSuffix(key, "[]")
	}) { // translations are not read
		r.refuse(Config, g.line, "the group of the remote %q is empty", id)
	}
	priority := defaultPriority
	for _, key := range g.keys {
		raw := g.values[key]
		value, _ := g.text(key)
		switch key {
		case "url":
			if g.odd(key) { // as if it were not there
				continue
			}
			if value != "" {
				s.URLs = []string{family.MaskURL(value)}
				r.LoginInURL(r.root, Config, value)
			} else {
				s.Enabled, s.DisabledBy = false, source.OffByFlag
			}
			continue
		case "xa.title":
			s.Name = value
			continue
		case "xa.disable":
			on, ok := boolean(raw)
			if on {
				s.Enabled, s.DisabledBy = false, source.OffByFlag
			}
			if !ok {
				r.Problem(
					Config,
					g.lines[key],
					fmt.Sprintf("flatpak takes no notice of xa.disable=%s in %q: it is neither true nor false", raw, id),
					false,
				)
			}
			continue
		case "xa.prio":
			priority = integer(raw)
			continue
		case "metalink":
			s.Metalink = family.MaskURL(value)
			continue
		case "gpg-verify":
			on, ok := boolean(raw)
			if !ok {
				r.refuse(Config, g.lines[key], "gpg-verify of %q must be true or false, it is %q", id, raw)
			}
			s.Checks.Packages = check(on)
		case "gpg-verify-summary":
			on, ok := boolean(raw)
			if !ok {
				r.Problem(Config, g.lines[key], fmt.Sprintf("gpg-verify-summary of %q must be true or false, it is %q", id, raw), false)
			}
			s.Checks.Metadata = check(on)
		case "tls-ca-path":
			r.Vouch = append(r.Vouch, value)
		case "tls-client-cert-path":
			r.Certificate(r.root, value, id, Config, g.lines[key])
		}
		s.Options[key] = family.Option(key, value)
	}
	s.Priority = &priority
	for _, name := range r.keyrings(id, s.Options["gpgkeypath"]) {
		s.SignedBy = append(s.SignedBy, name)
		r.keys(name, s.Enabled && s.Checks.Packages != source.CheckOff)
	}
	r.finish(&s)
}

func check(on bool) string {
	if on {
		return source.CheckRequired
	}
	return source.CheckOff
}

// keyrings lists the files with a remote's keys that exist.
func (r *reader) keyrings(id, paths string) (out []string) {
	list := append(
		[]string{path.Join(Repo, id+ownKeyring)},
		strings.FieldsFunc(paths, func(c rune) bool { return c == ';' || c == ',' })...)
	for _, name := range list {
		info, err := r.root.Stat(name)
		switch {
		case err != nil:
		case info.Mode().IsRegular():
			out = append(out, path.Clean("/"+name))
		case info.IsDir():
			out = append(out, r.root.Glob(path.Clean("/"+name)+"/*")...)
		}
	}
	return out
}

// keys reads a remote's keyring; on says whether the remote is.
func (r *reader) keys(name string, on bool) {
	data, info, err := r.root.ReadTextInfo(name)
	var got keyring.Result
	if err == nil {
		got = keyring.ReadAll([][]byte{data}, family.KeysAt(r.root))[0]
		family.KeepKeys(r.Texts, r.Modes, info, name, data, &got)
		err = got.Err
	}
	switch {
	case errors.Is(err, keyring.ErrMore):
		r.Unread(name, 0, family.Plain(err))
	case err != nil:
		r.Problem(name, 0, "the keyring cannot be read: "+family.Plain(err), false)
	}
	if got.Private {
		r.Problem(name, 0, "the keyring holds a private key: "+family.WhoeverReads, false)
	}
	keys := got.Keys
	armoured := !keyring.IsKeybox(data) && bytes.Contains(data, []byte("-----BEGIN PGP"))
	if armoured && strings.HasSuffix(name, ownKeyring) && path.Dir(name) == Repo {
		for i := range keys {
			if keys[i].Used {
				keys[i].Used, keys[i].UnusedBecause = false, "flatpak takes keys out of this file in binary form only"
			}
		}
	}
	r.add(keys, name, on)
}

// ownKeyring is how the file with a remote's own keys ends.
const ownKeyring = ".trustedkeys.gpg"

func (r *reader) add(keys []source.Key, where string, on bool) {
	for _, k := range keys {
		k.Where, k.Scope = where, source.ScopeNamed
		if k.Used && !on {
			k.Used, k.UnusedBecause = false, source.NotNamed
		}
		r.Keys = append(r.Keys, k)
	}
}

func (r *reader) finish(s *source.Source) {
	s.EffURLs = slices.Clone(s.URLs)
	family.Tidy(s)
	r.Sources = append(r.Sources, *s)
}
