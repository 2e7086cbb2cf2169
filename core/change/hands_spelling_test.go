package change_test

import "testing"

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
		{does: "its own expiry", file: dnfConf, from: "7d", text: "2d", want: "setting-changed danger", field: "main.metadata_expire"},
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
