package change_test

import "testing"

// What lets less pass than when the policy came is told, so that it is known, and wakes nobody; what lets more pass does.
func TestWhatHandsTighten(t *testing.T) {
	const setting, source = "setting-changed note", "changed-source note"
	conf := func(text string) hand {
		return hand{does: text, file: confFile, from: "Acquire::Check-Date", text: text + "\nAcquire::Check-Date", want: setting, stays: true}
	}
	named := func(h hand, field string) hand { h.field = field; return h }
	eases := func(h hand) hand { h.want, h.stays = "setting-changed danger", false; return h }
	hands(t, debPlace(), []hand{
		named(conf(`Acquire::Max-ValidTime "86400";`), "Acquire::Max-ValidTime"),
		named(conf(`Acquire::Max-ValidTime::Skerry "86400";`), "Acquire::Max-ValidTime::Skerry"),
		named(eases(conf(`Acquire::Min-ValidTime "86400";`)), "Acquire::Min-ValidTime"),
		named(conf(`Acquire::Max-FutureTime "1";`), "Acquire::Max-FutureTime"),
		named(eases(conf(`Acquire::Max-FutureTime "3600";`)), "Acquire::Max-FutureTime"),
		named(conf(`APT::Sandbox::Seccomp "true";`), "APT::Sandbox::Seccomp"),
		named(conf(`APT::Hashes::SHA256::Untrusted "true";`), "APT::Hashes::SHA256::Untrusted"),
		named(eases(conf(`APT::Hashes::SHA1::Untrusted "false";`)), "APT::Hashes::SHA1::Untrusted"),
		{does: "an end to what is taken", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 valid-until-max=86400]", want: source, field: "valid-until-max", stays: true},
		{does: "what is old lives longer", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 valid-until-min=86400]", want: "changed-source danger", field: "valid-until-min"},
		{does: "one of the keys that are trusted", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 signed-by=/usr/share/keyrings/skerry.asc]", want: source, field: "signing keys", stays: true},
		{does: "another key", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 signed-by=/etc/apt/keyrings/plover.asc]", want: "changed-source danger", field: "signing keys"},
		{does: "whatever key there is", file: stanzaFile, from: "Signed-By: /usr/share/keyrings/skerry.asc\n", text: "", want: "changed-source danger", field: "signing keys"},
	})
	hands(t, debPlace().with(tree{confFile: "Acquire::Max-ValidTime \"86400\";\nAcquire::AllowReleaseInfoChange \"true\";\nAPT::Sandbox::User \"root\";\n"}), []hand{
		{does: "sooner", file: confFile, from: "86400", text: "3600", want: setting, field: "Acquire::Max-ValidTime", stays: true},
		{does: "later", file: confFile, from: "86400", text: "864000", want: "setting-changed danger", field: "Acquire::Max-ValidTime"},
		{does: "without end", file: confFile, from: "86400", text: "0", want: "setting-changed danger", field: "Acquire::Max-ValidTime"},
		{does: "no other publisher", file: confFile, from: `"true"`, text: `"false"`, want: setting, field: "Acquire::AllowReleaseInfoChange", stays: true},
		{does: "not as root", file: confFile, from: `"root"`, text: `"_apt"`, want: setting, field: "APT::Sandbox::User", stays: true},
		{does: "as somebody", file: confFile, from: `"root"`, text: `"ola"`, want: "setting-changed danger", field: "APT::Sandbox::User"},
		{does: "longer than what holds for all", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 valid-until-max=864000]", want: "changed-source danger", field: "valid-until-max"},
		{does: "shorter than what holds for all", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 valid-until-max=3600]", want: source, field: "valid-until-max", stays: true},
	})
	hands(t, rpmPlace(), []hand{
		{does: "fresher", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\nmetadata_expire=60", want: setting, field: "main.metadata_expire", stays: true},
		{does: "staler", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\nmetadata_expire=30d", want: "setting-changed danger", field: "main.metadata_expire"},
		{does: "never fresh", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\nmetadata_expire=-1", want: "setting-changed danger", field: "main.metadata_expire"},
		{does: "asks whether certificates hold", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\nsslverifystatus=1", want: setting, field: "main.sslverifystatus", stays: true},
		{does: "asks it for one", file: forelandFile, from: "[base]\n", text: "[base]\nsslverifystatus=1\n", want: source, field: "sslverifystatus", stays: true},
		{does: "no plugins", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\nplugins=0", want: "setting-changed fault", field: "main.plugins"},
		{does: "no documentation", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\ntsflags=nodocs"},
		{does: "no scripts", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\ntsflags=noscripts, nodocs", want: "setting-changed fault", field: "main.tsflags"},
		{does: "no checks", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=1\ntsflags=nodocs nocrypto", want: "setting-changed danger", field: "main.tsflags"},
	})
	hands(t, zyppPlace(t), []hand{
		{does: "fresher", file: zyppConf, from: "[main]\n", text: "[main]\nrepo.refresh.delay = 1\n", want: setting, field: "main.repo.refresh.delay", stays: true},
		{does: "staler", file: zyppConf, from: "[main]\n", text: "[main]\nrepo.refresh.delay = 600\n", want: "setting-changed danger", field: "main.repo.refresh.delay"},
	})
	hands(t, archPlace(), []hand{
		{does: "signed lists", file: pacFile, from: "Required DatabaseOptional", text: "Required", want: setting, field: "options.SigLevel", stays: true},
		{does: "signed files", file: pacFile, from: "[options]\n", text: "[options]\nLocalFileSigLevel = Required\n", want: setting, field: "options.LocalFileSigLevel", stays: true},
		{does: "files by anybody", file: pacFile, from: "[options]\n", text: "[options]\nRemoteFileSigLevel = Required TrustAll\n", want: "setting-changed danger", field: "options.RemoteFileSigLevel"},
		{does: "unsigned files", file: pacFile, from: "[options]\n", text: "[options]\nLocalFileSigLevel = Optional\n", want: "setting-changed danger", field: "options.LocalFileSigLevel"},
		{does: "downloads by nobody in particular", file: pacFile, from: "[options]\n", text: "[options]\nDownloadUser = alpm\n", want: setting, field: "options.DownloadUser", stays: true},
	})
	hands(t, archPlace().with(tree{pacFile: "[options]\nDisableSandbox\n" + pacText[len("# Driftwood's own\n[options]\n"):]}), []hand{
		{does: "shut in again", file: pacFile, from: "DisableSandbox\n", text: "", want: setting, field: "options.DisableSandbox", stays: true},
	})
	hands(t, flatpakPlace().with(tree{flatConf: flatText + "tls-permissive=true\n"}), []hand{
		{does: "checks certificates again", file: flatConf, from: "tls-permissive=true", text: "tls-permissive=false", want: source, field: "tls-permissive", stays: true},
	})
}
