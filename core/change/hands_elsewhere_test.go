package change_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/drift"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
)

const (
	fulmarConf    = "etc/pacman.d/lantern-fulmar.conf"
	fulmarMirrors = "etc/pacman.d/lantern-fulmar.mirrors"
	vars          = "etc/dnf/vars/site"
	zyppVars      = "etc/zypp/vars.d/site"
)

// archAbove is a host on which a repository of the policy's stands above the distribution's, with a list of mirrors of its own, and
// on which the distribution's sections say where they are by the processor.
func archAbove() place {
	p := archPlace()
	d := saltmarsh("")
	d.Repository, d.URL, d.Mirrors, d.Level = "fulmar", "", []string{"https://north.fulmar.example/v3", "https://south.fulmar.example/v3"}, 1
	files, src, _ := arch.Render(d)
	sheet := *p.sheet
	sheet.Sources = append([]source.SheetSource{src}, sheet.Sources...)
	for _, f := range files {
		if f.Repository != "" {
			sheet.Files = append(sheet.Files, f)
		}
	}
	p.sheet = &sheet
	return p.with(tree{pacFile: "# Driftwood's own\n[options]\nArchitecture = x86_64\nSigLevel = Required DatabaseOptional\n\n" +
		"[driftwood]\nInclude = /etc/pacman.d/mirrors\n", mirrors: "Server = http://a.driftwood.example/$repo/os/$arch\n"}).
		named("driftwood")
}

// named is a place of which the policy says that the distribution's own are some sections.
func (p place) named(sections ...string) place {
	sheet := *p.sheet
	sheet.InPlace = []source.InPlace{{Repository: "base", Sections: sections, Enabled: true}}
	p.sheet = &sheet
	return p
}

// rpmByMain is a host whose own sources leave to dnf.conf how packages are checked, and where they are to a variable.
func rpmByMain() place {
	return rpmPlace().with(tree{dnfConf: "[main]\ngpgcheck=1\nbest=1\n", vars: "north\n", "etc/dnf/vars/unused": "a\n", "etc/dnf/vars/title": "Foreland\n",
		forelandFile: "[base]\nname=$title\n" +
			"baseurl=http://$site.foreland.example/$releasever/$basearch/\nenabled=1\nrepo_gpgcheck=1\ngpgkey=file:///etc/pki/rpm-gpg/FORELAND\n\n" +
			"[updates]\nname=Updates\nbaseurl=http://$site.foreland.example/updates/$basearch/\nenabled=1\ngpgkey=file:///etc/pki/rpm-gpg/FORELAND\n"})
}

// zyppByMain is the same for zypper.
func zyppByMain(t *testing.T) place {
	return zyppPlace(t).with(tree{zyppConf: "[main]\ngpgcheck = on\npkg_gpgcheck = on\n", zyppVars: "north\n", halyardFile: "[oss]\nname=Halyard\n" +
		"baseurl=http://$site.halyard.example/\nenabled=1\nrepo_gpgcheck=1\ngpgkey=file:///etc/keys/halyard.asc\n\n[update]\nname=Updates\n" +
		"baseurl=http://$site.halyard.example/update/\nenabled=1\ngpgkey=file:///etc/keys/halyard.asc\n"})
}

// What decides on a source may stand elsewhere: an edit there is one finding, however many sources it is about.
func TestWhatHandsDoElsewhere(t *testing.T) {
	const missing, goes, changed = "missing-source fault", "changed-source danger", "setting-changed danger"
	hands(t, archAbove(), []hand{
		{does: "a mirror of the policy's list gone", file: fulmarMirrors, from: "Server = https://north.fulmar.example/v3\n", text: "", want: goes, field: "text", at: "/" + fulmarMirrors},
		{does: "a mirror of somebody's in the policy's list", file: fulmarMirrors, from: "north.fulmar.example", text: "elsewhere.example", want: goes, field: "text"},
		{does: "the policy's heading commented", file: fulmarConf, from: "[fulmar]", text: "#[fulmar]", want: missing, field: "source"},
		{does: "the heading below the policy's commented", file: pacFile, from: "[driftwood]", text: "#[driftwood]", want: "missing-source danger", field: "source"},
		{does: "the heading below the policy's gone", file: pacFile, from: "[driftwood]\n", text: "", want: "missing-source danger", field: "source"},
		{does: "a level that pacman does not know", file: fulmarConf, from: "DatabaseOptional", text: "DatabaseOptiona", want: "refused fault"},
		{does: "another processor", file: pacFile, from: "Architecture = x86_64", text: "Architecture = x86_64_v3", want: changed, field: "options.Architecture"},
	})
	hands(t, rpmByMain(), []hand{
		{does: "no check by all", file: dnfConf, from: "gpgcheck=1", text: "gpgcheck=0", want: "setting-weakened danger", field: "main.gpgcheck"},
		{does: "the check by all is gone", file: dnfConf, from: "gpgcheck=1\n", text: "", want: "setting-weakened danger", field: "main.gpgcheck"},
		{does: "no heading", file: dnfConf, from: "[main]\n", text: "", want: "refused danger"},
		{does: "another site", file: vars, text: "elsewhere\n", want: changed, field: "origin", at: "/" + vars},
		{does: "the same site in other words", file: vars, text: "north\r\n# as it was\n"},
		{does: "no site", file: vars, text: "-", want: changed, field: "origin"},
		{does: "a variable that nothing uses", file: "etc/dnf/vars/other", text: "x\n"},
		{does: "a variable that only a title has", file: "etc/dnf/vars/title", text: "x\n"},
		{does: "another release by a variable", file: "etc/dnf/vars/basearch", text: "aarch64\n", want: changed, field: "origin"},
		{does: "a site that anybody may write", file: vars, mode: 0o666, want: "changed-mode danger", field: "mode"},
		{does: "another variable", file: forelandFile, from: "$site.foreland.example/$releasever", text: "$other.foreland.example/$releasever", want: goes, field: "URL"},
		{does: "no variable", file: forelandFile, from: "$site.foreland.example/updates", text: "x.foreland.example/updates", want: goes, field: "URL"},
		{does: "variables from elsewhere", file: dnfConf, from: "best=1", text: "best=1\nvarsdir=/srv/vars", want: changed, field: "main.varsdir"},
		{does: "another processor", file: dnfConf, from: "best=1", text: "best=1\narch=aarch64", want: changed, field: "main.arch"},
	})
	hands(t, zyppByMain(t), []hand{
		{does: "no check by all", file: zyppConf, from: "pkg_gpgcheck = on", text: "pkg_gpgcheck = off", want: "setting-weakened danger", field: "main.pkg_gpgcheck"},
		{does: "the check by all is gone", file: zyppConf, from: "pkg_gpgcheck = on\n", text: "", want: "setting-changed danger", field: "main.pkg_gpgcheck"},
		{does: "another site", file: zyppVars, text: "elsewhere\n", want: changed, field: "origin"},
	})
}

// A host that was upgraded is one finding: its sources say where the release is, and say what they said. Whoever changes one of them
// as well is told of that.
func TestAnotherReleaseIsOneFinding(t *testing.T) {
	p := rpmByMain().carried(t)
	before := look(p.files, p.modes, p.sheet)
	base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
	newer := tree{"etc/os-release": strings.Replace(p.files["etc/os-release"], "VERSION_ID=9", "VERSION_ID=10", 1)}
	for name, c := range map[string]struct {
		more tree
		want []string
	}{
		"the release alone": {nil, []string{"system-changed fault"}},
		"a source as well": {tree{forelandFile: strings.Replace(p.files[forelandFile], "$site.foreland", "elsewhere.foreland", 1)},
			[]string{"system-changed note", "changed-source danger"}},
		"a check as well":    {tree{dnfConf: "[main]\nbest=1\n"}, []string{"setting-changed danger", "system-changed fault"}},
		"a variable as well": {tree{vars: "elsewhere\n"}, []string{"setting-changed danger", "system-changed note"}},
	} {
		t.Run(name, func(t *testing.T) {
			now := p.with(newer).with(c.more)
			r := look(now.files, now.modes, now.sheet)
			var got []string
			for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
				if f.Class != drift.UnlistedSource {
					got = append(got, f.Class+" "+f.Severity)
				}
			}
			assert.ElementsMatch(t, c.want, got)
		})
	}
}
