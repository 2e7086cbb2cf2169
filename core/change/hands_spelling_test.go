package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/drift"
)

// Another spelling of what a setting says is no drift, and neither is a value of which the package manager takes no notice.
func TestAnotherSpellingOfASettingIsNoDrift(t *testing.T) {
	hands(t, debPlace().with(tree{confFile: "APT::Ignore-Hold \"true\";\nAcquire::http::AllowRedirect \"0\";\n"}), []hand{
		{does: "yes", file: confFile, from: "\"true\"", text: "\"yes\""},
		{does: "no", file: confFile, from: "\"0\"", text: "\"false\""},
		{does: "the other way round", file: confFile, from: "\"true\"", text: "\"no\"", want: "setting-changed fault", field: "APT::Ignore-Hold"},
	})
	hands(t, rpmPlace().with(tree{dnfConf: "[main]\ngpgcheck=1\nbest=1\nmetadata_expire=7d\n"}), []hand{
		{does: "yes", file: dnfConf, from: "best=1", text: "best=True"},
		{does: "hours", file: dnfConf, from: "7d", text: "168h"},
		{does: "what dnf does not know", file: dnfConf, from: "best=1", text: "best=1\nmultilib_policy=most\ncacheonly=maybe\nproxy_auth_method=any"},
		{does: "its own expiry", file: dnfConf, from: "7d", text: "2d", want: "setting-changed note", field: "main.metadata_expire", stays: true},
		{does: "only what it has", file: dnfConf, from: "best=1", text: "best=1\ncacheonly=yes", want: "setting-changed fault", field: "main.cacheonly"},
		{does: "a cache elsewhere", file: dnfConf, from: "best=1", text: "best=1\ncachedir=/srv/cache", want: "setting-changed fault", field: "main.cachedir"},
	})
	hands(t, five(rpmPlace()).with(tree{dnfConf: "[main]\ngpgcheck=1\n"}), []hand{
		{does: "what dnf 5 has by itself", file: dnfConf, from: "[main]\n", text: "[main]\nbest=yes\ncacheonly=none\n"},
		{does: "not the best", file: dnfConf, from: "[main]\n", text: "[main]\nbest=0\n", want: "setting-changed fault", field: "main.best"},
		{does: "only what it has", file: dnfConf, from: "[main]\n", text: "[main]\ncacheonly=all\n", want: "setting-changed fault", field: "main.cacheonly"},
	})
	hands(t, zyppPlace(t).with(tree{zyppConf: "[main]\nsolver.dupAllowDowngrade = no\n"}), []hand{
		{does: "no", file: zyppConf, from: "= no", text: "= off"},
	})
	hands(t, archPlace().with(tree{}), []hand{
		{does: "a cache elsewhere", file: "etc/pacman.conf", from: "[options]\n", text: "[options]\nCacheDir = /srv/cache\n", want: "setting-changed fault", field: "options.CacheDir"},
		{does: "the cache that it has", file: "etc/pacman.conf", from: "[options]\n", text: "[options]\nCacheDir = /var/cache/pacman/pkg\n"},
	})
}

// What holds anyway may be said, and so may what the package manager does not read there; where a setting for all sources says
// otherwise, the same words are an edit.
func TestWhatHoldsAnywayIsNoDrift(t *testing.T) {
	for name, list := range map[string]struct {
		place      place
		file, from string
		lines      []string
	}{
		"dnf": {rpmPlace(), forelandFile, "gpgkey=file:///etc/pki/rpm-gpg/FORELAND\n", []string{
			"cost=1000", "cost=", "module_hotfixes=false", "skip_if_unavailable=0", "sslverify=True", "sslverifystatus=0", "proxy_sslverify=1",
			"proxy_auth_method=any", "password=", "obsoletes=1", "tsflags=nocrypto", "build_cache=1", "priority=99", "proxy=",
		}},
		"zypper":  {zyppPlace(t), halyardFile, "name=Updates\n", []string{"path=/", "path=", "sslverify=0", "cost=10", "priority=99", "type=rpm-md", "autorefresh=off"}},
		"pacman":  {archPlace(), pacFile, "[core]\n", []string{"Usage = All", "Usage = Sync Search Install Upgrade", "NoExtract = usr/x", "GPGDir = /srv"}},
		"flatpak": {flatpakPlace(), "var/lib/flatpak/repo/config", "gpg-verify=true\n", []string{"tls-permissive=false", "xa.nodeps=0"}},
		"apt": {debPlace(), stanzaFile, "Components: main\n", []string{
			"Check-Valid-Until: yes", "Check-Date: true", "Allow-Weak: no", "Allow-Downgrade-To-Insecure: 0", "Valid-Until-Min: 0", "Date-Max-Future: 10",
			"Architectures: amd64",
		}},
		"the policy's own": {debPlace(), saltFile, "Components: main\n", []string{"Check-Valid-Until: yes", "Architectures: amd64", "Enabled: yes"}},
		"apt.conf": {debPlace(), confFile, "Acquire::Check-Date \"true\";\n", []string{
			`APT::Ignore-Hold "false";`, `Acquire::Max-ValidTime "0";`, `APT::Architecture "amd64";`, `DPkg::Options:: "--force-confdef";`,
			`DPkg::Options { "--force-confold"; "--log=/var/log/x"; };`,
		}},
		"zypp.conf": {zyppPlace(t), zyppConf, "[main]\n", []string{"solver.dupAllowDowngrade = maybe", "gpgcheck = on", "solver.dupAllowVendorChange = what"}},
	} {
		var said []hand
		for _, line := range list.lines {
			said = append(said, hand{does: name + ": " + line, file: list.file, from: list.from, text: list.from + line + "\n"})
		}
		for i := range said {
			t.Run(said[i].does, func(t *testing.T) { counts(t, list.place, said[i]) })
		}
	}
	hands(t, rpmPlace().with(tree{dnfConf: "[main]\ngpgcheck=1\nskip_if_unavailable=1\n"}), []hand{
		{does: "against what holds for all", file: forelandFile, from: "priority=90", text: "priority=90\nskip_if_unavailable=0", want: "changed-source fault", field: "skip_if_unavailable"},
	})
	hands(t, debPlace().with(tree{confFile: "Acquire::Max-ValidTime \"86400\";\n"}), []hand{
		{does: "against what holds for all", file: stanzaFile, from: "Components: main\n", text: "Components: main\nValid-Until-Max: 0\n", want: "changed-source danger", field: "valid-until-max"},
	})
	hands(t, debPlace().with(tree{}), []hand{
		{does: "dpkg is told to take what is broken", file: confFile, text: "DPkg::Options { \"--force-confold\"; \"--force-bad-verify\"; };\nAcquire::http::Proxy \"http://proxy.brinewick.test:3128\";\n", want: "setting-changed danger", field: "DPkg::Options::"},
		{does: "takes another processor's", file: confFile, from: "Acquire::Check", text: "APT::Architecture \"arm64\";\nAcquire::Check", want: "setting-changed fault", field: "APT::Architecture"},
	})
}

// counts holds that nothing counts of what a hand did.
func counts(t *testing.T, p place, h hand) {
	p = p.carried(t)
	before := look(p.files, p.modes, p.sheet)
	base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
	usual := map[string]bool{}
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &before.Survey, Base: base}) {
		usual[f.Key()] = true
	}
	now := p.done(t, h)
	r := look(now.files, now.modes, now.sheet)
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
		assert.True(t, usual[f.Key()] || f.Class == drift.ChangedText, "%+v", f)
	}
}
