package change_test

import (
	"testing"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

const (
	ownList = "# Skerry's own\n" +
		"deb http://archive.skerry.example/skerry mussel main\n" +
		"deb http://archive.skerry.example/skerry mussel-updates main\n" +
		"# the fixes\n" +
		"deb [arch=amd64] http://security.skerry.example/skerry mussel-security main\n"
	ploverList = "deb [signed-by=/etc/apt/keyrings/plover.asc] https://metrics.plover.example/apt rolling main\n"
	ownStanza  = "Types: deb\nURIs: http://backports.skerry.example/skerry\nSuites: mussel-backports\nComponents: main\nSigned-By: /usr/share/keyrings/skerry.asc\n"
	ownPin     = "Explanation: ours\nPackage: *\nPin: release n=mussel-backports\nPin-Priority: 100\n"
	ownStanzas = "Types: deb\nURIs: http://archive.skerry.example/skerry\nSuites: mussel\nComponents: main\n\n" +
		"Types: deb\nURIs: http://archive.skerry.example/skerry\nSuites: mussel-updates\nComponents: main\n\n" +
		"Types: deb\nURIs: http://security.skerry.example/skerry\nSuites: mussel-security\nComponents: main\nArchitectures: amd64\n"
	listFile    = "etc/apt/sources.list"
	ploverFile  = "etc/apt/sources.list.d/plover.list"
	stanzaFile  = "etc/apt/sources.list.d/backports.sources"
	pinFile     = "etc/apt/preferences.d/own"
	confFile    = "etc/apt/apt.conf.d/20own"
	saltFile    = "etc/apt/sources.list.d/saltmarsh.sources"
	saltKeyFile = "etc/apt/keyrings/saltmarsh.asc"
)

func debPlace() place {
	s := &source.Sheet{Format: source.FormName(1), Family: deb.Family, Unlisted: source.UnlistedReport, InPlace: []source.InPlace{
		{Repository: "base", Files: deb.OwnFiles("skerry"), Suites: []string{"mussel", "mussel-updates", "mussel-security"}, Enabled: true, Components: []string{"main"}},
	}}
	d := saltmarsh("https://packages.saltmarsh.example/apt/8.x")
	files, src, keys := deb.Render(deb.Definition{Repository: d.Repository, Enabled: true, URL: d.URL, Suites: []string{"stable"}, Components: []string{"main"}, Signatures: d.Signatures, Keys: d.Keys})
	s.Files, s.Sources, s.Keys = files, []source.SheetSource{src}, keys
	return place{sheet: s, files: tree{
		"etc/os-release": osRelease, listFile: ownList, ploverFile: ploverList, stanzaFile: ownStanza, pinFile: ownPin,
		"etc/apt/keyrings/plover.asc": armoured(handKeys[2]), "etc/apt/trusted.gpg.d/skerry.asc": armoured(handKeys[1]),
		"usr/share/keyrings/skerry.asc": armoured(handKeys[1]),
		confFile:                        "APT::Install-Recommends \"0\";\nAcquire::http::Proxy \"http://proxy.brinewick.test:3128\";\nAcquire::Check-Date \"true\";\n",
		"var/lib/dpkg/status":           "Package: tern\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1\n\nPackage: sedge\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1\n",
	}}
}

func TestWhatHandsDoToApt(t *testing.T) {
	somebody := armoured(handKeys[3])
	hands(t, debPlace().with(tree{"srv/usr/share/dpkg/cputable": "x\n"}), []hand{
		{does: "everything below another root", file: confFile, from: "Acquire::Check-Date", text: "RootDir \"/srv\";\nAcquire::Check-Date", want: "setting-changed danger", field: "RootDir", at: "/etc/apt/apt.conf.d/20own:3"},
	})
	hands(t, debPlace(), []hand{
		// The distribution's own entries.
		{does: "trusts an entry without a signature", file: listFile, from: "deb http://archive.skerry.example/skerry mussel main", text: "deb [trusted=yes] http://archive.skerry.example/skerry mussel main",
			want: "checks-weakened danger", field: "signature check", at: "/etc/apt/sources.list:2"},
		{does: "trusts one from elsewhere", file: listFile, from: "deb http://archive.skerry.example/skerry mussel main", text: "deb [trusted=yes] http://elsewhere.example/skerry mussel main",
			want: "checks-weakened danger", field: "URL, signature check", at: "/etc/apt/sources.list:2"},
		{does: "another server", file: listFile, from: "http://security.skerry.example/skerry", text: "http://elsewhere.example/skerry", want: "changed-source danger", field: "URL", at: "/etc/apt/sources.list:5"},
		{does: "allows insecure", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 allow-insecure=yes]", want: "checks-weakened danger", field: "signature check", at: "/etc/apt/sources.list:5"},
		{does: "allows weak signatures", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 allow-weak=yes]", want: "changed-source danger", field: "allow-weak", at: "/etc/apt/sources.list:5"},
		{does: "allows a downgrade", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 allow-downgrade-to-insecure=yes]", want: "changed-source danger", field: "allow-downgrade-to-insecure"},
		{does: "takes old metadata", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 check-valid-until=no]", want: "changed-source danger", field: "check-valid-until"},
		{does: "takes old metadata, by any word", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 check-valid-until=never]", want: "changed-source danger", field: "check-valid-until"},
		{does: "takes old metadata, by no word", file: stanzaFile, from: "Components: main\n", text: "Components: main\nCheck-Valid-Until:\n", want: "changed-source danger", field: "check-valid-until"},
		{does: "takes old metadata of the policy's", file: saltFile, from: "Components: main\n", text: "Components: main\nCheck-Valid-Until:\n", want: "changed-source danger", field: "Check-Valid-Until"},
		{does: "all metadata, by a number", file: confFile, from: "Acquire::Check-Date \"true\"", text: "Acquire::Check-Date \"0x0\"", want: "setting-weakened danger", field: "Acquire::Check-Date"},
		{does: "takes metadata of any date", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 check-date=no]", want: "changed-source danger", field: "check-date"},
		{does: "another architecture", file: listFile, from: "[arch=amd64]", text: "[arch=i386]", want: "changed-source fault", field: "architectures"},
		{does: "another key", file: listFile, from: "[arch=amd64]", text: "[arch=amd64 signed-by=/etc/apt/keyrings/plover.asc]", want: "changed-source danger", field: "signing keys"},
		{does: "another suite", file: listFile, from: "mussel-updates", text: "limpet-updates", want: "changed-source fault", field: "suites"},
		{does: "switches an entry off", file: listFile, from: "deb http://archive.skerry.example/skerry mussel-updates", text: "#deb http://archive.skerry.example/skerry mussel-updates", want: "switched-off fault", field: "enabled"},
		{does: "takes an entry out", file: listFile, from: "deb http://archive.skerry.example/skerry mussel-updates main\n", text: "", want: "missing-source fault", field: "source"},
		{does: "more components", file: listFile, from: "mussel main", text: "mussel main contrib", want: "changed-source fault", field: "components"},
		{does: "takes the list away", file: listFile, text: "-", want: "missing-file fault", field: "source"},
		{does: "a second server for the same suite", file: listFile, from: "# the fixes\n", text: "deb http://elsewhere.example/skerry mussel main\n", want: "unlisted-source fault", field: "source", at: "/etc/apt/sources.list:4"},
		{does: "sources too", file: listFile, from: "# the fixes\n", text: "deb-src http://archive.skerry.example/skerry mussel main\n", want: "unlisted-source fault", field: "source"},
		{does: "everything below a root of its own", file: confFile, from: "Acquire::Check-Date", text: "RootDir \"/srv\";\nAcquire::Check-Date", want: "refused fault", at: "/etc/apt/apt.conf.d/20own:3"},
		{does: "the stanza elsewhere", file: stanzaFile, from: "backports.skerry.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "the stanza trusted", file: stanzaFile, from: "Components: main\n", text: "Components: main\nTrusted: yes\n", want: "checks-weakened danger", field: "signature check"},
		{does: "the stanza switched off", file: stanzaFile, from: "Types: deb\n", text: "Types: deb\nEnabled: no\n", want: "switched-off fault", field: "enabled"},
		{does: "the stanza taken away", file: stanzaFile, text: "-", want: "missing-file fault", field: "source"},
		{does: "a vendor's source in the clear", file: ploverFile, from: "https://", text: "http://", want: "changed-source danger", field: "URL"},
		{does: "a new source", file: "etc/apt/sources.list.d/new.list", text: "deb http://new.example/ x main\n", want: "unlisted-source note", field: "source", stays: true},
		{does: "a new source that nobody checks", file: "etc/apt/sources.list.d/new.list", text: "deb [trusted=yes] http://new.example/ x main\n", want: "unlisted-source danger", field: "source", stays: true},
		{does: "anybody may write the list", file: listFile, mode: 0o666, want: "changed-mode danger", field: "mode"},
		{does: "apt cannot read the list", file: ploverFile, mode: 0o600, want: "changed-mode fault", field: "mode"},

		// The policy's own.
		{does: "the policy's source elsewhere", file: saltFile, from: "packages.saltmarsh.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "the policy's source trusted", file: saltFile, from: "Types:", text: "Trusted: yes\nTypes:", want: "checks-weakened danger", field: "signature check"},
		{does: "the policy's source off", file: saltFile, from: "Types:", text: "Enabled: no\nTypes:", want: "switched-off fault", field: "enabled"},
		{does: "the policy's source taken away", file: saltFile, text: "-", want: "missing-file fault", field: "file"},
		{does: "another stanza above the policy's", file: saltFile, from: "Types:", text: "Types: deb\nURIs: http://elsewhere.example/x\nSuites: x\nComponents: y\nTrusted: yes\n\nTypes:",
			want: "unlisted-source danger", field: "source"},
		{does: "the policy's source elsewhere by another key", file: saltFile, text: "Types: deb\nURIs: https://elsewhere.example/x\nSuites: x\nComponents: main\nSigned-By: /etc/apt/keyrings/plover.asc\n",
			want: "changed-source danger", field: "URL, suites, signing keys"},
		{does: "the policy's source off and elsewhere", file: saltFile, from: "packages.saltmarsh.example", text: "elsewhere.example/x\nEnabled: no\nX-Rest: ", want: "changed-source danger", field: "enabled, URL"},
		{does: "anybody may write the policy's file", file: saltFile, mode: 0o666, want: "changed-mode danger", field: "mode"},

		// Keys.
		{does: "a key for everything", file: "etc/apt/trusted.gpg.d/new.asc", text: somebody, want: "key-added danger", field: "key"},
		{does: "another key in the place of the distribution's", file: "etc/apt/trusted.gpg.d/skerry.asc", from: "-----BEGIN", text: somebody + "\n-----BEGIN", want: "key-added danger", field: "key"},
		{does: "a key beside another", file: "etc/apt/keyrings/plover.asc", from: "-----BEGIN", text: somebody + "\n-----BEGIN", want: "key-added danger", field: "key"},
		{does: "a vendor's key for everything", file: "etc/apt/trusted.gpg.d/plover.asc", text: armoured(handKeys[2]), want: "key-wider danger", field: "key"},
		{does: "the policy's key for everything", file: "etc/apt/trusted.gpg.d/saltmarsh.asc", text: armoured(handKeys[0]), want: "key-wider danger", field: "key"},
		{does: "the distribution's key gone", file: "etc/apt/trusted.gpg.d/skerry.asc", text: "-", want: "missing-key fault", field: "key"},
		{does: "the distribution's key spoilt", file: "etc/apt/trusted.gpg.d/skerry.asc", from: "-----BEGIN", text: " -----BEGIN", want: "missing-key fault", field: "key"},
		{does: "a key beside the policy's", file: saltKeyFile, from: "-----BEGIN", text: somebody + "\n-----BEGIN", want: "key-added danger", field: "key"},
		{does: "another key for the policy's", file: saltKeyFile, text: somebody, want: "key-added danger", field: "key"},

		// Order.
		{does: "a pin of 1001", file: "etc/apt/preferences.d/new", text: "Package: *\nPin: origin metrics.plover.example\nPin-Priority: 1001\n", want: "pin-changed fault", field: "pin"},
		{does: "another priority", file: pinFile, from: "100", text: "990", want: "pin-changed fault", field: "pin"},
		{does: "a pin gone", file: pinFile, text: "-", want: "pin-changed fault", field: "pin"},
		{does: "a pin for one package", file: pinFile, from: "Package: *", text: "Package: tern", want: "pin-changed fault", field: "pin"},
		{does: "a default release", file: "etc/apt/apt.conf.d/99x", text: "APT::Default-Release \"limpet\";\n", want: "setting-changed fault", field: "APT::Default-Release"},
		{does: "another architecture", file: "var/lib/dpkg/arch", text: "amd64\ni386\n", want: "setting-changed fault", field: "architectures", stays: true},
		{does: "its own architecture alone, in a list", file: "var/lib/dpkg/arch", text: "amd64\n"},
		{does: "another architecture by apt.conf", file: "etc/apt/apt.conf.d/99x", text: "APT::Architectures { \"amd64\"; \"i386\"; };\n", want: "setting-changed fault", field: "APT::Architectures::"},
		{does: "a package on hold", file: "var/lib/dpkg/status", from: "Status: install", text: "Status: hold", want: "hold-changed fault", field: "hold", stays: true},

		// Checks, transport, programs.
		{does: "insecure repositories for all", file: "etc/apt/apt.conf.d/99x", text: "Acquire::AllowInsecureRepositories \"true\";\n", want: "setting-weakened danger", field: "Acquire::AllowInsecureRepositories"},
		{does: "the same for apt-get alone", file: "etc/apt/apt.conf.d/99x", text: "Binary::apt-get::Acquire::AllowInsecureRepositories \"true\";\n", want: "setting-weakened danger", field: "Binary::apt-get::Acquire::AllowInsecureRepositories"},
		{does: "old metadata for all", file: "etc/apt/apt.conf.d/99x", text: "Acquire::Check-Valid-Until \"0\";\n", want: "setting-weakened danger", field: "Acquire::Check-Valid-Until"},
		{does: "no certificates", file: "etc/apt/apt.conf", text: "Acquire::https::Verify-Peer \"false\";\n", want: "setting-weakened danger", field: "Acquire::https::Verify-Peer"},
		{does: "no certificates, said of http", file: "etc/apt/apt.conf", text: "Acquire::http::Verify-Peer \"false\";\n", want: "setting-weakened danger", field: "Acquire::http::Verify-Peer"},
		{does: "no certificate of one host", file: "etc/apt/apt.conf", text: "Acquire::https::plover.example::Verify-Peer \"false\";\n", want: "setting-weakened danger", field: "Acquire::https::plover.example::Verify-Peer"},
		{does: "no name of one host, said of http", file: "etc/apt/apt.conf", text: "acquire::http::plover.example::verify-host \"0\";\n", want: "setting-weakened danger", field: "Acquire::http::plover.example::verify-host"},
		{does: "roots of certificates of one host", file: "etc/apt/apt.conf", text: "Acquire::http::plover.example::CaInfo \"/etc/x.pem\";\n", want: "setting-changed danger", field: "Acquire::http::plover.example::CaInfo"},
		{does: "what is told to gpg, which apt does not ask", file: "etc/gnupg/gpg.conf", text: "keyring /srv/keys\n"},
		{does: "other roots of certificates", file: "etc/apt/apt.conf", text: "Acquire::https::CaInfo \"/etc/x.pem\";\n", want: "setting-changed danger", field: "Acquire::https::CaInfo"},
		{does: "another proxy", file: confFile, from: "proxy.brinewick.test", text: "proxy.elsewhere.example", want: "setting-changed fault", field: "Acquire::http::Proxy"},
		{does: "no proxy", file: confFile, from: "Acquire::http::Proxy \"http://proxy.brinewick.test:3128\";\n", text: "", want: "setting-changed fault", field: "Acquire::http::Proxy"},
		{does: "a hook", file: "etc/apt/apt.conf.d/99x", text: "DPkg::Pre-Invoke { \"/usr/local/bin/x\"; };\n", want: "setting-changed danger", field: "DPkg::Pre-Invoke::"},
		{does: "another program that checks", file: "etc/apt/apt.conf.d/99x", text: "APT::Key::gpgvcommand \"/usr/bin/true\";\n", want: "setting-weakened danger", field: "APT::Key::gpgvcommand"},
		{does: "sources from elsewhere", file: "etc/apt/apt.conf.d/99x", text: "Dir::Etc::sourceparts \"/srv/x\";\n", want: "setting-changed fault", field: "Dir::Etc::sourceparts"},
		{does: "a list from elsewhere", file: "etc/apt/apt.conf.d/99x", text: "Dir::Etc::sourcelist \"/srv/x\";\n", want: "setting-changed fault", field: "Dir::Etc::sourcelist"},
		{does: "no pins", file: "etc/apt/apt.conf.d/99x", text: "Dir::Etc::preferencesparts \"/dev/null\";\n", want: "setting-changed fault", field: "Dir::Etc::preferencesparts"},
		{does: "all from elsewhere", file: "etc/apt/apt.conf.d/99x", text: "Dir \"/srv\";\n", want: "setting-changed danger", field: "Dir"},
		{does: "another folder of sources", file: "etc/apt/apt.conf.d/99x", text: "Dir::State \"/srv/state\";\n", want: "setting-changed fault", field: "Dir::State"},

		// What changes nothing that matters.
		{does: "a comment", file: listFile, from: "# Skerry's own", text: "# Skerry's own, see the wiki"},
		{does: "an empty line", file: listFile, from: "# the fixes", text: "\n# the fixes"},
		{does: "blanks", file: listFile, from: "deb http://archive.skerry.example/skerry mussel main", text: "deb   http://archive.skerry.example/skerry\tmussel  main"},
		{does: "a final slash", file: listFile, from: "http://security.skerry.example/skerry", text: "http://security.skerry.example/skerry/"},
		{does: "another order", file: listFile, text: "deb [arch=amd64] http://security.skerry.example/skerry mussel-security main\n" +
			"deb http://archive.skerry.example/skerry mussel-updates main\ndeb http://archive.skerry.example/skerry mussel main\n"},
		{does: "one entry in two lines", file: "etc/apt/sources.list.d/skerry.list", text: "# moved later\n"},
		{does: "written anew as stanzas", file: listFile, text: "# moved\n", more: tree{"etc/apt/sources.list.d/skerry.sources": ownStanzas}},
		{does: "a field that says nothing", file: stanzaFile, from: "Types: deb\n", text: "Types: deb\nX-Repolib-Name: Backports\n"},
		{does: "other case", file: stanzaFile, from: "Suites:", text: "suites:"},
		{does: "languages", file: stanzaFile, from: "Types: deb\n", text: "Types: deb\nLanguages: en\n"},
		{does: "a yes that holds anyway", file: stanzaFile, from: "Types: deb\n", text: "Types: deb\nEnabled: yes\n"},
		{does: "a setting of no weight", file: "etc/apt/apt.conf.d/99x", text: "APT::Install-Suggests \"0\";\nAPT::Color \"0\";\n"},
		{does: "another spelling of a yes", file: confFile, from: "Acquire::Check-Date \"true\"", text: "Acquire::Check-Date \"yes\""},
		{does: "another way to write it", file: confFile, from: "Acquire::http::Proxy \"http://proxy.brinewick.test:3128\";", text: "Acquire { http { Proxy \"http://proxy.brinewick.test:3128\"; }; };"},
		{does: "an explanation of a pin", file: pinFile, from: "Explanation: ours", text: "Explanation: ours, still"},
		{does: "a pin in another file", file: pinFile, text: "-", more: tree{"etc/apt/preferences.d/moved": ownPin}},
		{does: "a key that no source names", file: "usr/share/keyrings/new.asc", text: somebody},
		{does: "a list that apt ignores", file: "etc/apt/sources.list.d/notes.txt", text: "deb http://x.example/ y z\n"},
		{does: "a source that is off", file: "etc/apt/sources.list.d/off.list", text: "# deb http://x.example/ y z\n"},
		{does: "the same key in another file", file: "etc/apt/trusted.gpg.d/skerry.asc", text: "-", more: tree{"etc/apt/trusted.gpg.d/archive.asc": armoured(handKeys[1])}},
	})
}
