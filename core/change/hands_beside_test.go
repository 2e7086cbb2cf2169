package change_test

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/drift"
)

// with is the place with other files on it from the beginning.
func (p place) with(more tree) place {
	p.files = maps.Clone(p.files)
	maps.Copy(p.files, more)
	return p
}

func TestWhatHandsDoBesideApt(t *testing.T) {
	const cfg = "etc/dpkg/dpkg.cfg"
	hands(t, debPlace().with(tree{cfg: "# dpkg's own\nno-debsig\nlog /var/log/dpkg.log\n", "etc/dpkg/dpkg.cfg.d/own": "post-invoke=/usr/bin/true\n"}), []hand{
		{does: "what runs after dpkg", file: "etc/dpkg/dpkg.cfg.d/new", text: "pre-invoke=/usr/local/bin/x\n", want: "setting-changed danger", field: "trust, program"},
		{does: "another program", file: "etc/dpkg/dpkg.cfg.d/own", from: "/usr/bin/true", text: "/usr/local/bin/x", want: "setting-changed danger", field: "trust, program"},
		{does: "signatures are not looked at", file: cfg, text: "no-debsig\nforce-bad-verify\n", want: "setting-weakened danger", field: "force-bad-verify"},
		{does: "dependencies do not count", file: cfg, from: "no-debsig", text: "no-debsig\nforce-depends", want: "setting-changed danger", field: "trust, program"},
		{does: "another database", file: cfg, from: "no-debsig", text: "no-debsig\nadmindir=/srv/dpkg", want: "setting-changed danger", field: "trust, program"},
		{does: "gone", file: "etc/dpkg/dpkg.cfg.d/own", text: "-", want: "setting-changed danger", field: "trust, program"},
		{does: "anybody may write", file: cfg, mode: 0o666, want: "changed-mode danger", field: "mode"},
		{does: "a root of certificates", file: "usr/local/share/ca-certificates/new.crt", text: "not even a certificate\n", want: "setting-changed danger", field: "trust, transport", stays: true},

		{does: "another log", file: cfg, from: "dpkg.log", text: "other.log"},
		{does: "a comment", file: cfg, from: "# dpkg's own", text: "# see the wiki"},
		{does: "files that were edited stay", file: cfg, from: "no-debsig", text: "no-debsig\nforce-confold"},
		{does: "a quick container", file: "etc/dpkg/dpkg.cfg.d/docker", text: "force-unsafe-io\npath-exclude=/usr/share/doc/*\n"},
		{does: "a name that dpkg does not read", file: "etc/dpkg/dpkg.cfg.d/new.conf", text: "pre-invoke=/usr/local/bin/x\n"},
	})
}

func TestWhatHandsDoBesideDnf(t *testing.T) {
	const stream, alias = "etc/dnf/modules.d/gannet.module", "etc/dnf/aliases.d/own.conf"
	hands(t, rpmPlace().with(tree{
		stream: "[gannet]\nname=gannet\nstream=7\nprofiles=\nstate=enabled\n", alias: "[aliases]\nup = upgrade\n",
		"etc/rpm/macros.local": "%_topdir /srv/build\n%_pkgverify_level all\n",
	}), []hand{
		{does: "another stream", file: stream, from: "stream=7", text: "stream=8", want: "setting-changed fault", field: "origin"},
		{does: "a new stream", file: "etc/dnf/modules.d/tern.module", text: "[tern]\nstream=1\nstate=enabled\n", want: "setting-changed fault", field: "origin"},
		{does: "a module switched off", file: stream, from: "enabled", text: "disabled", want: "setting-changed fault", field: "origin"},
		{does: "other words for a command", file: alias, from: "up = upgrade", text: "up = upgrade\nin = install --enablerepo=*", want: "setting-changed danger", field: "program"},
		{does: "no signatures by another word", file: alias, from: "up = upgrade", text: "up = upgrade --nogpgcheck", want: "setting-weakened danger", field: "up = upgrade --nogpgcheck"},
		{does: "what runs after a transaction", file: "etc/dnf/plugins/post-transaction-actions.d/new.action", text: "*:in:/usr/local/bin/x\n", want: "setting-changed danger", field: "program"},
		{does: "rpm verifies nothing", file: "etc/rpm/macros.local", from: "level all", text: "level none", want: "setting-weakened danger", field: "%_pkgverify_level none"},
		{does: "rpm verifies less", file: "etc/rpm/macros.local", from: "level all", text: "level digest", want: "setting-changed danger", field: "trust, program"},
		{does: "another keyring", file: "etc/rpm/macros.keys", text: "%_keyringpath /srv/keys\n", want: "setting-changed danger", field: "trust, program"},
		{does: "plugins of rpm from elsewhere", file: "etc/rpm/macros.local", from: "%_topdir", text: "%_libdir /srv/lib\n%_topdir", want: "setting-changed danger", field: "trust, program"},
		{does: "another program that fetches for rpm", file: "root/.rpmmacros", text: "%_urlhelper /usr/local/bin/x\n", want: "setting-changed danger", field: "trust, program", stays: true},
		{does: "another platform", file: "etc/rpm/platform", text: "aarch64-redhat-linux\n", want: "setting-changed fault", field: "origin"},
		{does: "a repository written over", file: "etc/dnf/repos.override.d/99.repo", text: "[base]\nbaseurl=http://elsewhere.example/\n", want: "setting-changed danger", field: "origin, trust"},
		{does: "a check written over", file: "etc/dnf/repos.override.d/99.repo", text: "[base]\ngpgcheck=0\n", want: "setting-weakened danger", field: "gpgcheck=0"},
		{does: "a weaker policy for signatures", file: "etc/crypto-policies/back-ends/rpm-sequoia.config", text: "[hash_algorithms]\nsha1.collision_resistance = \"always\"\n", want: "setting-changed danger", field: "trust", stays: true},
		{does: "a root of certificates", file: "etc/pki/ca-trust/source/anchors/x.pem", text: "words\n", want: "setting-changed danger", field: "trust, transport", stays: true},

		{does: "a comment on a stream", file: stream, from: "[gannet]", text: "# see the wiki\n[gannet]"},
		{does: "a comment on a plugin", file: "etc/dnf/plugins/metrics.conf", from: "[main]", text: "# see the wiki\n[main]"},
		{does: "where packages are built", file: "etc/rpm/macros.local", from: "/srv/build", text: "/srv/other"},
		{does: "a macro of another kind", file: "etc/rpm/macros.lua", text: "%lua_version 5.4\n"},
		{does: "an alias that is not read", file: "etc/dnf/aliases.d/own.conf.bak", text: "[aliases]\nup = upgrade --nogpgcheck\n"},
	})
}

func TestWhatHandsDoBesideZypper(t *testing.T) {
	const vendors = "etc/zypp/vendors.d/own.conf"
	hands(t, zyppPlace(t).with(tree{vendors: "[main]\nvendors = Halyard, Saltmarsh\n", "etc/sysconfig/proxy": "PROXY_ENABLED=\"no\"\nHTTP_PROXY=\"\"\n", "etc/rpm/macros.local": "%_topdir /srv/build\n"}), []hand{
		{does: "rpm verifies nothing", file: "etc/rpm/macros.local", from: "%_topdir", text: "%_pkgverify_level none\n%_topdir", want: "setting-weakened danger", field: "%_pkgverify_level none"},
		{does: "another keyring", file: "etc/rpm/macros.keys", text: "%_keyringpath /srv/keys\n", want: "setting-changed danger", field: "trust, program"},
		{does: "a plugin of rpm that nobody brought", file: "usr/lib64/rpm-plugins/syslog.so", text: "code\n", want: "setting-changed danger", field: "program", stays: true},
		{does: "plugins of rpm from elsewhere", file: "root/.rpmmacros", text: "%_prefix /srv\n", want: "setting-changed danger", field: "trust, program", stays: true},
		{does: "another platform", file: "etc/rpm/platform", text: "aarch64-halyard-linux\n", want: "setting-changed fault", field: "origin"},
		{does: "macros of a target", file: "etc/rpm/x86_64-linux/macros", text: "%__transaction_x /srv/x.so\n", want: "setting-changed danger", field: "trust, program"},
		{does: "one more vendor", file: vendors, from: "Saltmarsh", text: "Saltmarsh, Plover", want: "setting-changed fault", field: "origin"},
		{does: "other vendors", file: "etc/zypp/vendors.d/new", text: "[main]\nvendors = Fulmar, Halyard\n", want: "setting-changed fault", field: "origin"},
		{does: "what the whole system must have", file: "etc/zypp/systemCheck", text: "requires:plover-agent\n", want: "setting-changed fault", field: "origin"},
		{does: "a proxy for all", file: "etc/sysconfig/proxy", text: "PROXY_ENABLED=\"yes\"\nHTTP_PROXY=\"http://elsewhere.example:3128\"\n", want: "setting-changed fault", field: "transport"},

		{does: "a proxy that is not switched on", file: "etc/sysconfig/proxy", text: "PROXY_ENABLED=\"no\"\nHTTP_PROXY=\"http://elsewhere.example:3128\"\n"},
		{does: "a comment", file: vendors, from: "[main]", text: "# see the wiki\n[main]"},
		{does: "where packages are built", file: "etc/rpm/macros.local", from: "/srv/build", text: "/srv/other"},
	})
}

func TestWhatHandsDoBesidePacman(t *testing.T) {
	const conf = "etc/pacman.d/gnupg/gpg.conf"
	hands(t, archPlace().with(tree{conf: "no-greeting\nlock-never\nkeyserver-options timeout=10\n"}), []hand{
		{does: "every key is believed", file: conf, from: "lock-never", text: "lock-never\ntrust-model always", want: "setting-weakened danger", field: "trust-model always"},
		{does: "how keys are believed", file: conf, from: "lock-never", text: "lock-never\nmarginals-needed 1", want: "setting-changed danger", field: "trust"},
		{does: "for the whole system", file: "etc/gnupg/gpg.conf", text: "trust-model direct\n", want: "setting-changed danger", field: "trust"},

		{does: "another server of keys", file: conf, from: "keyserver-options", text: "keyserver hkps://keys.brinewick.test\nkeyserver-options"},
		{does: "a comment on a hook", file: "etc/pacman.d/hooks/own.hook", from: "[Trigger]", text: "# see the wiki\n[Trigger]"},
	})
}

// What curl and wget are told decides where pacman has them fetch, and nowhere else.
func TestWhatHandsTellTheProgramThatFetches(t *testing.T) {
	for program, places := range map[string][]string{"curl": {"root/.curlrc", "root/.config/curlrc"}, "wget": {"etc/wgetrc", "root/.wgetrc"}} {
		var all, none []hand
		for _, file := range places {
			all = append(all, []hand{
				{does: "another proxy", file: file, text: "proxy = http://proxy.brinewick.test:3128\n", want: "setting-changed fault", field: "transport", stays: true},
				{does: "no certificates", file: file, text: "# why\ninsecure\n", want: "setting-changed fault", field: "transport", stays: true},
				{does: "a comment", file: file, text: "# insecure\n"},
			}...)
			none = append(none, hand{does: "another proxy", file: file, text: "proxy = http://proxy.brinewick.test:3128\n"})
		}
		hands(t, archPlace(), none)
		text := strings.Replace(pacText, "[options]\n", "[options]\nXferCommand = /usr/bin/"+program+" -o %o %u\n", 1)
		require.NotEqual(t, pacText, text)
		hands(t, archPlace().with(tree{pacFile: text}), all)
	}
}

// Of a host whose base was read by an agent that did not look beside the configuration that is
// said, and nothing of what has stood there for years; what takes a check away is told of.
func TestWhatWasNotLookedAtIsSaid(t *testing.T) {
	p := debPlace().carried(t)
	before := look(p.files, p.modes, p.sheet)
	before.Survey.Deciding = nil
	p.files["etc/dpkg/dpkg.cfg"] = "no-debsig\npost-invoke=/usr/bin/true\nforce-bad-verify\n"
	r := look(p.files, p.modes, p.sheet)
	require.NotEmpty(t, r.Survey.Deciding)
	var classes []string
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: &drift.Base{Sheet: p.sheet, Survey: &before.Survey}}) {
		if f.Field == "not looked at" || f.File == "/etc/dpkg/dpkg.cfg" {
			classes = append(classes, f.Class+" "+f.Severity)
		}
	}
	assert.ElementsMatch(t, []string{"setting-weakened danger", "setting-changed note"}, classes)
}
