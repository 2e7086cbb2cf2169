package change_test

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
)

const proxied = "http_proxy=http://elsewhere.example:3128"

func TestWhatHandsDoAroundApt(t *testing.T) {
	const hosts, env, unit = "etc/hosts", "etc/environment", "etc/systemd/system/apt-daily.service.d/own.conf"
	change, elsewhere := "setting-changed danger", "setting-changed fault"
	hands(t, debPlace().with(tree{
		hosts: "127.0.0.1 localhost\n127.0.1.1 gw-01\n", env: "PATH=\"/usr/sbin:/usr/bin\"\n",
		"etc/profile": "export PS1='$ '\n", "etc/profile.d/quoted.sh": "export http_proxy=\"http://proxy.brinewick.test:3128\"\n", unit: "[Service]\nNice=5\n", "etc/ca-certificates.conf": "mozilla/A.crt\n",
	}), []hand{
		{does: "another address for the archive", file: hosts, from: "127.0.1.1", text: "192.0.2.66 Archive.skerry.example mirror\n127.0.1.1", want: elsewhere, field: "transport", stays: true},
		{does: "the vendor nowhere", file: hosts, from: "gw-01", text: "gw-01 packages.saltmarsh.example", want: elsewhere, field: "transport", stays: true},
		{does: "a proxy for all", file: env, text: proxied + "\n", want: elsewhere, field: "transport", stays: true},
		{does: "a proxy for some", file: env, text: "no_proxy=\"localhost,packages.saltmarsh.example\"\n", want: elsewhere, field: "transport", stays: true},
		{does: "another proxy in quotes", file: "etc/profile.d/quoted.sh", text: "export http_proxy=\"http://elsewhere.example:3128\"\n", want: elsewhere, field: "transport", stays: true},
		{does: "a proxy of a login", file: "etc/profile.d/proxy.sh", text: "if true; then\n  export " + strings.ToUpper(proxied[:10]) + proxied[10:] + "\nfi\n", want: elsewhere, field: "transport", stays: true},
		{does: "a proxy by pam", file: "etc/security/pam_env.conf", text: "http_proxy DEFAULT=http://elsewhere.example:3128\n", want: elsewhere, field: "transport", stays: true},
		{does: "a proxy for what systemd starts", file: "etc/systemd/system.conf.d/own.conf", text: "[Manager]\nDefaultEnvironment=\"A=b\" \"" + proxied + "\"\n", want: elsewhere, field: "transport", stays: true},
		{does: "a proxy for every unit", file: "etc/systemd/system/service.d/own.conf", text: "[Service]\nEnvironment=" + proxied + "\n", want: elsewhere, field: "transport", stays: true},
		{does: "a proxy for the timer", file: unit, text: "[Service]\nNice=5\nEnvironment=" + proxied + "\n", want: elsewhere, field: "transport", stays: true},
		{does: "what runs before the timer's", file: unit, text: "[Service]\nExecStartPre=/usr/local/bin/x\n", want: change, field: "trust, transport, program", stays: true},
		{does: "variables from a file", file: unit, text: "[Service]\nEnvironmentFile=/etc/own\n", want: change, field: "trust, transport, program", stays: true},
		{does: "another configuration of apt", file: env, text: "APT_CONFIG=/srv/apt.conf\n", want: change, field: "trust, transport, program", stays: true},
		{does: "programs before the system's", file: env, text: "PATH=\"/srv/bin:/usr/sbin:/usr/bin\"\n", want: change, field: "trust, transport, program", stays: true},
		{does: "programs behind the system's", file: env, text: "PATH=\"/usr/sbin:/usr/bin:/srv/bin\"\n"},
		{does: "a variable of dnf's", file: "etc/profile.d/mirror.sh", text: "export DNF_VAR_mirror=elsewhere.example\n", want: change, field: "trust, transport, program", stays: true},
		{does: "what every script begins with", file: unit, text: "[Service]\nNice=5\nEnvironment=BASH_ENV=/srv/x.sh\n", want: change, field: "trust, transport, program", stays: true},
		{does: "a library before all", file: "root/.bashrc", text: "export LD_PRELOAD=/srv/x.so\n", want: change, field: "trust, transport, program", stays: true},
		{does: "other certificates", file: "etc/profile", from: "export PS1", text: "export SSL_CERT_FILE=/srv/roots.pem PS1", want: change, field: "trust, transport, program", stays: true},
		{does: "a root beside the anchors", file: "etc/ca-certificates/trust-source/own.p11-kit", text: "[p11-kit-object-v1]\nlabel: \"own\"\n", want: change, field: "trust, transport", stays: true},
		{does: "a library before all programs", file: "etc/ld.so.preload", text: "/srv/x.so\n", want: change, field: "program", stays: true},
		{does: "another gpgv before the system's", file: "usr/local/bin/gpgv", text: "#!/bin/sh\nexit 0\n", want: change, field: "program", stays: true},
		{does: "a binary before the system's", file: "usr/local/sbin/apt-get", text: "\x7fELF\x00\x01", want: change, field: "program", stays: true},
		{does: "another word for apt", file: "etc/profile.d/own.sh", text: "alias ll='ls -l' apt-get='x'; alias apt=\"apt --allow-unauthenticated\"\n", want: change, field: "program", stays: true},
		{does: "sudo hands a proxy on", file: "etc/sudoers.d/own", text: "Defaults env_keep += \"LANG https_proxy\"\n", want: change, field: "trust, transport, program", stays: true},
		{does: "sudo hands all on", file: "etc/sudoers", text: "Defaults:ola !env_reset\n", want: change, field: "trust, transport, program", stays: true},
		{does: "held packages are changed", file: confFile, from: "APT::Install-Recommends \"0\";", text: "APT::Install-Recommends \"0\"; APT::Get::allow-change-held-packages \"1\";", want: elsewhere, field: "APT::Get::allow-change-held-packages"},
		{does: "more is upgraded by itself", file: "etc/apt/apt.conf.d/50own", text: "Unattended-Upgrade::Origins-Pattern { \"origin=*\"; };\n", want: elsewhere, field: "Unattended-Upgrade::Origins-Pattern::"},

		{does: "another name of the host itself", file: hosts, from: "gw-01", text: "gw-01 gw-01.brinewick.test"},
		{does: "an address that nothing is fetched from", file: hosts, from: "127.0.1.1", text: "192.0.2.9 tern.brinewick.test\n127.0.1.1"},
		{does: "an address in a comment", file: hosts, from: "127.0.1.1", text: "# 192.0.2.66 archive.skerry.example\n127.0.1.1"},
		{does: "a name in the words behind", file: hosts, from: "gw-01", text: "gw-01 # not archive.skerry.example"},
		{does: "a longer name", file: hosts, from: "gw-01", text: "gw-01 not-archive.skerry.example"},
		{does: "another variable", file: env, text: "PATH=\"/usr/sbin:/usr/bin\"\nLANG=C.UTF-8\nnot_http_proxy=x\n"},
		{does: "another prompt", file: "etc/profile", from: "'$ '", text: "'# '"},
		{does: "politer", file: unit, from: "Nice=5", text: "Nice=9\nEnvironment=LANG=C"},
		{does: "what apt-key asks for its configuration", file: "usr/local/bin/apt-config", text: "#!/bin/sh\n", want: change, field: "program", stays: true},
		{does: "a library of apt before the package's", file: "usr/local/lib/x86_64-linux-gnu/libapt-pkg.so.6.0", text: "code", want: change, field: "program", stays: true},
		{does: "a library that verifies", file: "usr/local/lib/libgcrypt.so.20", text: "code", want: change, field: "program", stays: true},
		{does: "libraries from elsewhere", file: "etc/ld.so.conf.d/0own.conf", text: "/srv/lib\n", want: change, field: "program", stays: true},
		{does: "a module of upgrades by themselves", file: "usr/local/lib/python3.11/dist-packages/apt/__init__.py", text: "pass\n", want: change, field: "program", stays: true},
		{does: "what every Python runs first", file: "usr/local/lib/python3.11/dist-packages/own.pth", text: "import os; os.system('x')\n", want: change, field: "program", stays: true},
		{does: "the same by its name", file: "usr/local/lib/python3.11/site-packages/sitecustomize.py", text: "pass\n", want: change, field: "program", stays: true},

		{does: "code for every TLS", file: "etc/ssl/openssl.cnf", text: "[x]\ndynamic_path = /srv/x.so\n", want: change, field: "program, transport", stays: true},
		{does: "weak signatures for every TLS", file: "etc/gnutls/config", text: "[overrides]\ndefault-priority-string = NORMAL:%VERIFY_ALLOW_SIGN_WITH_SHA1\n", want: change, field: "trust, transport", stays: true},

		{does: "requests of the site's", file: "etc/ssl/openssl.cnf", text: "[req]\ndefault_bits = 4096\n"},
		{does: "another library of the site's", file: "usr/local/lib/libtern.so.1", text: "code"},
		{does: "more modules for Python", file: "usr/local/lib/python3.11/dist-packages/tern.pth", text: "/srv/tern\n"},
		{does: "a module of the site's", file: "usr/local/lib/python3.11/dist-packages/tern/__init__.py", text: "pass\n"},
		{does: "another program of the site's", file: "usr/local/bin/tern", text: "#!/bin/sh\n"},
		{does: "another word for ls", file: "etc/profile.d/own.sh", text: "alias ls='ls --color' # alias apt=x\n"},
		{does: "sudo hands all variables of dnf on", file: "etc/sudoers.d/own", text: "Defaults env_keep += \"DNF_*\"\n", want: change, field: "trust, transport, program", stays: true},
		{does: "sudo looks for programs elsewhere first", file: "etc/sudoers.d/own", text: "Defaults secure_path=\"/srv/bin:/usr/sbin:/usr/bin\"\n", want: change, field: "trust, transport, program", stays: true},
		{does: "sudo looks for programs elsewhere as well", file: "etc/sudoers.d/own", text: "Defaults secure_path = /usr/local/sbin:/usr/sbin:/usr/bin:/snap/bin\n"},
		{does: "sudo hands a language on", file: "etc/sudoers.d/own", text: "Defaults env_keep += \"LANG\"\nola ALL=(ALL) /usr/bin/apt-get\n"},
		{does: "a file that sudo does not read", file: "etc/sudoers.d/own.bak", text: "Defaults !env_reset\n"},
		{does: "another unit", file: "etc/systemd/system/tern.service", text: "[Service]\nExecStart=/usr/bin/tern\nEnvironment=" + proxied + "\n"},
		{does: "a name that no shell reads", file: "etc/profile.d/proxy.sh.bak", text: "export " + proxied + "\n"},
		{does: "politely unattended", file: "etc/apt/apt.conf.d/50own", text: "Unattended-Upgrade::Mail \"root\";\n"},
	})
}

func TestWhatHandsDoAroundDnf(t *testing.T) {
	const auto, macros = "etc/dnf/automatic.conf", "usr/lib/rpm/macros.d/macros.own"
	hands(t, rpmPlace().with(tree{auto: "[commands]\nupgrade_type = default\n[base]\ndebuglevel = 1\n"}), []hand{
		{does: "nothing is checked at night", file: auto, from: "debuglevel = 1", text: "gpgcheck = 0", want: "setting-weakened danger", field: "gpgcheck = 0"},
		{does: "another proxy at night", file: auto, from: "debuglevel = 1", text: "proxy = http://elsewhere.example:3128", want: "setting-changed danger", field: "origin, trust"},
		{does: "what runs at night", file: auto, from: "[base]", text: "reboot_command = /usr/local/bin/x\n[base]", want: "setting-changed danger", field: "origin, trust"},
		{does: "macros beside rpm's own", file: macros, text: "%_pkgverify_level none\n", want: "setting-weakened danger", field: "%_pkgverify_level none", stays: true},

		{does: "quieter at night", file: auto, from: "debuglevel = 1", text: "debuglevel = 0"},
		{does: "only downloads", file: auto, from: "upgrade_type = default", text: "upgrade_type = security"},
		{does: "a macro of another kind", file: macros, text: "%tern_version 5\n"},
	})
}

func TestWhatHandsDoAroundZypper(t *testing.T) {
	const conf = "etc/zypp/zypp.conf.d/own.conf"
	hands(t, zyppPlace(t).with(tree{conf: "[main]\ndownload.max_silent_tries = 5\n"}), []hand{
		{does: "no package is checked", file: conf, from: "[main]", text: "[main]\npkg_gpgcheck = off", want: "setting-weakened danger", field: "main.pkg_gpgcheck"},
		{does: "no metadata is checked", file: conf, from: "[main]", text: "[main]\nrepo_gpgcheck = no", want: "setting-weakened danger", field: "main.repo_gpgcheck"},
	})
}

func TestWhatHandsDoAroundFlatpak(t *testing.T) {
	const filter = "etc/flatpak/gulls.filter"
	p := flatpakPlace()
	p.files = maps.Clone(p.files)
	p.files[flatConf] += "xa.filter=/" + filter + "\n"
	hands(t, p.with(tree{filter: "# theirs\ndeny *\nallow app/example.gulls.Map\n"}), []hand{
		{does: "more is let in", file: filter, from: "deny *", text: "allow *", want: "setting-changed fault", field: "origin", stays: true},
		{does: "the filter is gone", file: filter, text: "-", want: "setting-changed fault", field: "origin", stays: true},
		{does: "what is to be there", file: "etc/flatpak/preinstall.d/own.preinstall", text: "[Flatpak Preinstall example.gulls.Map]\n", want: "setting-changed fault", field: "origin"},

		{does: "a comment in the filter", file: filter, from: "# theirs", text: "# ours"},
		{does: "words that are none of a filter's", file: filter, from: "deny *", text: "deny *\nsomething else"},
	})
}

// A host whose base was read by an agent that looked less widely does not drift because it is
// looked at more closely: what nobody looked at is said, once, and what takes a check away is told.
func TestALongerReachIsNoDrift(t *testing.T) {
	p := rpmPlace().with(tree{
		"etc/environment": proxied + "\n", "etc/dnf/automatic.conf": "[base]\nsslverify = 0\n", "etc/hosts": "192.0.2.66 packages.saltmarsh.example\n",
	}).carried(t)
	now := look(p.files, p.modes, p.sheet)
	require.Equal(t, source.Reach, now.Survey.Reach)
	before := look(p.files, p.modes, p.sheet)
	before.Survey.Reach = 0
	before.Survey.Deciding = slices.DeleteFunc(before.Survey.Deciding, func(d source.Deciding) bool { return d.Since > 0 })
	var got []string
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &now.Survey, Base: &drift.Base{Sheet: p.sheet, Survey: &before.Survey}}) {
		if f.Class == drift.UnlistedSource {
			continue // it stood there before
		}
		got = append(got, f.Class+" "+f.Severity+" "+f.Field+" "+f.File)
		if f.Field == "not looked at" {
			assert.Contains(t, f.Message, "/etc/dnf/automatic.conf, /etc/environment, /etc/hosts: ")
		}
	}
	assert.ElementsMatch(t, []string{"setting-changed note not looked at ", "setting-weakened danger sslverify = 0 /etc/dnf/automatic.conf"}, got)
}

// Nor does one whose agent is an older one than that which read its base.
func TestAShorterReachIsNoDrift(t *testing.T) {
	p := debPlace().with(tree{
		"etc/environment": proxied + "\n", "etc/hosts": "192.0.2.66 packages.saltmarsh.example\n",
		"etc/apt/apt.conf.d/50own": "Unattended-Upgrade::Origins-Pattern { \"origin=*\"; };\n",
	}).carried(t)
	before, now := look(p.files, p.modes, p.sheet), look(p.files, p.modes, p.sheet)
	now.Survey.Reach = 0
	now.Survey.Deciding = slices.DeleteFunc(now.Survey.Deciding, func(d source.Deciding) bool { return d.Since > 0 })
	now.Survey.Settings = slices.DeleteFunc(now.Survey.Settings, func(s source.Setting) bool { return s.Since > 0 })
	require.NotEqual(t, before.Survey.Settings, now.Survey.Settings)
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &now.Survey, Base: &drift.Base{Sheet: p.sheet, Survey: &before.Survey}}) {
		assert.NotEqual(t, drift.SettingChanged, f.Class, f.Message)
	}
}

// An address of a host counts while it is fetched from, before and after: a repository that comes
// or goes brings no finding about what stands in a file that nobody touched.
func TestAddressesCountOfWhatIsFetched(t *testing.T) {
	p := debPlace().with(tree{"etc/hosts": "192.0.2.66 packages.saltmarsh.example\n192.0.2.67 packages.plover.example\n"})
	carried := p.carried(t)
	was, is := look(p.files, p.modes, p.sheet), look(carried.files, carried.modes, p.sheet)
	require.NotEqual(t, was.Survey.FetchedFrom(), is.Survey.FetchedFrom())
	for _, from := range []*source.Survey{&was.Survey, &is.Survey} {
		for _, to := range []*source.Survey{&was.Survey, &is.Survey} {
			for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: to, Base: &drift.Base{Sheet: p.sheet, Survey: from}}) {
				assert.NotEqual(t, source.HostsFile, f.File, f.Message)
			}
		}
	}
}
