package agent

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// place is a kind of file that a sheet may have on a host. Whoever holds the service's
// key can have no other written, whatever they sign.
type place struct {
	family string
	dir    string
	prefix string
	suffix string
	mode   string
	secret bool // it holds access
}

// places is the whole of it. Files belong to root. None of them can name a program: hooks
// of apt, plugins of dnf and zypper and fetch commands of pacman stand elsewhere.
var places = []place{
	{deb.Family, deb.PartsDir, "", ".sources", "0644", false},
	{deb.Family, "/etc/apt/keyrings", "", ".asc", "0644", false},
	{deb.Family, deb.PreferencesDir, "lantern-", ".pref", "0644", false},
	{deb.Family, "/etc/apt/mirrors", "", ".list", "0644", false},
	{deb.Family, path.Dir(deb.ProxyPath), "lantern-", ".conf", "0644", false},
	{deb.Family, "/etc/apt/auth.conf.d", "lantern-", ".conf", "0600", true},

	{rpm.Family, rpm.ReposDir, "", ".repo", "0644", false},
	{rpm.Family, "/etc/pki/rpm-gpg", "", ".asc", "0644", false},
	{rpm.Family, "/etc/dnf/mirrors", "", ".list", "0644", false},
	{rpm.Family, "/etc/pki/lantern", "", "-authority.pem", "0644", false},
	{rpm.Family, "/etc/pki/lantern", "", ".crt", "0644", true},
	{rpm.Family, "/etc/pki/lantern", "", ".key", "0600", true},
	{rpm.Family, "/etc/dnf/vars", "lantern_", "", "0600", true},

	{zypp.Family, zypp.ReposDir, "", ".repo", "0644", false},
	{zypp.Family, "/etc/zypp/keys", "", ".asc", "0644", false},
	{zypp.Family, "/etc/zypp/mirrors", "", ".list", "0644", false},
	{zypp.Family, "/etc/zypp/vars.d", "lantern_", "", "0600", true},
	{zypp.Family, "/etc/zypp/credentials.d", "lantern-", "", "0600", true},

	{arch.Family, arch.Dir, "lantern-", ".conf", "0644", false},
	{arch.Family, arch.Dir, "lantern-", ".mirrors", "0644", false},
	{arch.Family, arch.KeyDir, "", ".asc", "0644", false},
	{arch.Family, arch.Dir, "lantern-", "", "0600", true},

	{flatpak.Family, "/etc/flatpak/keys", "", ".asc", "0644", false},
}

// permits reports whether a host with these package managers may be given a file.
func permits(families []string, name, mode string, secret bool) bool {
	if !plainPath(name) {
		return false
	}
	base := path.Base(name)
	return slices.ContainsFunc(places, func(p place) bool {
		return slices.Contains(families, p.family) && p.dir == path.Dir(name) && p.mode == mode && p.secret == secret &&
			len(base) > len(p.prefix)+len(p.suffix) && strings.HasPrefix(base, p.prefix) && strings.HasSuffix(base, p.suffix)
	})
}

// plainPath reports whether a path is one that can be meant: absolute, with no detours,
// nothing hidden and no character that a terminal or a list would take for something else.
func plainPath(name string) bool {
	return strings.HasPrefix(name, "/") && path.Clean(name) == name && !strings.HasPrefix(path.Base(name), ".") && plainText(name)
}

// plainText reports whether a text has no control character and no line end.
func plainText(s string) bool {
	return strings.IndexFunc(
		s,
		func(r rune) bool { return r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r == 0x2028 || r == 0x2029 },
	) < 0
}

// familiesOf lists the package managers that a host has.
func familiesOf(s *source.Survey) []string {
	out := []string{s.Traits.Family}
	if s.Traits.Tools[flatpak.Family] != "" ||
		slices.ContainsFunc(s.Sources, func(x source.Source) bool { return x.Family == flatpak.Family }) {
		out = append(out, flatpak.Family)
	}
	return out
}

// permitSheet checks that a sheet wants nothing of the host but package sources.
func permitSheet(sheet *source.Sheet, s *source.Survey) error {
	if sheet.Family != s.Traits.Family {
		return fmt.Errorf("the sheet is for %s, and this host has %s", orNone(sheet.Family), orNone(s.Traits.Family))
	}
	families := familiesOf(s)
	for _, f := range sheet.Files {
		if !permits(families, f.Path, f.Mode, false) {
			return fmt.Errorf("the sheet names %q with mode %q, which is no place for a package source of this host", f.Path, f.Mode)
		}
		if err := permitText(f.Path, f.Text); err != nil {
			return err
		}
	}
	for _, w := range sheet.Withdrawn {
		if f, err := keyring.ParseFingerprint(w.Fingerprint); err != nil || f != w.Fingerprint {
			return fmt.Errorf("the sheet withdraws the key %q, which is no fingerprint", w.Fingerprint)
		}
	}
	for _, l := range sheet.Locks {
		if !permitsLock(l) {
			return fmt.Errorf("the sheet locks %q (%s), which is no version of a package", l.Package, l.Criteria)
		}
	}
	for _, a := range sheet.Access {
		for _, f := range a.Files {
			if !permits(families, f.Path, f.Mode, true) {
				return fmt.Errorf("the sheet names %q with mode %q, which is no place for access of this host", f.Path, f.Mode)
			}
			if err := permitText(f.Path, f.Without); err != nil {
				return err
			}
			for _, u := range f.URLs {
				if !plainText(u) {
					return fmt.Errorf("the sheet names a URL for %s that holds a control character", f.Path)
				}
			}
		}
	}
	return nil
}

func orNone(s string) string {
	if s == "" {
		return "no package manager that is known"
	}
	return s
}

// mostLine is how long a line of a file may be that pacman reads: it takes 4 kB at once.
const mostLine = 3_000

// permitText checks what a file is to hold. pacman takes options, and with them programs that
// it runs, from every file that it includes: before the first section too, which belongs to
// whatever stood where the file was included. So a file of a sheet holds sections of
// repositories, mirrors, and packages that stay as they are; it includes lists of mirrors
// alone.
func permitText(name, text string) error {
	switch path.Dir(name) {
	case path.Dir(deb.ProxyPath):
		if name != deb.ProxyPath || !deb.IsProxyFile(text) {
			return fmt.Errorf("%s would tell apt something else than its proxy, which no sheet may", name)
		}
		return nil
	case arch.Dir:
	default:
		return nil
	}
	// Where pacman and we would not see the same lines, nothing is believed.
	if strings.IndexFunc(text, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0x7f }) >= 0 {
		return fmt.Errorf("%s would hold a control character", name)
	}
	section := ""
	for line := range strings.Lines(text) {
		if len(line) > mostLine {
			return fmt.Errorf("%s would hold a line of more than %d bytes, which pacman may part", name, mostLine)
		}
		line = strings.Trim(line, " \t\n") // and nothing else that Unicode calls a blank
		key, value, _ := strings.Cut(line, "=")
		key, value = strings.Trim(key, " \t"), strings.Trim(value, " \t")
		switch {
		case line == "" || line[0] == '#': // nowhere else is that a comment
		case line[0] == '[' && strings.HasSuffix(line, "]"):
			section = line
		case key == "Server":
		case section == "[options]" && key == "IgnorePkg" && plainNames(value):
		case strings.EqualFold(section, "[options]"):
			return fmt.Errorf("%s would set options of pacman, which no sheet may", name)
		case section != "" && key == "SigLevel":
		case section != "" && key == "Include" && listOfMirrors(value):
		default:
			return fmt.Errorf("%s would tell pacman %q, which no sheet may", name, key)
		}
	}
	return nil
}

// permitsLock reports whether a lock is one of versions of a package, and of nothing more.
func permitsLock(l source.SheetLock) bool {
	version, is := strings.CutPrefix(l.Criteria, "version: ")
	return is && l.Package != "" && !strings.Contains(l.Package, " ") && plainNames(l.Package+l.Repository) &&
		plainNames(strings.NewReplacer("<", "", ">", "", "=", "", ":", "", "~", "").Replace(version))
}

// plainNames reports whether a list holds names of packages and no patterns.
func plainNames(list string) bool {
	return strings.Trim(list, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789+._- ") == ""
}

// listOfMirrors reports whether a path is that of a file which a sheet may have in pacman's
// folder, and whose text is checked.
func listOfMirrors(name string) bool {
	return plainPath(name) && path.Dir(name) == arch.Dir && strings.HasPrefix(path.Base(name), "lantern-") && !strings.ContainsAny(name, "*?[")
}

// permitEdits checks that a change touches nothing but what a sheet may have, the files
// of sources that stand on the host, and those of which it has a copy of its own, as that is.
func permitEdits(edits []change.FileEdit, now *survey.Result, own map[string][]byte) error {
	families := familiesOf(&now.Survey)
	for _, e := range edits {
		if permits(families, e.Path, e.Mode, false) {
			continue
		}
		if _, stands := now.Texts[e.Path]; stands {
			continue
		}
		if copied, kept := own[e.Path]; kept && e.Action == change.Create && bytes.Equal(copied, e.New) {
			continue
		}
		if e.Action == change.Create && (setAside(e, edits) || e.Path == zypp.Locks && slices.Contains(families, zypp.Family)) {
			continue
		}
		if e.Action == change.Create && besideASource(e.Path, now) {
			continue // put back, or set aside
		}
		return fmt.Errorf("%q is no file of a package source of this host", e.Path)
	}
	return nil
}

// setAside reports whether an edit keeps what another takes out, beside where it stood.
func setAside(e change.FileEdit, edits []change.FileEdit) bool {
	return plainPath(e.Path) && strings.HasSuffix(e.Path, change.Aside) && slices.ContainsFunc(edits, func(x change.FileEdit) bool {
		near := path.Dir(x.Path) == path.Dir(e.Path) || path.Dir(path.Dir(x.Path)) == path.Dir(e.Path)
		return x.Action == change.Remove && near && strings.HasPrefix(path.Base(e.Path), path.Base(x.Path)) && bytes.Equal(x.Old, e.New)
	})
}

// besideASource reports whether a path is one at which a source of the host stood, or is
// set aside.
func besideASource(name string, now *survey.Result) bool {
	if !plainPath(name) {
		return false
	}
	if name == deb.MainList || slices.ContainsFunc(places, func(p place) bool {
		return p.family == now.Survey.Traits.Family && !p.secret && p.dir == path.Dir(name) &&
			(path.Ext(name) == p.suffix || path.Ext(name) == ".list" || strings.HasSuffix(name, change.Aside))
	}) {
		return true
	}
	_, of := now.Texts[strings.TrimSuffix(name, change.Aside)]
	return of && strings.HasSuffix(name, change.Aside)
}
