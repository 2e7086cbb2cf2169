package rpm

import (
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// deciding is what decides beside dnf's own configuration: streams of modules, other words for
// commands, what runs around a transaction, and what the dnf to come reads on top. What rpm itself is told stands in beneath.
var deciding = []family.Deciding{
	{Path: "/etc/dnf/modules.d", Names: family.Suffix(".module"), Touches: family.Origin, Comment: "#;"},
	{Path: "/etc/dnf/modules.defaults.d", Names: family.Suffix(".yaml"), Touches: family.Origin, Comment: "#"},
	{Path: "/etc/dnf/aliases.d", Names: aliases, Touches: family.Program, Comment: "#;"},
	{Path: "/etc/dnf/dnf5-aliases.d", Names: family.Suffix(".conf"), Touches: family.Program, Comment: "#;"},
	{Path: "/etc/dnf/plugins/pre-transaction-actions.d", Names: family.Suffix(".action"), Touches: family.Program, Comment: "#"},
	{Path: "/etc/dnf/plugins/post-transaction-actions.d", Names: family.Suffix(".action"), Touches: family.Program, Comment: "#"},
	{Path: "/etc/dnf/libdnf5-plugins", Names: family.Suffix(".conf"), Touches: family.Program, Comment: "#;"},
	{Path: "/etc/dnf/libdnf5-plugins/actions.d", Names: family.Suffix(".actions"), Touches: family.Program, Comment: "#"},
	{Path: "/etc/dnf/libdnf5.conf.d", Names: family.Suffix(".conf"), Touches: originAndTrust, Comment: "#;"},
	{Path: "/etc/dnf/repos.override.d", Names: family.Suffix(".repo"), Touches: originAndTrust, Comment: "#;"},
	{Path: "/usr/share/dnf5/libdnf.conf.d", Names: family.Suffix(".conf"), Touches: originAndTrust, Comment: "#;", Stays: true},
	{Path: "/usr/share/dnf5/repos.override.d", Names: family.Suffix(".repo"), Touches: originAndTrust, Comment: "#;", Stays: true},
	{Path: "/etc/dnf/vendors.d", Names: family.Suffix(".conf"), Touches: family.Origin, Comment: "#", Since: 3},
	{Path: "/usr/share/dnf5/vendors.d", Names: family.Suffix(".conf"), Touches: family.Origin, Comment: "#", Stays: true, Since: 3},
	{Path: "/etc/dnf/versionlock.toml", Touches: family.Origin, Comment: "#"},
	{Path: "/etc/dnf/automatic.conf", Touches: originAndTrust, Comment: "#;", All: unattended, Since: 1},
	{Path: "/etc/dnf/dnf5-plugins/automatic.conf", Touches: originAndTrust, Comment: "#;", All: unattended, Since: 1},
	{Path: "/etc/yum/yum-cron.conf", Touches: originAndTrust, Comment: "#;", All: unattended, Since: 1},
	{Path: "/etc/yum/yum-cron-hourly.conf", Touches: originAndTrust, Comment: "#;", All: unattended, Since: 1},
}

// beneath is what rpm itself is told, whatever calls it.
var beneath = []family.Deciding{
	macros(family.Deciding{Path: "/etc/rpm/macros"}),
	macros(family.Deciding{Path: "/etc/rpm", Names: family.Prefix("macros.")}),
	macros(family.Deciding{Path: "/usr/lib/rpm/macros.d", Names: family.Prefix("macros."), Stays: true, Loose: true, Since: 1}),
	macros(family.Deciding{Path: "/usr/lib/rpm/fileattrs", Names: family.Suffix(".attr"), Stays: true, Loose: true, Since: source.Vouching}),
	macros(family.Deciding{Path: "/root/.config/rpm/macros", Since: source.Vouching}),
	macros(family.Deciding{Path: "/root/.rpmmacros"}),
	{Path: "/etc/rpm/platform", Touches: family.Origin, Comment: "#"},
	{Path: "/etc/rpmrc", Touches: trustAndProgram, Comment: "#"},
	{Path: "/root/.rpmrc", Touches: trustAndProgram, Comment: "#"},
	{Path: "/etc/crypto-policies/back-ends/rpm-sequoia.config", Touches: family.Trust, Comment: "#", Stays: true},
}

// macros is a place of files of macros.
func macros(d family.Deciding) family.Deciding {
	d.Touches, d.Comment, d.Line = trustAndProgram, "#", rpmDecides
	d.Later = &family.Later{Since: source.Scopes, Says: func(_ []byte, lines []string) []string {
		return slices.DeleteFunc(lines, func(line string) bool { return !rpmFinds(line) })
	}}
	return d
}

// Beneath is what decides on a host of another package manager that calls rpm: zypper.
func Beneath(root *rootfs.FS) []family.Deciding {
	out := told(root)
	for i := range out {
		d := &out[i]
		if d.Later != nil { // all of it is looked for since the same reader
			d.Line, d.Later = func(line string) bool { return rpmDecides(line) || rpmFinds(line) }, nil
		}
		d.Since = max(d.Since, source.Scopes)
	}
	return out
}

// KeepPlugins notes the code of plugins that rpm runs of itself, whatever calls it.
func KeepPlugins(r *family.Reading, root *rootfs.FS) {
	for _, lib := range libs {
		r.KeepSystem(root, lib+"/rpm-plugins", 0, ".so")
	}
}

// libs are where libraries and their plugins stand.
var libs = []string{"/usr/lib", "/usr/lib64"}

// told are the files by which rpm is told anything on a root.
func told(root *rootfs.FS) []family.Deciding {
	out := slices.Clone(beneath)
	entries, _ := root.ReadDir("/etc/rpm") // that it cannot be listed is said where its files are looked for
	for _, e := range entries {            // of a target: x86_64-linux
		if e.IsDir() {
			out = append(out, macros(family.Deciding{Path: path.Join("/etc/rpm", e.Name(), "macros"), Since: source.Vouching}))
		}
	}
	return out
}

// aliases reports whether dnf takes other words for its commands from a file of that name.
func aliases(name string) bool { return name[0] != '.' && family.Suffix(".conf", ".CONF")(name) }

var (
	originAndTrust  = family.Both(family.Origin, family.Trust)
	trustAndProgram = family.Both(family.Trust, family.Program)
)

// rpmMacros are the macros by which rpm is told what to believe, where its database and its
// plugins are, and what to run.
var rpmMacros = family.Prefix(
	"_pkgverify", "_vsflags", "__vsflags", "_keyring", "_db", "__db", "_gpg", "__gpg", "_openpgp", "__openpgp", "_signature",
	"__transaction", "__plugindir", "_rpmlock", "_httpproxy", "_httpport", "_netshared", "_install_script", "_query_selector", "__sh",
)

// rpmDecides reports whether a line of a file of macros decides anything. A macro over several
// lines is known by its first.
func rpmDecides(line string) bool {
	name, is := strings.CutPrefix(line, "%")
	return is && (rpmMacros(name) || strings.HasPrefix(name, "{load") || strings.HasPrefix(name, "include"))
}

// finding are the macros by which rpm finds its plugins, and a program that fetches.
var finding = []string{
	"_libdir", "_lib", "_prefix", "_exec_prefix", "_usr", "_var", "_localstatedir", "_usrlibrpm", "_rpmconfigdir", "_urlhelper",
	"__urlhelpercmd", "__urlhelperopts", "__urlhelper_localopts", "__urlhelper_proxyopts",
}

func rpmFinds(line string) bool {
	name, is := strings.CutPrefix(line, "%")
	if end := strings.IndexAny(name, " \t("); end > 0 {
		name = name[:end]
	}
	return is && slices.Contains(finding, name)
}

// unattended is what a program that upgrades by itself puts in the place of dnf's own
// configuration: its section [base]; and which programs it runs.
func unattended(_ []byte, lines []string) (out []string) {
	section := ""
	for _, l := range lines {
		switch name, _, _ := strings.Cut(l, "="); {
		case l[0] == '[':
			section = l
		case section == "[base]" && !unattendedQuiet(l):
			out = append(out, l)
		case strings.HasPrefix(l, "command_format") || strings.TrimSpace(name) == "reboot_command":
			out = append(out, l)
		}
	}
	return out
}

// unattendedQuiet are settings of [base] that decide nothing.
var unattendedQuiet = family.Prefix("debuglevel", "errorlevel", "logdir", "color", "mdpolicy", "assumeyes")

var decidingDirs = []string{"/usr/lib/rpm/macros.d", "/etc/dnf/dnf5-plugins", "/etc/yum",
	"/etc/dnf/modules.d", "/etc/dnf/modules.defaults.d", "/etc/dnf/aliases.d", "/etc/dnf/dnf5-aliases.d", "/etc/dnf/repos.override.d",
	"/etc/dnf/plugins/pre-transaction-actions.d", "/etc/dnf/plugins/post-transaction-actions.d",
	"/etc/dnf/libdnf5-plugins", "/etc/dnf/libdnf5-plugins/actions.d", "/etc/dnf/libdnf5.conf.d",
	"/etc/rpm", "/etc/crypto-policies/back-ends", "/usr/share/dnf5/repos.d", "/usr/share/dnf5/vars.d", "/usr/share/dnf5/libdnf.conf.d",
	"/usr/share/dnf5/repos.override.d",
}
