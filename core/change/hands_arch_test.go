package change_test

import (
	"testing"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

const (
	pacFile = "etc/pacman.conf"
	pacText = "# Driftwood's own\n[options]\nArchitecture = x86_64\nSigLevel = Required DatabaseOptional\nIgnorePkg = tern\n\n" +
		"[core]\nServer = http://archive.driftwood.example/$repo\n\n[extra]\nSigLevel = PackageRequired\nInclude = /etc/pacman.d/mirrors\n"
	mirrors = "etc/pacman.d/mirrors"
)

func archPlace() place {
	s := &source.Sheet{Format: source.FormName(1), Family: arch.Family, Unlisted: source.UnlistedReport, InPlace: []source.InPlace{
		{Repository: "base", Sections: []string{"core", "extra"}, Enabled: true},
	}}
	files, src, _ := arch.Render(saltmarsh("https://packages.saltmarsh.example/arch/8.x"))
	s.Sources = []source.SheetSource{src}
	for _, f := range files {
		if f.Repository != "" {
			s.Files = append(s.Files, f)
		}
	}
	return place{sheet: s, files: tree{
		"etc/os-release": "ID=driftwood\nID_LIKE=arch\n", pacFile: pacText, mirrors: "Server = http://a.driftwood.example/$repo\nServer = http://b.driftwood.example/$repo\n",
		"etc/pacman.d/hooks/own.hook": "[Trigger]\nType = Package\nOperation = Install\nTarget = *\n\n[Action]\nWhen = PostTransaction\nExec = /usr/bin/true\n",
	}}
}

func TestWhatHandsDoToPacman(t *testing.T) {
	const salt = "etc/pacman.d/lantern-saltmarsh.conf"
	hands(t, archPlace(), []hand{
		{does: "no check in a section", file: pacFile, from: "[core]\n", text: "[core]\nSigLevel = Never\n", want: "checks-weakened danger", field: "signature check, signature check of packages", at: "/etc/pacman.conf:7"},
		{does: "anybody's signature", file: pacFile, from: "PackageRequired", text: "PackageRequired PackageTrustAll", want: "changed-source danger", field: "trust"},
		{does: "no check at all", file: pacFile, from: "Required DatabaseOptional", text: "Never", want: "setting-weakened danger", field: "options.SigLevel"},
		{does: "elsewhere", file: pacFile, from: "archive.driftwood.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "a mirror of somebody's", file: mirrors, from: "http://b.driftwood", text: "http://elsewhere", want: "changed-source danger", field: "URL"},
		{does: "a new section above", file: pacFile, from: "[core]\n", text: "[new]\nServer = http://new.example/\n\n[core]\n", want: "unlisted-source note", field: "source", stays: true},
		{does: "off", file: pacFile, from: "[core]\nServer", text: "#[core]\n#Server", want: "switched-off fault", field: "enabled"},
		{does: "only for searching", file: pacFile, from: "[core]\n", text: "[core]\nUsage = Search\n", want: "changed-source fault", field: "usage"},
		{does: "ignores more", file: pacFile, from: "IgnorePkg = tern", text: "IgnorePkg = tern sedge", want: "hold-changed fault", field: "ignore"},
		{does: "ignores nothing", file: pacFile, from: "IgnorePkg = tern\n", text: "", want: "hold-changed fault", field: "ignore"},
		{does: "another program fetches", file: pacFile, from: "[options]\n", text: "[options]\nXferCommand = /usr/bin/x %u\n", want: "setting-changed danger", field: "options.XferCommand"},
		{does: "hooks from elsewhere", file: pacFile, from: "[options]\n", text: "[options]\nHookDir = /srv/hooks\n", want: "setting-changed danger", field: "options.HookDir"},
		{does: "a hook", file: "etc/pacman.d/hooks/new.hook", text: "[Action]\nExec = /usr/local/bin/x\n", want: "setting-changed danger", field: "program"},
		{does: "another program in a hook", file: "etc/pacman.d/hooks/own.hook", from: "/usr/bin/true", text: "/usr/local/bin/x", want: "setting-changed danger", field: "program"},
		{does: "a hook gone", file: "etc/pacman.d/hooks/own.hook", text: "-", want: "setting-changed fault", field: "program"},
		{does: "a hook that anybody may write", file: "etc/pacman.d/hooks/own.hook", mode: 0o666, want: "changed-mode danger", field: "mode"},
		{does: "another keyring", file: pacFile, from: "[options]\n", text: "[options]\nGPGDir = /srv/gpg\n", want: "setting-changed danger", field: "options.GPGDir"},
		{does: "the policy's unchecked", file: salt, from: "Required DatabaseOptional", text: "Never", want: "checks-weakened danger", field: "signature check of packages"},
		{does: "the policy's unchecked below its include", file: "etc/pacman.conf", from: "Include = /etc/pacman.d/lantern-saltmarsh.conf\n", text: "Include = /etc/pacman.d/lantern-saltmarsh.conf\nSigLevel = Never\n",
			want: "checks-weakened danger", field: "signature check of packages", at: "/" + salt},
		{does: "the policy's not included", file: "etc/pacman.conf", from: "Include = /etc/pacman.d/lantern-saltmarsh.conf\n", text: "", want: "missing-source fault", field: "source"},
		{does: "another section above the policy's", file: salt, from: "[saltmarsh]", text: "[reed]\nServer = http://elsewhere.example/x\nSigLevel = Never\n[saltmarsh]",
			want: "unlisted-source danger", field: "source"},
		{does: "the policy's by another name", file: salt, from: "[saltmarsh]", text: "[reed]", want: "changed-source fault", field: "name"},
		{does: "the policy's elsewhere", file: salt, from: "packages.saltmarsh.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "anybody may write", file: pacFile, mode: 0o666, want: "changed-mode danger", field: "mode"},
		{does: "the policy's file gone", file: salt, text: "-", want: "missing-file fault", field: "file"},

		{does: "a comment", file: pacFile, from: "# Driftwood's own", text: "# see the wiki"},
		{does: "colour", file: pacFile, from: "[options]\n", text: "[options]\nColor\nParallelDownloads = 5\n"},
		{does: "the same level in other words", file: pacFile, from: "Required DatabaseOptional", text: "PackageRequired DatabaseOptional"},
		{does: "another order of mirrors", file: mirrors, text: "Server = http://b.driftwood.example/$repo\nServer = http://a.driftwood.example/$repo\n"},
		{does: "blanks", file: pacFile, from: "Architecture = x86_64", text: "Architecture=x86_64"},
		{does: "a section that is off", file: pacFile, from: "[core]\n", text: "#[testing]\n#Server = http://x.example/\n\n[core]\n"},
	})
}

const (
	flatConf = "var/lib/flatpak/repo/config"
	flatText = "[core]\nrepo_version=1\nmode=bare-user-only\n\n[remote \"gulls\"]\nurl=https://apps.gulls.example/repo/\ngpg-verify=true\ngpg-verify-summary=true\nxa.title=Gulls\n"
)

func flatpakPlace() place {
	p := debPlace()
	files, src, keys := flatpak.Render(saltmarsh("https://apps.saltmarsh.example/repo/"))
	src.Title = "Saltmarsh"
	p.sheet.Files, p.sheet.Sources = append(p.sheet.Files, files...), append(p.sheet.Sources, src)
	p.sheet.Keys = append(p.sheet.Keys, keys...)
	p.files[flatConf] = flatText
	p.files["var/lib/flatpak/repo/gulls.trustedkeys.gpg"] = binary(handKeys[2])
	return p
}

func TestWhatHandsDoToFlatpak(t *testing.T) {
	const other = "etc/flatpak/installations.d/own.conf"
	hands(t, flatpakPlace().with(tree{other: "[Installation \"own\"]\nPath=/srv/own\n", "srv/own/repo/config": "[core]\n[remote \"terns\"]\nurl=https://terns.example/\n"}), []hand{
		{does: "an installation more", file: "etc/flatpak/installations.d/new.conf", text: "[Installation \"new\"]\nPath=/srv/new\n", want: "setting-changed danger", field: "origin, trust"},
		{does: "an installation elsewhere", file: other, from: "Path=", text: "Priority=9\nPath=", want: "setting-changed danger", field: "origin, trust"},
		{does: "a remote of another installation", file: "srv/own/repo/config", from: "https://terns.example/", text: "http://elsewhere.example/", want: "setting-changed danger", field: "origin, trust", stays: true},
		{does: "a key of a remote there", file: "srv/own/repo/terns.trustedkeys.gpg", text: binary(handKeys[3]), want: "setting-changed danger", field: "trust", stays: true},
		{does: "a remote unchecked", file: flatConf, from: "gpg-verify=true", text: "gpg-verify=false", want: "checks-weakened danger", field: "signature check of packages"},
		{does: "a remote elsewhere", file: flatConf, from: "apps.gulls.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "a keyring for all of gpg", file: "etc/gnupg/gpg.conf", text: "keyring /srv/keys\n", want: "setting-weakened danger", field: "keyring /srv/keys"},
		{does: "without certificates", file: flatConf, from: "xa.title=Gulls", text: "xa.title=Gulls\ntls-permissive=true", want: "changed-source danger", field: "tls-permissive"},
		{does: "first of all", file: flatConf, from: "xa.title=Gulls", text: "xa.title=Gulls\nxa.prio=99", want: "changed-source fault", field: "priority"},
		{does: "filtered", file: flatConf, from: "xa.title=Gulls", text: "xa.title=Gulls\nxa.filter=/etc/f", want: "changed-source fault", field: "xa.filter"},
		{does: "off", file: flatConf, from: "xa.title=Gulls", text: "xa.title=Gulls\nxa.disable=true", want: "switched-off fault", field: "enabled"},
		{does: "a new remote", file: flatConf, from: "[remote \"gulls\"]", text: "[remote \"new\"]\nurl=https://new.example/\ngpg-verify=false\n\n[remote \"gulls\"]", want: "unlisted-source danger", field: "source", stays: true},
		{does: "a key beside the remote's", file: "var/lib/flatpak/repo/gulls.trustedkeys.gpg", text: binary(handKeys[2]) + binary(handKeys[3]), want: "key-added danger", field: "key"},
		{does: "the policy's remote without certificates", file: flatConf, from: "xa.title=Saltmarsh", text: "xa.title=Saltmarsh\ntls-permissive=true", want: "changed-source danger", field: "tls-permissive"},
		{does: "the policy's remote first of all", file: flatConf, from: "xa.title=Saltmarsh", text: "xa.title=Saltmarsh\nxa.prio=99", want: "changed-source fault", field: "priority"},
		{does: "the policy's remote filtered", file: flatConf, from: "xa.title=Saltmarsh", text: "xa.title=Saltmarsh\nxa.filter=/etc/f", want: "changed-source fault", field: "xa.filter"},
		{does: "the policy's remote through somebody", file: flatConf, from: "xa.title=Saltmarsh", text: "xa.title=Saltmarsh\nproxy=http://elsewhere.example:1", want: "changed-source fault", field: "proxy"},
		{does: "the policy's remote by other mirrors", file: flatConf, from: "xa.title=Saltmarsh", text: "xa.title=Saltmarsh\nmetalink=http://elsewhere.example/m", want: "changed-source danger", field: "list of mirrors"},
		{does: "the policy's remote with a comment", file: flatConf, from: "xa.title=Saltmarsh", text: "xa.title=Saltmarsh\nxa.comment=x"},
		{does: "the policy's remote elsewhere", file: flatConf, from: "apps.saltmarsh.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},

		{does: "another title", file: flatConf, from: "xa.title=Gulls", text: "xa.title=Terns"},
		{does: "a comment text", file: flatConf, from: "xa.title=Gulls", text: "xa.title=Gulls\nxa.comment=x"},
		{does: "blanks in flatpak's", file: flatConf, from: "gpg-verify=true", text: "gpg-verify = true"},
	})
}
