package deb

import (
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// touching are the settings of apt that decide where packages come from, what is believed,
// through whom it is fetched and what runs on the way: apt.conf(5), apt-secure(8) and
// apt-transport-https(1). The defaults are those of apt 2.6, as apt-config shows them where
// nothing is configured; settings_test.go asks it.
var touching = []family.Touch{
	{Name: "RootDir", Default: "/", Touches: family.Both(family.Origin, family.Trust), Since: source.Rooted},
	{Name: "Dir", Default: "/", Touches: family.Both(family.Origin, family.Trust)},
	{Name: "Dir::Etc", Default: "etc/apt", Touches: family.Both(family.Origin, family.Trust)},
	{Name: "Dir::Etc::main", Default: "apt.conf", Touches: family.Both(family.Origin, family.Trust)},
	{Name: "Dir::Etc::parts", Default: "apt.conf.d", Touches: family.Both(family.Origin, family.Trust)},
	{Name: "Dir::Etc::sourcelist", Default: "sources.list", Touches: family.Origin},
	{Name: "Dir::Etc::sourceparts", Default: "sources.list.d", Touches: family.Origin},
	{Name: "Dir::Etc::preferences", Default: "preferences", Touches: family.Origin},
	{Name: "Dir::Etc::preferencesparts", Default: "preferences.d", Touches: family.Origin},
	{Name: "Dir::Etc::trusted", Default: "trusted.gpg", Touches: family.Trust},
	{Name: "Dir::Etc::trustedparts", Default: "trusted.gpg.d", Touches: family.Trust},
	{Name: "Dir::Etc::netrc", Default: "auth.conf", Touches: family.Transport},
	{Name: "Dir::Etc::netrcparts", Default: "auth.conf.d", Touches: family.Transport},
	{Name: "Dir::Cache", Default: "var/cache/apt", Touches: family.Origin, Since: 5},
	{Name: "Dir::Cache::archives", Default: "archives/", Touches: family.Origin, Since: 5},
	{Name: "Dir::State", Default: "var/lib/apt", Touches: family.Origin},
	{Name: "Dir::State::lists", Default: "lists/", Touches: family.Origin},
	{Name: "Dir::State::status", Default: Status, Touches: family.Origin},
	{Name: "Dir::State::extended_states", Default: "extended_states", Touches: family.Origin},
	{Name: "Dir::Bin::methods", Default: "/usr/lib/apt/methods", Touches: family.Program},
	{Name: "Dir::Bin::dpkg", Default: "/usr/bin/dpkg", Touches: family.Program},
	{Name: "Dir::Bin::gzip", Default: "/bin/gzip", Touches: family.Program},
	{Name: "Dir::Bin::bzip2", Default: "/bin/bzip2", Touches: family.Program},
	{Name: "Dir::Bin::xz", Default: "/usr/bin/xz", Touches: family.Program},
	{Name: "Dir::Bin::lz4", Default: "/usr/bin/lz4", Touches: family.Program},
	{Name: "Dir::Bin::zstd", Default: "/usr/bin/zstd", Touches: family.Program},
	{Name: "Dir::Bin::lzma", Default: "/usr/bin/xz", Touches: family.Program},
	{Name: "Dir::Bin::**", Touches: family.Program},
	{Name: "APT::Architecture", Touches: family.Origin},
	{Name: "APT::Architectures", Touches: family.Origin},
	{Name: "APT::Architectures::**", Touches: family.Origin},
	{Name: "APT::BarbarianArchitectures", Touches: family.Origin},
	{Name: "APT::BarbarianArchitectures::**", Touches: family.Origin},
	{Name: "APT::Default-Release", Touches: family.Origin},
	{Name: "APT::Ignore-Hold", Touches: family.Origin},
	{Name: "APT::Sources::With", Touches: family.Both(family.Origin, family.Trust), Since: 3},
	{Name: "APT::Sources::With::**", Touches: family.Both(family.Origin, family.Trust), Since: 3},
	{Name: "APT::Machine-ID", Touches: family.Origin, Since: 3},
	{Name: "Dir::Etc::machine-id", Default: "../machine-id", Touches: family.Origin, Since: 3},
	{Name: "APT::Get::Always-Include-Phased-Updates", Default: "false", Touches: family.Origin, Since: 3},
	{Name: "APT::Get::Never-Include-Phased-Updates", Default: "false", Touches: family.Origin, Since: 3},
	{Name: "APT::Get::Phase-Policy", Default: "false", Touches: family.Origin, Since: 3},
	{Name: "Update-Manager::Always-Include-Phased-Updates", Default: "false", Touches: family.Origin, Since: source.Scopes},
	{Name: "Update-Manager::Never-Include-Phased-Updates", Default: "false", Touches: family.Origin, Since: source.Scopes},
	{Name: "pkgCacheGen::ForceEssential", Touches: family.Origin, Since: source.Scopes},
	{Name: "pkgCacheGen::ForceEssential::**", Touches: family.Origin, Since: source.Scopes},
	{Name: "APT::Snapshot", Touches: family.Origin},
	{Name: "APT::Architecture-Variants", Touches: family.Origin},
	{Name: "APT::Architecture-Variants::**", Touches: family.Origin},
	{Name: "Dir::dpkg::varianttable", Touches: family.Origin},
	{Name: "Acquire::Snapshots::**", Touches: family.Origin},
	{Name: "APT::Get::AllowUnauthenticated", Default: "false", Touches: family.Trust},
	{Name: "APT::Get::Force-Yes", Default: "false", Touches: family.Both(family.Trust, family.Origin)},
	{Name: "APT::Get::Allow-Downgrades", Default: "false", Touches: family.Origin},
	{Name: "APT::Get::allow-change-held-packages", Default: "false", Touches: family.Origin, Since: 1},
	{Name: "APT::Authentication::TrustCDROM", Default: "false", Touches: family.Trust},
	{Name: "APT::Sandbox::User", Default: "_apt", Touches: family.Trust},
	{Name: "APT::Sandbox::Verify", Touches: family.Trust, Since: 3},
	{Name: "APT::Sandbox::Verify::**", Touches: family.Trust, Since: 3},
	{Name: "Debug::NoDropPrivs", Default: "false", Touches: family.Trust, Since: source.Scopes},
	{Name: "Debug::pkgDPkgPM", Default: "false", Touches: family.Origin, Since: source.Scopes},
	{Name: "APT::Sandbox::ResetEnvironment", Default: "true", Touches: family.Transport, Since: 3},
	{Name: "APT::Sandbox::Seccomp", Default: "false", Touches: family.Program},
	{Name: "APT::Sandbox::Seccomp::**", Touches: family.Program},
	{Name: "APT::Key::gpgvcommand", Touches: family.Both(family.Trust, family.Program)},
	{Name: "APT::Key::gpgcommand", Touches: family.Both(family.Trust, family.Program)},
	{Name: "APT::Key::**", Touches: family.Trust},
	{Name: "APT::GPGV::**", Touches: family.Trust},
	{Name: "APT::Hashes::**", Touches: family.Trust},
	{Name: "APT::Update::Pre-Invoke::**", Touches: family.Program},
	{Name: "APT::Update::Post-Invoke::**", Touches: family.Program},
	{Name: "APT::Update::Post-Invoke-Success::**", Touches: family.Program},
	{Name: "APT::Update::Post-Invoke-Stats::**", Touches: family.Program, Since: 3},
	{Name: "APT::Update::Auth-Failure::**", Touches: family.Program, Since: 3},
	{Name: "APT::Install::Pre-Invoke::**", Touches: family.Program, Since: 3},
	{Name: "APT::Install::Post-Invoke-Success::**", Touches: family.Program, Since: 3},
	{Name: "AptCli::Hooks::**", Touches: family.Program, Since: source.Scopes},
	{Name: "Methods::Mirror::ProblemReporting", Touches: family.Program, Since: source.Scopes},
	{Name: "APT::System", Touches: family.Origin, Since: source.Scopes},
	{Name: "APT::Solver", Touches: family.Program},
	{Name: "APT::Planner", Touches: family.Program},
	{Name: "APT::Solver::RunAsUser", Touches: family.Program, Since: 3},
	{Name: "APT::Planner::RunAsUser", Touches: family.Program, Since: 3},
	{Name: "APT::Solver::Strict-Pinning", Default: "true", Touches: family.Origin, Since: 3},
	{Name: "APT::Solver::Defer-Version-Selection", Touches: family.Origin, Since: 3},
	{Name: "APT::Compressor::*::Binary", Touches: family.Program},
	{Name: "APT::Compressor::*::CompressArg::**", Touches: family.Program},
	{Name: "APT::Compressor::*::UncompressArg::**", Touches: family.Program},
	{Name: "Acquire::AllowInsecureRepositories", Default: "0", Touches: family.Trust},
	{Name: "Acquire::AllowWeakRepositories", Default: "0", Touches: family.Trust},
	{Name: "Acquire::AllowDowngradeToInsecureRepositories", Default: "0", Touches: family.Trust},
	{Name: "Acquire::AllowReleaseInfoChange", Default: "false", Touches: family.Both(family.Trust, family.Origin)},
	{Name: "Acquire::AllowReleaseInfoChange::*", Touches: family.Both(family.Trust, family.Origin)},
	{Name: "Acquire::Check-Valid-Until", Default: "true", Touches: family.Trust},
	{Name: "Acquire::Check-Valid-Until::**", Touches: family.Trust},
	{Name: "Acquire::Check-Date", Default: "true", Touches: family.Trust},
	{Name: "Acquire::Check-Date::**", Touches: family.Trust},
	{Name: "Acquire::Max-ValidTime", Touches: family.Trust},
	{Name: "Acquire::Max-ValidTime::**", Touches: family.Trust},
	{Name: "Acquire::Min-ValidTime", Touches: family.Trust},
	{Name: "Acquire::Min-ValidTime::**", Touches: family.Trust},
	{Name: "Acquire::Max-FutureTime", Touches: family.Trust},
	{Name: "Acquire::Max-FutureTime::**", Touches: family.Trust},
	{Name: "Acquire::ForceHash", Touches: family.Trust},
	{Name: "Acquire::AllowUnsizedPackages", Default: "false", Touches: family.Trust, Since: 3},
	{Name: "Acquire::gpgv::**", Touches: family.Both(family.Trust, family.Program)},
	{Name: "Acquire::AllowTLS", Default: "true", Touches: family.Transport},
	{Name: "Acquire::EnableSrvRecords", Default: "true", Touches: family.Transport},
	{Name: "Acquire::BlockDotOnion", Default: "true", Touches: family.Transport},
	{Name: "Acquire::cdrom::mount", Default: "/media/cdrom/", Touches: family.Origin},
	{Name: "Acquire::cdrom::*::Mount", Touches: family.Program},
	{Name: "Acquire::cdrom::*::UMount", Touches: family.Program},
	{Name: "Acquire::IndexTargets::deb::Packages::**", Touches: family.Origin},
	{Name: "Acquire::IndexTargets::deb-src::Sources::**", Touches: family.Origin},
	{Name: "Acquire::*::AllowRedirect", Default: "true", Touches: family.Transport},
	{Name: "Acquire::*::Proxy", Touches: family.Transport},
	{Name: "Acquire::*::Proxy::**", Touches: family.Transport},
	{Name: "Acquire::*::Proxy-Auto-Detect", Touches: family.Both(family.Transport, family.Program)},
	{Name: "Acquire::*::ProxyAutoDetect", Touches: family.Both(family.Transport, family.Program)},
	{Name: "Acquire::*::ProxyLogin::**", Touches: family.Login},
	{Name: "Acquire::*::SendAccept", Default: "true", Touches: family.Transport},
	{Name: "Acquire::https::*", Touches: family.Transport},
	{Name: "Acquire::https::*::*", Touches: family.Transport},
	{Name: "Acquire::*::*::AllowRedirect", Touches: family.Transport, Since: source.Vouching},
	{Name: "Acquire::*::*::SendAccept", Touches: family.Transport, Since: source.Vouching},
	{Name: "Acquire::ssh::**", Touches: family.Both(family.Transport, family.Program)},
	{Name: "Acquire::rsh::**", Touches: family.Both(family.Transport, family.Program)},
	{Name: "DPkg::Pre-Invoke::**", Touches: family.Program},
	{Name: "DPkg::Post-Invoke::**", Touches: family.Program},
	{Name: "DPkg::Pre-Install-Pkgs::**", Touches: family.Program},
	{Name: "DPkg::Tools::**", Touches: family.Program},
	{Name: "DPkg::Options::**", Touches: family.Program},
	{Name: "DPkg::Chroot-Directory", Touches: family.Program},
	{Name: "Unattended-Upgrade::Allowed-Origins::**", Touches: family.Origin, Since: 1},
	{Name: "Unattended-Upgrade::Origins-Pattern::**", Touches: family.Origin, Since: 1},
	{Name: "Unattended-Upgrade::Package-Blacklist::**", Touches: family.Origin, Since: 1},
	{Name: "Unattended-Upgrade::Package-Whitelist::**", Touches: family.Origin, Since: 1},
	{Name: "Unattended-Upgrade::Allow-downgrade", Default: "false", Touches: family.Origin, Since: 1},
	{Name: "DPkg::Path", Default: "/usr/sbin:/usr/bin:/sbin:/bin", Touches: family.Program},
}

// harmlessHTTPS are settings of the transport that decide nothing about it.
var harmlessHTTPS = map[string]bool{
	"timeout": true, "user-agent": true, "dl-limit": true, "pipeline-depth": true, "max-age": true, "no-cache": true, "no-store": true,
	"connectionattemptdelaymsec": true, "user-agent-non-interactive": true,
}

// programs are those of apt's programs of whose own settings, which stand below Binary::NAME, earlier readers knew.
// Others have such settings, too, and so has each method by which apt fetches or verifies.
var programs = map[string]bool{"apt": true, "apt-get": true, "apt-cache": true, "apt-key": true, "apt-cdrom": true, "aptitude": true}

// ofServers are the options by which apt's methods make sure of a server. Each method looks for them under its own name
// and under that of http, for all hosts and for one.
func ofServers() (out []family.Touch) {
	for _, option := range []string{"CaInfo", "CrlFile", "IssuerCert", "SslCert", "SslKey", "SslForceVersion", "Verify-Peer", "Verify-Host"} {
		for _, of := range []string{"Acquire::*::", "Acquire::*::*::"} {
			out = append(out, family.Touch{Name: of + option, Touches: family.Transport, Since: source.Vouching})
		}
	}
	return out
}

// rows are the rows of the table by the first part of a name, in small letters.
var rows = func() map[string][]row {
	out, all := map[string][]row{}, append(touching, ofServers()...)
	for i := range all {
		pattern := strings.Split(strings.ToLower(all[i].Name), "::")
		out[pattern[0]] = append(out[pattern[0]], row{pattern, &all[i]})
	}
	return out
}()

type row struct {
	pattern []string
	touch   *family.Touch
}

// touch finds the row for a setting; nil where it decides nothing.
func touch(name string) *family.Touch {
	parts, lately := strings.Split(strings.ToLower(name), "::"), false
	if len(parts) > 2 && parts[0] == "binary" {
		lately, parts = !programs[parts[1]], parts[2:]
	}
	if len(parts) > 2 && parts[1] == "https" && harmlessHTTPS[parts[len(parts)-1]] {
		return nil
	}
	for _, r := range rows[parts[0]] {
		if matches(r.pattern, parts) {
			if t := *r.touch; lately {
				t.Since = max(t.Since, source.Scopes)
				return &t
			}
			return r.touch
		}
	}
	return nil
}

func matches(pattern, name []string) bool {
	for i, part := range pattern {
		switch {
		case part == "**":
			return len(name) > i
		case i >= len(name):
			return false
		case part != "*" && part != name[i]:
			return false
		case part == "*" && name[i] == "":
			return false
		}
	}
	return len(pattern) == len(name)
}

// settings lists what apt.conf decides.
func (r *reader) settings() {
	r.conf.Walk(func(name, value, file string, line int) {
		t := touch(name)
		if t == nil || file == "" || value == t.Default || value == "" && (t.Default == "" || t.Default == "/") { // an empty root is none
			return
		}
		if on, off := isTrue(t.Default, false), isTrue(t.Default, true); on == off && t.Default != "" &&
			isTrue(value, false) == isTrue(value, true) && isTrue(value, false) == on {
			return // another spelling of what holds anyway
		}
		r.SetAs(*t, name, value, file, line)
		switch parts := strings.Split(strings.ToLower(name), "::"); parts[len(parts)-1] {
		case "cainfo":
			r.Vouch = append(r.Vouch, value)
		case "sslcert":
			of := "" // every server
			if len(parts) > 3 {
				of = parts[len(parts)-2]
			}
			r.Certificate(r.root, value, of, file, line)
		}
	})
}
