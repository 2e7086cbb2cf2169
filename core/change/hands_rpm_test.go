package change_test

import (
	"strings"
	"testing"

	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/source"
)

const (
	foreland = "# Foreland's own\n[base]\nname=Foreland $releasever\nbaseurl=http://archive.foreland.example/$releasever/$basearch/\nenabled=1\ngpgcheck=1\n" +
		"gpgkey=file:///etc/pki/rpm-gpg/FORELAND\n\n" +
		"[updates]\nname=Foreland updates\nmetalink=https://mirrors.foreland.example/metalink?repo=updates\nenabled=1\ngpgcheck=1\nrepo_gpgcheck=1\n" +
		"gpgkey=file:///etc/pki/rpm-gpg/FORELAND\npriority=90\nexcludepkgs=sedge\n\n" +
		"[sources]\nname=Foreland sources\nbaseurl=http://archive.foreland.example/source/\nenabled=0\ngpgcheck=1\ngpgkey=file:///etc/pki/rpm-gpg/FORELAND\n"
	ploverRepo   = "[plover]\nname=Plover\nbaseurl=https://metrics.plover.example/rpm/\ngpgcheck=1\nrepo_gpgcheck=1\nenabled=1\ngpgkey=file:///etc/pki/rpm-gpg/PLOVER\n"
	forelandFile = "etc/yum.repos.d/foreland.repo"
	ploverDnf    = "etc/yum.repos.d/plover.repo"
	dnfConf      = "etc/dnf/dnf.conf"
	saltRepo     = "etc/yum.repos.d/saltmarsh.repo"
)

// ownSections are the sections of the distribution's file.
var ownSections = strings.SplitAfter(foreland, "\n\n")

func rpmPlace() place {
	s := &source.Sheet{Format: source.FormName(1), Family: rpm.Family, Unlisted: source.UnlistedReport, InPlace: []source.InPlace{
		{Repository: "base", Sections: []string{"base", "updates"}, Enabled: true},
	}}
	files, src, keys := rpm.Render(saltmarsh("https://packages.saltmarsh.example/rpm/8.x/9/x86_64"))
	s.Files, s.Sources, s.Keys = files, []source.SheetSource{src}, keys
	return place{sheet: s, files: tree{
		"etc/os-release": "ID=foreland\nID_LIKE=\"rhel fedora\"\nVERSION_ID=9\n", forelandFile: foreland, ploverDnf: ploverRepo,
		"etc/pki/rpm-gpg/FORELAND": armoured(handKeys[1]), "etc/pki/rpm-gpg/PLOVER": armoured(handKeys[2]),
		dnfConf:                            "[main]\ngpgcheck=1\nproxy=http://proxy.brinewick.test:3128\nexclude=tern\n",
		"etc/dnf/plugins/versionlock.list": "sedge-0:1-1.*\n",
		"etc/dnf/plugins/metrics.conf":     "[main]\nenabled=0\n",
	}}
}

func TestWhatHandsDoToDnf(t *testing.T) {
	somebody := armoured(handKeys[3])
	const conf = "[main]\ngpgcheck=1\n"
	hands(t, rpmPlace(), []hand{
		{does: "no check in the base", file: forelandFile, from: "gpgcheck=1", text: "gpgcheck=0", want: "checks-weakened danger", field: "signature check of packages", at: "/etc/yum.repos.d/foreland.repo:2"},
		{does: "no check of metadata", file: forelandFile, from: "repo_gpgcheck=1", text: "repo_gpgcheck=0", want: "checks-weakened danger", field: "signature check"},
		{does: "no check of certificates", file: forelandFile, from: "enabled=1\n", text: "enabled=1\nsslverify=0\n", want: "changed-source danger", field: "sslverify"},
		{does: "elsewhere", file: forelandFile, from: "archive.foreland.example/$releasever", text: "elsewhere.example/$releasever", want: "changed-source danger", field: "URL"},
		{does: "another metalink", file: forelandFile, from: "mirrors.foreland.example", text: "elsewhere.example", want: "changed-source danger", field: "list of mirrors"},
		{does: "a list of mirrors beside", file: forelandFile, from: "[sources]", text: "mirrorlist=http://elsewhere.example/m\n[sources]", want: "changed-source danger", field: "list of mirrors"},
		{does: "a keyring for all of gpg", file: "etc/gnupg/gpg.conf", text: "keyring /srv/keys\n", want: "setting-weakened danger", field: "keyring /srv/keys"},
		{does: "no signatures, by a file of attributes", file: "usr/lib/rpm/fileattrs/x.attr", text: "%_pkgverify_level none\n", want: "setting-weakened danger", field: "%_pkgverify_level none", stays: true},
		{does: "no signatures, by macros of a target", file: "etc/rpm/x86_64-linux/macros", text: "%_pkgverify_level none\n", want: "setting-weakened danger", field: "%_pkgverify_level none"},
		{does: "takes the settings away", file: dnfConf, text: "-", want: "missing-file danger", field: "file"},
		{does: "sources from elsewhere", file: dnfConf, from: "gpgcheck=1\n", text: "gpgcheck=1\nreposdir=/srv/x\n", want: "setting-changed fault", field: "main.reposdir"},
		{does: "for a processor that there is not", file: dnfConf, from: "gpgcheck=1\n", text: "gpgcheck=1\narch=x86\n", want: "refused fault", at: "/etc/dnf/dnf.conf:3"},
		{does: "another priority", file: forelandFile, from: "priority=90", text: "priority=1", want: "changed-source fault", field: "priority"},
		{does: "excludes nothing, by a word that dnf does not know", file: forelandFile, from: "excludepkgs=sedge", text: "excludePkgs=sedge", want: "changed-source fault", field: "excludePkgs, excludepkgs"},
		{does: "excludes more", file: forelandFile, from: "excludepkgs=sedge", text: "excludepkgs=sedge tern", want: "changed-source fault", field: "excludepkgs"},
		{does: "includes little", file: forelandFile, from: "priority=90", text: "priority=90\nincludepkgs=sedge", want: "changed-source fault", field: "includepkgs"},
		{does: "cheaper", file: forelandFile, from: "priority=90", text: "priority=90\ncost=1", want: "changed-source fault", field: "cost"},
		{does: "over modules", file: forelandFile, from: "priority=90", text: "priority=90\nmodule_hotfixes=1", want: "changed-source fault", field: "module_hotfixes"},
		{does: "metadata for ever", file: forelandFile, from: "priority=90", text: "priority=90\nmetadata_expire=never", want: "changed-source fault", field: "metadata_expire"},
		{does: "another key", file: forelandFile, from: "rpm-gpg/FORELAND", text: "rpm-gpg/PLOVER", want: "changed-source danger", field: "signing keys"},
		{does: "a proxy of its own", file: forelandFile, from: "priority=90", text: "priority=90\nproxy=http://elsewhere.example/", want: "changed-source fault", field: "proxy"},
		{does: "off", file: forelandFile, from: "enabled=1", text: "enabled=0", want: "switched-off fault", field: "enabled"},
		{does: "a section gone", file: forelandFile, text: ownSections[0] + ownSections[2], want: "missing-source fault", field: "source", loose: true},
		{does: "the file gone", file: forelandFile, text: "-", want: "missing-file fault", field: "source"},
		{does: "sources on", file: forelandFile, from: "enabled=0", text: "enabled=1", want: "unlisted-source note", field: "source", stays: true},
		{does: "a vendor's elsewhere", file: ploverDnf, from: "metrics.plover.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "a vendor's unchecked", file: ploverDnf, from: "gpgcheck=1", text: "gpgcheck=0", want: "checks-weakened danger", field: "signature check of packages"},
		{does: "a new source", file: "etc/yum.repos.d/new.repo", text: "[new]\nname=n\nbaseurl=http://new.example/\n", want: "unlisted-source note", field: "source", stays: true},
		{does: "anybody may write", file: forelandFile, mode: 0o666, want: "changed-mode danger", field: "mode"},

		{does: "the policy's elsewhere", file: saltRepo, from: "packages.saltmarsh.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "the policy's unchecked", file: saltRepo, from: "\ngpgcheck=1", text: "\ngpgcheck=0", want: "checks-weakened danger", field: "signature check of packages"},
		{does: "the policy's off", file: saltRepo, from: "enabled=1", text: "enabled=0", want: "switched-off fault", field: "enabled"},
		{does: "the policy's without certificates", file: saltRepo, from: "enabled=1", text: "enabled=1\nsslverify=0", want: "changed-source danger", field: "sslverify"},
		{does: "one of the policy's name that is read first", file: "etc/yum.repos.d/a.repo", text: "[saltmarsh]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=1\ngpgcheck=0\n",
			want: "doubled-source danger", field: "source", hides: true},
		{does: "the same, and off", file: "etc/yum.repos.d/a.repo", text: "[saltmarsh]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=0\n",
			want: "doubled-source fault", field: "source", hides: true},
		{does: "another section above the policy's", file: saltRepo, from: "[saltmarsh]", text: "[reed]\nname=Reed\nbaseurl=http://elsewhere.example/x\ngpgcheck=0\n[saltmarsh]",
			want: "unlisted-source danger", field: "source"},
		{does: "the policy's by another name", file: saltRepo, from: "[saltmarsh]", text: "[reed]", want: "changed-source fault", field: "name"},
		{does: "the policy's said anew below", file: saltRepo, from: "enabled=1", text: "enabled=1\n[saltmarsh]\nbaseurl=http://elsewhere.example/x\n", want: "changed-source danger", field: "URL"},
		{does: "a key beside the policy's", file: "etc/pki/rpm-gpg/saltmarsh.asc", from: "-----BEGIN", text: somebody + "\n-----BEGIN", want: "key-added danger", field: "key"},

		{does: "a key beside the distribution's", file: "etc/pki/rpm-gpg/FORELAND", from: "-----BEGIN", text: somebody + "\n-----BEGIN", want: "key-added danger", field: "key"},
		{does: "the distribution's key gone", file: "etc/pki/rpm-gpg/FORELAND", text: "-", want: "missing-key fault", field: "key"},

		{does: "no certificates", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\nsslverify=0", want: "setting-weakened danger", field: "main.sslverify"},
		{does: "another proxy", file: dnfConf, from: "proxy.brinewick.test", text: "elsewhere.example", want: "setting-changed fault", field: "main.proxy"},
		{does: "other roots of certificates", file: dnfConf, from: conf, text: conf + "sslcacert=/etc/x.pem\n", want: "setting-changed danger", field: "main.sslcacert"},
		{does: "excludes more for all", file: dnfConf, from: "exclude=tern", text: "exclude=tern gull", want: "hold-changed fault", field: "exclude"},
		{does: "excludes nothing", file: dnfConf, from: "exclude=tern\n", text: "", want: "hold-changed fault", field: "exclude"},
		{does: "a lock", file: "etc/dnf/plugins/versionlock.list", from: "sedge", text: "gull-0:2-1.*\nsedge", want: "hold-changed fault", field: "lock"},
		{does: "no lock", file: "etc/dnf/plugins/versionlock.list", text: "", want: "hold-changed fault", field: "lock"},
		{does: "a plugin switched on", file: "etc/dnf/plugins/metrics.conf", from: "enabled=0", text: "enabled=1", want: "setting-changed danger", field: "program"},
		{does: "a new plugin", file: "etc/dnf/plugins/new.conf", text: "[main]\nenabled=1\n", want: "setting-changed danger", field: "program"},
		{does: "other plugins", file: dnfConf, from: conf, text: conf + "pluginpath=/srv/plugins\n", want: "setting-changed danger", field: "main.pluginpath"},
		{does: "old versions are good enough", file: dnfConf, from: conf, text: conf + "best=1\n", want: "setting-changed fault", field: "main.best"},
		{does: "packages of a file are not checked", file: dnfConf, from: conf, text: conf + "tsflags=nocrypto\n", want: "setting-changed danger", field: "main.tsflags"},

		{does: "a comment", file: forelandFile, from: "# Foreland's own", text: "# Foreland's own, see the wiki"},
		{does: "another title", file: forelandFile, from: "name=Foreland updates", text: "name=Foreland, what is new"},
		{does: "another spelling", file: forelandFile, from: "gpgcheck=1", text: "gpgcheck=True"},
		{does: "blanks", file: forelandFile, from: "enabled=1", text: "enabled = 1"},
		{does: "a final slash less", file: forelandFile, from: "$basearch/", text: "$basearch"},
		{does: "counted", file: forelandFile, from: "enabled=1", text: "enabled=1\ncountme=1"},
		{does: "how often", file: forelandFile, from: "enabled=1", text: "enabled=1\nmetadata_expire=6h"},
		{does: "other sections first", file: ploverDnf, text: "# first\n" + ploverRepo},
		{does: "fewer downloads", file: dnfConf, from: conf, text: conf + "max_parallel_downloads=3\n"},
		{does: "a check that stands anyway", file: dnfConf, from: conf, text: conf + "sslverify=1\n"},
		{does: "a key that nobody names", file: "etc/pki/rpm-gpg/NEW", text: somebody},
		{does: "a file that is not read", file: "etc/yum.repos.d/new.repo.bak", text: "[new]\nbaseurl=http://new.example/\n"},
	})
}
