package survey

import (
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
)

// Where a whole system is told what every program on it heeds, package managers too.
const (
	unitDir  = "/etc/systemd/system"
	shellDir = "/etc/profile.d"
	sudoDir  = "/etc/sudoers.d"
)

// localDirs are the folders of programs that no package brings and that come first where programs are looked for.
var localDirs = []string{"/usr/local/sbin", "/usr/local/bin"}

// aroundDirs are the folders whose changes can change what stands around package managers.
var aroundDirs = slices.Concat([]string{"/etc", "/etc/gnupg", shellDir, unitDir, sudoDir}, localDirs, loadedDirs, cronDirs, []string{
	"/var/spool/cron", "/var/spool/cron/crontabs", "/var/spool/cron/tabs",
})

// around notes what stands around package managers, and decides for them as for every program:
// roots of certificates, what is put into their environment, how the units of the system run
// them, and other addresses for the hosts that they fetch from.
func (r *reader) around() {
	r.roots()
	found := family.Begin("")
	found.Decides(r.root, surroundings)
	if r.dpkg != nil {
		found.Decides(r.root, debianTasks)
	} else {
		found.Decides(r.root, otherTasks)
	}
	if named := r.Survey.FetchedFrom(); len(named) > 0 {
		found.Decides(r.root, []family.Deciding{{
			Path: source.HostsFile, Touches: family.Transport, Comment: "#", Stays: true, Since: 1,
			Line: func(line string) bool {
				return slices.ContainsFunc(source.NamesOf(line), func(name string) bool { return named[name] })
			},
		}})
	}
	r.gnupg(&found)
	r.loaded(&found)
	for i := range found.Deciding {
		if d := &found.Deciding[i]; d.File != source.HostsFile && d.File != family.GPGConf && !slices.ContainsFunc(d.Lines, beyondProxies) {
			d.Touches = family.Transport
		}
	}
	r.add(found)
}

// beneath notes what rpm is told where zypper calls it: dnf's own reader tells of it as well.
func (r *reader) beneath(read []string) {
	if !slices.Contains(read, zypp.Family) || slices.Contains(read, rpm.Family) {
		return
	}
	found := family.Begin(zypp.Family)
	found.Decides(r.root, rpm.Beneath(r.root))
	rpm.KeepPlugins(&found, r.root)
	r.add(found)
}

// gnupg notes what gpg is told for the whole system, by which zypper, flatpak and dnf verify. pacman's own reader tells of
// it as well.
func (r *reader) gnupg(found *family.Reading) {
	told := slices.ContainsFunc(r.Survey.Deciding, func(d source.Deciding) bool { return d.File == family.GPGConf })
	verifies := slices.ContainsFunc(r.Survey.Sources, func(s source.Source) bool {
		return s.Family != source.FamilyDeb && s.Family != source.FamilyArch
	})
	if verifies && !told {
		found.Decides(r.root, []family.Deciding{{
			Path: family.GPGConf, Touches: family.Trust, Comment: "#", Line: family.GPGDecides, Since: source.Vouching,
		}})
	}
}

// surroundings are the files by which variables come into the environment of whoever works on a
// host, and of everything that the system itself starts; and the units by which it does so.
var surroundings = func() (out []family.Deciding) {
	told := func(file string, names func(string) bool, says func([]byte, []string) []string) {
		out = append(out, family.Deciding{
			Path: file, Names: names, Touches: around, Comment: "#;", All: says, Stays: true, Since: 1,
			Later: &family.Later{Since: source.Vouching, Says: assignedMore},
		})
	}
	shells := []string{"/etc/profile", "/etc/bash.bashrc", "/etc/bashrc", "/root/.profile", "/root/.bash_profile", "/root/.bashrc"}
	systems := []string{"/etc/environment", "/etc/security/pam_env.conf", "/etc/systemd/system.conf"}
	for _, file := range slices.Concat(systems, shells) {
		told(file, nil, assigned)
	}
	told(shellDir, family.Suffix(".sh"), assigned)
	for _, file := range append(shells, "/root/.bash_aliases") {
		out = append(out, family.Deciding{Path: file, Touches: family.Program, Comment: "#", All: aliased, Stays: true, Since: 2})
	}
	out = append(out,
		family.Deciding{Path: shellDir, Names: family.Suffix(".sh"), Touches: family.Program, Comment: "#", All: aliased, Stays: true, Since: 2},
		family.Deciding{Path: "/etc/ld.so.preload", Touches: family.Program, Comment: "#", Stays: true, Since: 2},
		family.Deciding{Path: "/etc/sudoers", Touches: around, Comment: "#", All: kept, Stays: true, Since: 2},
		family.Deciding{Path: sudoDir, Names: sudoReads, Touches: around, Comment: "#", All: kept, Stays: true, Since: 2},
	)
	for _, dir := range localDirs {
		out = append(out, family.Deciding{Path: dir, Names: managing, Touches: family.Program, All: digested, Stays: true, Since: 2})
		out = append(out, family.Deciding{
			Path: dir, Names: calledByManagers, Touches: family.Program, All: digested, Stays: true, Since: source.Scopes,
		})
	}
	told("/etc/systemd/system.conf.d", family.Suffix(".conf"), assigned)
	told(unitDir+"/service.d", family.Suffix(".conf"), assigned)
	for _, unit := range units {
		told(path.Join(unitDir, unit+".service"), nil, started)
		told(path.Join(unitDir, unit+".service.d"), family.Suffix(".conf"), started)
	}
	return out
}()

// managing reports whether a program manages packages, or says for one that does whose a signature is.
func managing(name string) bool {
	return slices.Contains([]string{
		"apt", "apt-get", "apt-cache", "apt-key", "aptitude", "dpkg", "dpkg-deb", "unattended-upgrade",
		"dnf", "dnf-3", "dnf4", "dnf5", "microdnf", "yum", "rpm", "rpmkeys",
		"zypper", "pacman", "pacman-key", "flatpak", "ostree", "gpg", "gpg2", "gpgv", "gpgv-sq", "gpg-sq", "sqv",
	}, name)
}

// calledByManagers reports whether a program is one that those call by its name alone.
func calledByManagers(name string) bool {
	return slices.Contains([]string{
		"apt-config", "apt-helper", "apt-mark", "apt-cdrom", "dpkg-query", "dpkg-split", "dpkg-divert", "dpkg-trigger", "gpgconf", "gpg-agent",
		"pacman-conf", "pacman-db-upgrade", "rpmdb", "rpm2cpio", "repo-add", "unattended-upgrades", "awk", "gawk", "mawk",
	}, name)
}

// digested tells of a program that it is there, and which.
func digested(text []byte, _ []string) []string {
	return []string{"SHA-256 " + source.Digest(text)}
}

// sudoReads is sudo's rule for the files of its folder: sudoers(5).
func sudoReads(name string) bool {
	return !strings.Contains(name, ".") && !strings.HasSuffix(name, "~")
}

// kept lists what sudo hands on of the environment of who calls it, and what it puts into it.
func kept(_ []byte, lines []string) (out []string) {
	for _, l := range lines {
		rest, ok := strings.CutPrefix(l, "Defaults")
		if !ok {
			continue
		}
		named := shellWords(strings.NewReplacer("=", " ", `"`, " ").Replace(rest))
		if strings.Contains(rest, "env_file") || strings.Contains(rest, "!env_reset") ||
			strings.Contains(rest, "env_keep") && slices.ContainsFunc(named, handedOn) || searchesElsewhere(named) {
			out = append(out, l)
		}
	}
	return out
}

// searchesElsewhere reports whether sudo looks for programs in another folder than the system's own first.
func searchesElsewhere(words []string) bool {
	at := slices.Index(words, "secure_path")
	return at >= 0 && at+1 < len(words) && goesBefore(words[at+1])
}

var around = slices.Concat(family.Trust, family.Transport, family.Program)

// units are the services of the systems that are known by which package managers run unattended.
var units = []string{
	"apt-daily", "apt-daily-upgrade", "unattended-upgrades", "dnf-makecache", "dnf-automatic", "dnf-automatic-install",
	"dnf-automatic-download", "dnf-automatic-notifyonly", "dnf5-automatic", "yum-cron", "packagekit", "packagekit-offline-update",
	"transactional-update", "flatpak-system-helper",
}

// started lists what a unit says of what runs, and in which surroundings: systemd.exec(5),
// systemd.service(5).
func started(_ []byte, lines []string) (out []string) {
	for _, l := range lines {
		switch {
		case strings.HasPrefix(l, "Environment="):
			out = append(out, assigned(nil, []string{l})...)
		case unitDecides(l):
			out = append(out, l)
		}
	}
	return out
}

var unitDecides = family.Prefix(
	"EnvironmentFile", "PassEnvironment", "UnsetEnvironment", "Exec", "RootDirectory", "RootImage", "BindPaths", "BindReadOnlyPaths",
)

// aliased lists other commands that a shell runs under the name of a program that manages packages.
func aliased(_ []byte, lines []string) (out []string) {
	for _, l := range lines {
		fields := shellWords(l)
		from := slices.Index(fields, "alias")
		if from < 0 {
			continue
		}
		for _, f := range fields[from+1:] {
			if name, _, ok := strings.Cut(f, "="); ok && managing(name) {
				out = append(out, "alias "+f)
			}
		}
	}
	return out
}

// loginHidden is a value without the password before its last @: one in quotes may hold what no URL does.
func loginHidden(value string) string {
	at := strings.LastIndexByte(value, '@')
	if at < 0 {
		return value
	}
	from := 0
	if i := strings.Index(value, "://"); i >= 0 && i < at {
		from = i + 3
	}
	user, _, ok := strings.Cut(value[from:at], ":")
	if !ok {
		return value[:from] + "***" + value[at:]
	}
	return value[:from] + user + ":***" + value[at:]
}

// shellWords are the words of a line, quotes taken off: what stands in them is one word, or part of one.
func shellWords(line string) (out []string) {
	var word strings.Builder
	quote := rune(0)
	end := func() {
		if word.Len() > 0 {
			out = append(out, word.String())
			word.Reset()
		}
	}
	for _, c := range line {
		switch {
		case c == quote:
			quote = 0
		case quote == 0 && c == '#' && word.Len() == 0:
			return out
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote == 0 && strings.ContainsRune(" ;&", c):
			end()
		default:
			word.WriteRune(c)
		}
	}
	end()
	return out
}

// beyondProxies reports whether a line says more than through whom it is fetched.
func beyondProxies(line string) bool {
	name, _, _ := strings.Cut(line, "=")
	return !proxyVariable(name)
}
