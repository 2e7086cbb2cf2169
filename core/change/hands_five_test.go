package change_test

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/drift"
)

const (
	overridden = "etc/dnf/repos.override.d/60-hand.repo"
	laidOver   = "etc/dnf/repos.override.d/50-local.repo"
	dropIn     = "etc/dnf/libdnf5.conf.d/60-hand.conf"
)

// What dnf 5 reads beside the files that dnf 4 reads is found there.
func TestWhatHandsDoToDnf5(t *testing.T) {
	hands(t, five(rpmPlace()), []hand{
		{does: "no certificates, beside dnf.conf", file: dropIn, text: "[main]\nsslverify=0\n", want: "setting-weakened danger", field: "main.sslverify"},
		{does: "excludes for all, beside dnf.conf", file: dropIn, text: "[main]\nexcludepkgs=gull\n", want: "hold-changed fault", field: "exclude"},
		{does: "checks that dnf.conf has the last word on", file: dropIn, text: "[main]\ngpgcheck=0\n"},
		{does: "a comment, laid over", file: laidOver, text: "# why\n[base]\ncost=900\n"},
		{does: "no file of dnf 5", file: "etc/dnf/libdnf5.conf.d/x.conf.bak", text: "[main]\nsslverify=0\n"},
		{does: "a new source where dnf 4 does not look", file: "usr/share/dnf5/repos.d/new.repo", text: "[new]\nname=n\nbaseurl=http://new.example/\n",
			want: "unlisted-source note", field: "source", stays: true},
	})
}

// What is laid over repositories is found where it stands, and names each repository that it changes.
func TestWhatIsLaidOverRepositoriesIsFound(t *testing.T) {
	p := five(rpmPlace()).carried(t)
	before := look(p.files, p.modes, p.sheet)
	base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
	for does, x := range map[string]struct{ file, text, repository string }{
		"the policy's elsewhere": {overridden, "[salt*]\nbaseurl=http://elsewhere.example/x\n", "saltmarsh"},
		"nothing checked":        {overridden, "[*]\ngpgcheck=0\n", "saltmarsh"},
		"off":                    {overridden, "[base]\nenabled=0\n", "base"},
		"no more":                {laidOver, "", "base"},
	} {
		files := maps.Clone(p.files)
		if files[x.file] = x.text; x.text == "" {
			delete(files, x.file)
		}
		r := look(files, p.modes, p.sheet)
		there, at := false, false
		for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
			there = there || f.File == "/"+x.file && f.Severity == "danger"
			at = at || f.Class != drift.UnlistedSource && (f.Repository == x.repository || strings.Contains(f.Message, x.repository))
		}
		assert.True(t, there, does)
		assert.True(t, at, does)
	}
}
