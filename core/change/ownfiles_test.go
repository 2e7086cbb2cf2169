package change_test

import (
	"maps"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
)

// ownFiles are hosts on which a policy has files of every kind that it writes.
func ownFiles(t *testing.T, authority string) map[string]place {
	t.Helper()
	out := map[string]place{"apt": debPlace(), "dnf": rpmPlace(), "zypper": zyppPlace(t), "pacman": archPlace(), "flatpak": flatpakPlace()}
	mirrored := saltmarsh("https://packages.saltmarsh.example/8.x")
	mirrored.Mirrors, mirrored.URL = []string{"http://a.saltmarsh.example/", "http://b.saltmarsh.example/"}, ""
	mirrored.Repository, mirrored.Authority = "fulmar", authority
	add := func(name string, files []source.SheetFile, src source.SheetSource, keys []source.SheetKey) {
		p := out[name]
		for _, f := range files {
			if !slices.ContainsFunc(p.sheet.Files, func(g source.SheetFile) bool { return g.Path == f.Path }) {
				p.sheet.Files = append(p.sheet.Files, f)
			}
		}
		p.sheet.Sources, p.sheet.Keys = append(p.sheet.Sources, src), append(p.sheet.Keys, keys...)
	}
	files, src, keys := rpm.Render(mirrored)
	add("dnf", files, src, keys)
	files, src, keys = arch.Render(mirrored)
	add("pacman", files, src, keys)
	files, src, keys, err := zypp.Render(mirrored)
	require.NoError(t, err)
	add("zypper", files, src, keys)
	files, src, keys = deb.Render(deb.Definition{Repository: "fulmar", Enabled: true, Mirrors: mirrored.Mirrors, Suites: []string{"stable"},
		Components: []string{"main"}, Signatures: source.CheckRequired, Keys: mirrored.Keys})
	add("apt", files, src, keys)
	proxy := deb.ProxyFile("http://proxy.brinewick.test:3128", []string{"packages.saltmarsh.example"})
	p := out["apt"]
	p.sheet.Files = append(p.sheet.Files, proxy)
	return out
}

// Whatever somebody writes into a file of the policy that decides something is a finding, and none that says it means the
// same.
func TestWhateverIsWrittenIntoAFileOfThePolicyIsFound(t *testing.T) {
	site, other := rootOf(t, "Brinewick"), rootOf(t, "Elsewhere")
	somebody := armoured(handKeys[3])
	more := map[string][]string{ // what is written behind what stands there, by the end of the file's name
		".sources": {
			"\nTypes: deb\nURIs: http://elsewhere.example/\nSuites: stable\nComponents: main\n", "Trusted: yes\n", "Allow-Insecure: yes\n", "Allow-Weak: yes\n",
			"Check-Valid-Until: no\n", "Check-Date: no\n", "Architectures: i386\n", "InRelease-Path: elsewhere/InRelease\n", "Snapshot: 20260101T000000Z\n",
			"Allow-Downgrade-To-Insecure: yes\n", "Valid-Until-Max: 999999\n", "Enabled: no\n", "Suites: limpet\n",
		},
		".list": {"http://elsewhere.example/\n"}, ".mirrors": {"Server = http://elsewhere.example/\n"},
		".repo": {
			"baseurl=http://elsewhere.example/\n", "mirrorlist=http://elsewhere.example/\n", "proxy=http://elsewhere.example:1\n", "enabled=0\n",
			"gpgkey=http://elsewhere.example/key\n", "priority=1\n", "gpgcheck=0\nrepo_gpgcheck=0\npkg_gpgcheck=0\n", "\n[x]\nname=x\nbaseurl=http://elsewhere.example/\nenabled=1\n",
		},
		".pref": {"\nPackage: *\nPin: origin elsewhere.example\nPin-Priority: 1001\n"}, ".asc": {somebody}, ".pem": {other},
		".conf": {"Acquire::AllowInsecureRepositories \"true\";\n", "Acquire::http::Proxy \"http://elsewhere.example:1\";\n", "\n[x]\nServer = http://elsewhere.example/\n",
			"\nServer = http://elsewhere.example/\n", "\nSigLevel = Required TrustAll\n", "\nSigLevel = Never\n", "\nUsage = Search\n",
			"\nInclude = /etc/pacman.d/mirrors\n",
		},
	}
	own := map[string][]string{ // of one family alone
		"dnf": {
			"sslverify=0\n", "metalink=http://elsewhere.example/\n", "cost=1\n", "excludepkgs=tern\n", "includepkgs=tern\n", "module_hotfixes=1\n",
			"metadata_expire=never\n", "sslcacert=/srv/elsewhere.pem\n", "username=ola\n", "ip_resolve=4\nproxy_sslverify=0\n",
		},
		"zypper": {"path=/elsewhere\n"},
	}
	for name, p := range ownFiles(t, site) {
		p = p.carried(t)
		before := look(p.files, p.modes, p.sheet)
		base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
		found := func(files tree) (out []drift.Finding) {
			r := look(files, p.modes, p.sheet)
			for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
				if f.Severity != drift.Note {
					out = append(out, f)
				}
			}
			return out
		}
		usual := len(found(p.files))
		for _, f := range p.sheet.Files {
			is := p.files[f.Path[1:]]
			require.NotEmpty(t, is, "%s: %s", name, f.Path)
			texts := []string{"-", "", "\n"}
			for _, m := range more[path.Ext(f.Path)] {
				if path.Ext(f.Path) != ".conf" || (m[0] == '\n') == (name == "pacman") {
					texts = append(texts, is+m)
				}
			}
			if path.Ext(f.Path) == ".repo" {
				for _, m := range own[name] {
					texts = append(texts, is+m)
				}
			}
			require.Greater(t, len(texts), 3, "%s: nothing is known to be written into %s", name, f.Path)
			for _, text := range texts {
				if name == "zypper" && strings.Count(text, "mirrorlist=") > 1 {
					continue // the first counts
				}
				files := maps.Clone(p.files)
				if files[f.Path[1:]] = text; text == "-" {
					delete(files, f.Path[1:])
				}
				assert.Greater(t, len(found(files)), usual, "%s: %s says\n%s", name, f.Path, text)
			}
			files := maps.Clone(p.files)
			files[f.Path[1:]] = "# of the site\n" + is
			if path.Ext(f.Path) != ".asc" {
				assert.Len(t, found(files), usual, "%s: a comment in %s", name, f.Path)
			}
		}
	}
}
