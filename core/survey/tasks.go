package survey

import (
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// cronTables are the files in which cron is told what to run as root, and cronDirs the folders: crontab(5), cron(8), and
// where each distribution has root's own.
var (
	cronTables = []string{
		"/etc/crontab", "/etc/anacrontab", "/var/spool/cron/crontabs/root", "/var/spool/cron/tabs/root", "/var/spool/cron/root",
		"/etc/rc.local", "/etc/rc.d/rc.local",
	}
	cronDirs = []string{"/etc/cron.d", "/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly"}
)

// Where somebody has the system run package managers with options of its own, beside the units by which they are known to
// run unattended: on systems of Debian's kind, and on others. What those options say holds each time, whatever the
// configuration says.
var debianTasks, otherTasks = tasks(debianReads), tasks(cronieReads)

// tasks are the places of a system whose cron goes by a rule for names.
func tasks(reads func(name string) bool) (out []family.Deciding) {
	told := func(file string, names func(string) bool) {
		out = append(out, family.Deciding{
			Path: file, Names: names, Touches: around, Comment: "#;", All: tasked, Stays: true, Since: source.Tasks,
		})
	}
	for _, file := range cronTables {
		told(file, nil)
	}
	for _, dir := range cronDirs {
		told(dir, reads)
	}
	told(unitDir, func(name string) bool {
		unit, is := strings.CutSuffix(name, ".service")
		return is && !slices.Contains(units, unit)
	})
	return out
}

// debianReads is the rule for names of Debian's cron(8) and run-parts(8).
func debianReads(name string) bool {
	return !strings.ContainsFunc(name, func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '_' && c != '-'
	})
}

// cronieReads is that of the cron and run-parts of others: names that do not look like a copy.
func cronieReads(name string) bool {
	copied := strings.HasSuffix(name, "~") || strings.HasSuffix(name, ".swp") || strings.Contains(name, ".rpm")
	return !copied && !strings.HasPrefix(name, ".")
}

// tasked lists what tasks tell package managers: commands with an option that decides, and what is put into the environment
// of any command of theirs.
func tasked(_ []byte, lines []string) (out []string) {
	runs := false
	for _, l := range joined(lines) {
		is, decides := commands(l)
		if runs = runs || is; decides {
			out = append(out, l)
		}
	}
	if runs {
		out = append(out, assigned(nil, lines)...)
		out = append(out, assignedMore(nil, lines)...)
	}
	return out
}

// joined are lines with those that a backslash goes on with put together.
func joined(lines []string) (out []string) {
	open := false
	for _, l := range lines {
		rest, more := strings.CutSuffix(l, `\`)
		if open {
			out[len(out)-1] += rest
		} else {
			out = append(out, rest)
		}
		open = more
	}
	return out
}

// commands reports whether a line runs a package manager, and whether it tells one what decides.
func commands(line string) (runs, decides bool) {
	words := strings.FieldsFunc(line, func(c rune) bool { return strings.ContainsRune(" \t\"'`;&|()", c) })
	of := ""
	for i, w := range words {
		if setting, command, is := strings.Cut(w, "="); is && strings.HasPrefix(setting, "Exec") { // of a unit
			w = command
		}
		name := path.Base(strings.TrimLeft(w, "@-+!:"))
		switch arranges := slices.Contains(arranging, name); {
		case !strings.HasPrefix(w, "--") && !strings.Contains(w, "://") && (arranges || managing(name)):
			of, runs, decides = name, true, decides || arranges
		case of != "":
			decides = decides || tells(of, w, words[i+1:])
		}
	}
	return runs, decides
}

// arranging are programs that are there to change what package managers go by, whatever they are told.
var arranging = []string{"add-apt-repository", "apt-add-repository", "apt-key", "pacman-key", "rpmkeys", "yum-config-manager"}

// tells reports whether a word says to a package manager what decides where packages come from, what is believed, or what
// runs. What stands behind the word is given beside it.
func tells(program, word string, behind []string) bool {
	kind := kindOf(program)
	option, isOption := strings.CutPrefix(word, "--")
	switch {
	case strings.Contains(word, "://"):
		return true
	case kind == "apt" && (word == "-o" || option == "option"):
		return len(behind) > 0 && !quietOption(behind[0])
	case kind == "apt" && strings.HasPrefix(word, "-o"):
		return !quietOption(strings.TrimPrefix(word[2:], "="))
	case strings.HasPrefix(option, "option="):
		return !quietOption(option[len("option="):])
	case isOption:
		option, _, _ = strings.Cut(option, "=")
		if strings.HasPrefix(option, "force-conf") { // which file of a package's configuration stays
			return false
		}
		return slices.ContainsFunc(decidingOptions, func(o string) bool { return spells(option, o) })
	}
	return slices.ContainsFunc(decidingWords[kind], func(o string) bool { return spells(word, o) })
}

// spells reports whether a word is one of those that a table means; * stands for anything behind.
func spells(word, table string) bool {
	begin, open := strings.CutSuffix(table, "*")
	return word == table || open && strings.HasPrefix(word, begin)
}

// kindOf is the program whose words another takes as well.
func kindOf(program string) string {
	switch program {
	case "apt-get", "apt-cache", "aptitude", "unattended-upgrade":
		return "apt"
	case "dnf-3", "dnf4", "dnf5", "microdnf", "yum":
		return "dnf"
	}
	return program
}

// quietOption reports whether a setting that apt is given with a command decides nothing of what is told here.
func quietOption(setting string) bool {
	setting = strings.ToLower(setting)
	return slices.ContainsFunc([]string{
		"dpkg::options::=--force-conf", "dpkg::use-pty", "dpkg::lock", "dpkg::progress", "apt::get::assume-", "apt::get::list-cleanup",
		"apt::color", "apt::install-", "quiet", "debug::", "acquire::retries", "acquire::http::timeout", "acquire::https::timeout",
		"acquire::queue", "acquire::languages",
	}, func(p string) bool { return strings.HasPrefix(setting, p) })
}

// decidingOptions are the long options of package managers that decide; * stands for anything behind.
var decidingOptions = strings.Fields(`
	allow-unauthenticated allow-insecure* allow-weak* allow-downgrades allow-releaseinfo-change* allow-change-held-packages
	allow-vendor-change allow-unsigned* force* no-gpg* nogpg* gpg* no-verify noverify nosignature nodigest no-sign-verify trusted
	config config-file default-release target-release setopt repo* enablerepo enable-repo disablerepo disable-repo plus-*
	releasever installroot root sysroot disableexclude* disable-exclude* exclude* forcearch noplugins disableplugin* from install
	unpack upgrade freshen import define macros rcfile dbpath hookdir cachedir ignore* assume-installed overwrite sideload-repo
	collection-id subset instdir admindir erase remove purge vendors-dir reposd-dir
`)

// decidingWords are commands and short options that decide, by program; * stands for anything behind.
var decidingWords = map[string][]string{
	"apt":     {"-c*", "-t*", "edit-sources"},
	"dpkg":    {"-i", "-r", "-P", "-A"},
	"dnf":     {"-c", "-x", "config-manager", "copr", "versionlock", "module"},
	"rpm":     {"-i*", "-U*", "-F*", "-D*", "-e"},
	"pacman":  {"-U*", "-b*", "-r*"},
	"flatpak": {"remote-add", "remote-modify", "remote-delete", "mask", "pin"},
	"ostree":  {"remote"},
	"zypper": strings.Fields(`-c -C -p -R -D ar addrepo mr modifyrepo rr removerepo nr renamerepo as addservice ms modifyservice
		rs removeservice al addlock rl removelock`),
}
