package rpm

import (
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/text/ini"
	"patientlantern.example/lantern/core/text/pattern"
	"patientlantern.example/lantern/core/version"
)

// What dnf 5 reads otherwise than dnf 4: dnf5-conf(5), and five_test.go, which holds what dnf 5.4
// has said of drawn trees.

// Where dnf 5 looks: in folders of one kind, a file hides those of its name in the folders behind
// it. Of variables later folders win, as for dnf 4.
var (
	repoDirs5     = []string{"/etc/yum.repos.d", "/etc/distro.repos.d", "/usr/share/dnf5/repos.d"}
	varDirs5      = []string{"/usr/share/dnf5/vars.d", "/etc/dnf/vars"}
	configDirs5   = []string{"/etc/dnf/libdnf5.conf.d", "/usr/share/dnf5/libdnf.conf.d"}
	overrideDirs5 = []string{"/etc/dnf/repos.override.d", "/usr/share/dnf5/repos.override.d"}
)

// isFive reports whether a root's dnf is dnf 5. Where both are there, it is that to which the
// command leads.
func isFive(root *rootfs.FS) bool {
	if _, err := root.Stat("/usr/bin/dnf5"); err != nil {
		return false
	}
	if _, err := root.Stat("/usr/bin/dnf"); err != nil {
		return true
	}
	return path.Base(root.Link("/usr/bin/dnf")) == "dnf5"
}

// visible lists the files of folders that have an extension, by their names; a name counts where
// it stands first. Hidden ones are read too.
func (r *reader) visible(dirs []string, ext string) (out []string) {
	seen := map[string]bool{}
	for _, dir := range dirs {
		dir = path.Clean("/" + dir)
		entries, err := r.root.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			name := path.Join(dir, e.Name())
			if path.Ext(e.Name()) != ext || e.Name() == ext || seen[e.Name()] {
				continue
			}
			if info, err := r.root.Stat(name); err == nil && info.Mode().IsRegular() {
				seen[e.Name()] = true
				out = append(out, name)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return strings.Compare(path.Base(a), path.Base(b)) })
	return out
}

// parse reads a file as the root's dnf does.
func (r *reader) parse(text []byte) *ini.File {
	if r.five {
		return ini.ParseRPM5(text)
	}
	return ini.ParseRPM(text)
}

// plain is a value as the root's dnf takes it from a file.
func (r *reader) plain(v string) string {
	if r.five {
		return v
	}
	return plainValue(v)
}

// list splits a value as the root's dnf does.
func (r *reader) list(value string) []string {
	words := list(value)
	if r.five {
		words = slices.DeleteFunc(words, func(w string) bool { return strings.Trim(w, "\r") == "" })
	}
	return words
}

// sameKey is a key's usual name: dnf 5 has two for one.
func (r *reader) sameKey(key string) string {
	if r.five && key == "pkg_gpgcheck" {
		return "gpgcheck"
	}
	return key
}

// joined are the sections of a file, each key under its usual name.
func (r *reader) joined(f *ini.File) []section {
	list := merge(f)
	if !r.five {
		return list
	}
	for i := range list {
		r.expand(&list[i])
		old := list[i]
		list[i].keys, list[i].values = nil, map[string]entry{}
		for _, key := range old.keys {
			e, same := old.values[key], r.sameKey(key)
			if have, ok := list[i].values[same]; !ok || have.line <= e.line {
				list[i].set(same, e)
			}
		}
	}
	return list
}

// What gpgcheck_policy may say, and since which dnf 5 it is heeded.
const (
	policyKey   = "gpgcheck_policy"
	policySince = "5.4.3"
)

// policy takes what [main] says of how gpgcheck is meant; the last of the words that dnf 5 knows counts.
func (r *reader) policy(files []mainFile) {
	for _, f := range files {
		for _, s := range merge(f.text) {
			switch v := r.plain(s.values[policyKey].text); {
			case s.id == "main" && slices.Contains([]string{"legacy", "full", "all"}, v):
				r.checkPolicy = v
			}
		}
	}
}

// expand has gpgcheck stand for the other checks of its section where the policy says so. That it takes a check
// away is believed of any dnf 5, that it adds one only of those that are known to heed it.
func (r *reader) expand(s *section) {
	if r.checkPolicy != "full" && r.checkPolicy != "all" {
		return
	}
	e, said := s.values["gpgcheck"]
	on, ok := truth(r.plain(e.text))
	if !said || !ok || on && (r.version == "" || version.Compare(Family, r.version, policySince) < 0) {
		return
	}
	others := []string{"repo_gpgcheck"}
	if r.checkPolicy == "all" && s.id == "main" {
		others = append(others, "localpkg_gpgcheck")
	}
	for _, key := range others {
		if _, explicit := s.values[key]; !explicit {
			s.set(key, e)
		}
	}
}

// dropIns are the settings of [main] that stand in files beside dnf.conf, which comes last.
func (r *reader) dropIns() (out []mainFile) {
	for _, name := range r.visible(configDirs5, ".conf") {
		if text, info, err := r.root.ReadTextInfo(name); err == nil {
			r.Keep(info, name, text)
		}
		if f := r.quietly(name); f != nil {
			out = append(out, mainFile{name, f})
		}
	}
	return out
}

// decides are the files that decide beside what is read: dnf 5 takes settings of [main] out of
// one kind of them.
func (r *reader) decides() []family.Deciding {
	all := slices.Concat(deciding, told(r.root))
	if !r.five {
		return all
	}
	return slices.DeleteFunc(all, func(d family.Deciding) bool { return slices.Contains(configDirs5, d.Path) })
}

// quietly reads a file that is kept elsewhere.
func (r *reader) quietly(name string) *ini.File {
	text, _, err := r.root.ReadTextInfo(name)
	if err != nil {
		r.Problem(name, 0, "dnf refuses to work: the file cannot be read: "+family.Plain(err), true)
		return nil
	}
	f := r.parse(text)
	if f.Err != nil {
		r.Problem(name, f.Err.Line, "dnf refuses to work: "+f.Err.Message, true)
		return nil
	}
	return f
}

// overrides are the sections that are laid over those of repositories, in their order.
func (r *reader) overrides() {
	for _, name := range r.visible(overrideDirs5, ".repo") {
		f := r.quietly(name)
		if f == nil {
			continue
		}
		for _, s := range r.joined(f) {
			if s.id != "main" {
				r.laidOver = append(r.laidOver, s)
			}
		}
	}
}

// overridden is a section as it counts once what is laid over it is taken into account.
func (r *reader) overridden(s section) section {
	if len(r.laidOver) == 0 {
		return s
	}
	id := r.substitute(s.id)
	out := section{id: s.id, line: s.line, keys: slices.Clone(s.keys), values: map[string]entry{}}
	for key, e := range s.values {
		out.values[key] = e
	}
	for _, over := range r.laidOver {
		if !pattern.Fnmatch(r.substitute(over.id), id) {
			continue
		}
		for _, key := range over.keys {
			out.set(key, entry{over.values[key].text, s.line})
		}
	}
	return out
}

// releases puts the parts of $releasever in.
func (r *reader) releases() {
	release, ok := r.vars["releasever"]
	if !ok {
		return
	}
	major, minor, parted := strings.Cut(release, ".")
	r.vars["releasever_major"] = major
	if parted {
		r.vars["releasever_minor"] = minor
	}
}
