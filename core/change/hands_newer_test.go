package change_test

import "testing"

// What newer package managers heed, and older ones of theirs that was seldom used.

func TestWhatHandsDoWithSettingsOfNewerApts(t *testing.T) {
	const own = "etc/apt/apt.conf.d/50own"
	weak, changed, elsewhere := "setting-weakened danger", "setting-changed danger", "setting-changed fault"
	hands(t, debPlace(), []hand{
		{does: "packages from a file that nobody signed", file: own, text: "APT::Sources::With:: \"/srv/Packages\";\n", want: weak, field: "APT::Sources::With::"},
		{does: "the same in one word", file: own, text: "apt::sources::with \"/srv/tern.deb\";\n", want: weak, field: "APT::sources::with"},
		{does: "what runs before an installation", file: own, text: "APT::Install::Pre-Invoke { \"/srv/x\"; };\n", want: changed, field: "APT::Install::Pre-Invoke::"},
		{does: "what runs behind an installation", file: own, text: "APT::Install::Post-Invoke-Success:: \"/srv/x\";\n", want: changed, field: "APT::Install::Post-Invoke-Success::"},
		{does: "what runs where one may not", file: own, text: "APT::Update::Auth-Failure:: \"/srv/x\";\n", want: changed, field: "APT::Update::Auth-Failure::"},
		{does: "versions beside the pinned", file: own, text: "APT::Solver::Strict-Pinning \"false\";\n", want: elsewhere, field: "APT::Solver::Strict-Pinning"},
		{does: "never in the first phases", file: own, text: "APT::Get::Never-Include-Phased-Updates \"true\";\n", want: elsewhere, field: "APT::Get::Never-Include-Phased-Updates"},
		{does: "packages of no size", file: own, text: "Acquire::AllowUnsizedPackages \"true\";\n", want: changed, field: "Acquire::AllowUnsizedPackages"},

		{does: "what runs with an upgrade by hand", file: own, text: "AptCli::Hooks::Upgrade { \"/srv/x\"; };\n", want: changed, field: "AptCli::Hooks::Upgrade::"},
		{does: "the same for one program", file: own, text: "binary::apt::AptCli::Hooks::Install:: \"/srv/x\";\n", want: changed, field: "binary::apt::AptCli::Hooks::Install::"},
		{does: "what runs where a mirror fails", file: own, text: "Methods::Mirror::ProblemReporting \"/srv/x\";\n", want: changed, field: "Methods::Mirror::ProblemReporting"},
		{does: "methods stay root", file: own, text: "Debug::NoDropPrivs \"true\";\n", want: changed, field: "Debug::NoDropPrivs"},
		{does: "what verifies stays root", file: own, text: "Binary::gpgv::APT::Sandbox::User \"root\";\n", want: changed, field: "Binary::gpgv::APT::Sandbox::User"},
		{does: "any server for what fetches", file: own, text: "Binary::https::Acquire::https::Verify-Peer \"false\";\n", want: weak, field: "Binary::https::Acquire::https::Verify-Peer"},
		{does: "a proxy for what fetches", file: own, text: "Binary { http { Acquire { http { Proxy \"http://elsewhere.example:1\"; }; }; }; };\n", want: elsewhere, field: "Binary::http::Acquire::http::Proxy"},
		{does: "nothing is installed any more", file: own, text: "Debug::pkgDPkgPM \"yes\";\n", want: elsewhere, field: "Debug::pkgDPkgPM"},
		{does: "in all phases, said by another name", file: own, text: "Update-Manager::Always-Include-Phased-Updates \"true\";\n", want: elsewhere, field: "Update-Manager::Always-Include-Phased-Updates"},

		{does: "more words", file: own, text: "Debug::Acquire::https \"true\";\nDebug::pkgProblemResolver \"1\";\n"},
		{does: "colours of one program", file: own, text: "Binary::apt::APT::Color \"0\";\nBinary::https::Acquire::https::Timeout \"9\";\n"},
		{does: "methods give up rights as ever", file: own, text: "Debug::NoDropPrivs \"no\";\n"},
		{does: "pins are strict as ever", file: own, text: "APT::Solver::Strict-Pinning \"yes\";\n"},
		{does: "a solver with more time", file: own, text: "APT::Solver::Timeout \"30\";\n"},
	})
}

func TestWhatHandsDoWithNewerDnfs(t *testing.T) {
	const main, own = "etc/dnf/dnf.conf", "etc/dnf/vendors.d/own.conf"
	changed, elsewhere := "setting-changed danger", "setting-changed fault"
	hands(t, five(rpmPlace()).with(tree{main: "[main]\ngpgcheck=1\n", own: "version = \"1.1\"\n# ours\n"}), []hand{
		{does: "another meaning of a check", file: main, from: "gpgcheck=1", text: "gpgcheck=1\ngpgcheck_policy=full", want: changed, field: "main.gpgcheck_policy"},
		{does: "never down", file: main, from: "gpgcheck=1", text: "gpgcheck=1\nallow_downgrade=0", want: elsewhere, field: "main.allow_downgrade"},
		{does: "plugins told elsewhere", file: main, from: "gpgcheck=1", text: "gpgcheck=1\nplugin_conf_dir=/srv/plugins", want: changed, field: "main.plugin_conf_dir"},
		{does: "vendors may take each other's place", file: own, from: "# ours", text: "[[outgoing_vendors]]\nvendor = \"Saltmarsh\"", want: elsewhere, field: "origin"},

		{does: "a comment on vendors", file: own, from: "# ours", text: "# theirs"},
		{does: "the usual meaning, said", file: main, from: "gpgcheck=1", text: "gpgcheck=1\ngpgcheck_policy=legacy"},
	})
}

func TestWhatHandsDoWithNewerZyppers(t *testing.T) {
	const drop, vendors = "etc/zypp/zypp.conf.d/own.conf", "usr/etc/zypp/zypp.conf.d/10-vendor.conf"
	weak, changed, elsewhere := "setting-weakened danger", "setting-changed danger", "setting-changed fault"
	p := zyppPlace(t).with(tree{drop: "[main]\nmultiversion = provides:multiversion(kernel)\n", vendors: "[main]\nsolver.onlyRequires = false\n"})
	hands(t, p, []hand{
		{does: "nothing is checked", file: drop, from: "[main]", text: "[main]\ngpgcheck = off", want: weak, field: "main.gpgcheck"},
		{does: "vendors take each other's place", file: drop, from: "[main]", text: "[main]\nsolver.allowVendorChange = yes", want: elsewhere, field: "main.solver.allowVendorChange"},
		{does: "in the place of the vendor's file", file: "etc/zypp/zypp.conf.d/10-vendor.conf", text: "[main]\nrepo_gpgcheck = off\n", want: weak, field: "main.repo_gpgcheck"},
		{does: "in the vendor's own file", file: vendors, from: "[main]", text: "[main]\npkg_gpgcheck = off", want: weak, field: "main.pkg_gpgcheck", stays: true},
		{does: "a proxy for zypper alone", file: drop, from: "[main]", text: "[env]\nhttps_proxy = http://elsewhere.example:3128\n[main]", want: changed, field: "env.https_proxy"},

		{does: "more connections at once", file: drop, from: "[main]", text: "[main]\ndownload.max_concurrent_connections = 9"},
		{does: "a file of another name", file: "etc/zypp/zypp.conf.d/own.conf.rpmsave", text: "[main]\ngpgcheck = off\n"},
		{does: "what a drop-in takes back", file: zyppConf, from: "solver.allowVendorChange = false", text: "solver.allowVendorChange = false\n# again"},
	})
}

// An older libzypp reads one file. That somebody writes others is told as long as nobody knows what for.
func TestWhatHandsDoWithOlderZyppers(t *testing.T) {
	const drop = "etc/zypp/zypp.conf.d/own.conf"
	hands(t, zyppPlace(t).with(tree{"usr/lib64/libzypp.so.1722": "", drop: "[main]\nmultiversion = provides:multiversion(kernel)\n"}), []hand{
		{does: "nothing is checked", file: drop, from: "[main]", text: "[main]\ngpgcheck = off", want: "setting-weakened danger", field: "gpgcheck = off"},
		{does: "where older ones do not look", file: "usr/etc/zypp/zypp.conf", text: "[main]\ngpgcheck = off\n"},
	})
}

func TestWhatHandsDoWithNewerPacmans(t *testing.T) {
	changed, elsewhere := "setting-changed danger", "changed-source fault"
	hands(t, archPlace(), []hand{
		{does: "no sandbox", file: pacFile, from: "[options]\n", text: "[options]\nDisableSandbox\n", want: changed, field: "options.DisableSandbox"},
		{does: "half a sandbox", file: pacFile, from: "[options]\n", text: "[options]\nDisableSandboxSyscalls\n", want: changed, field: "options.DisableSandboxSyscalls"},
		{does: "somebody else downloads", file: pacFile, from: "[options]\n", text: "[options]\nDownloadUser = ola\n", want: changed, field: "options.DownloadUser"},
		{does: "packages from elsewhere first", file: pacFile, from: "[core]\n", text: "[core]\nCacheServer = http://elsewhere.example/$repo\n", want: elsewhere, field: "cacheserver"},
	})
}
