package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/drift"
)

// What one hand does is one finding, also where healing takes more than one step, or is left to a person.
func TestOneEditIsOneFinding(t *testing.T) {
	for _, c := range []struct {
		place place
		hand  hand
	}{
		{debPlace(), hand{does: "pins that apt does not take", file: "etc/apt/preferences.d/b", text: "Pin: release n=x\n", want: "refused fault"}},
		{debPlace(), hand{does: "all from elsewhere", file: "etc/apt/apt.conf", text: "Dir::Etc \"/srv/apt\";\n", want: "setting-changed danger"}},
		{rpmPlace(), hand{
			does: "another base, unchecked, read first", file: "etc/yum.repos.d/a.repo",
			text: "[base]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=1\ngpgcheck=0\n", want: "unlisted-source danger",
		}},
		{rpmPlace(), hand{does: "plugins from elsewhere", file: dnfConf, from: "[main]\n", text: "[main]\npluginconfpath=/srv/p\n", want: "setting-changed danger"}},
		{zyppPlace(t), hand{does: "locks from elsewhere", file: zyppConf, from: "[main]\n", text: "[main]\nlocksfile.path = /srv/l\n", want: "setting-changed fault"}},
		{zyppPlace(t), hand{does: "a service that zypper does not take", file: zyppServ, from: "desk.halyard", text: "desk;halyard", want: "refused fault"}},
		{zyppPlace(t), hand{
			does: "a word too many", file: "etc/zypp/repos.d/saltmarsh.repo", from: "autorefresh=1\n", text: "autorefresh=1\n x y z\n", want: "refused fault",
		}},
		{debPlace(), hand{does: "a login in clear", file: ploverFile, from: "https://", text: "https://me:word@", want: "access-in-clear fault"}},
		{rpmPlace(), hand{does: "a login in clear, too", file: ploverDnf, from: "https://", text: "https://me:word@", want: "access-in-clear fault"}},
		{zyppPlace(t), hand{does: "and here", file: halyardFile, from: "http://", text: "http://me:word@", want: "access-in-clear fault"}},
		{archPlace(), hand{does: "and there", file: mirrors, from: "http://", text: "http://me:word@", want: "access-in-clear fault"}},
		{archPlace(), hand{does: "hooks from elsewhere", file: pacFile, from: "[options]\n", text: "[options]\nHookDir = /srv/hooks\n", want: "setting-changed danger"}},
	} {
		t.Run(c.hand.does, func(t *testing.T) {
			p := c.place.carried(t)
			before := look(p.files, p.modes, p.sheet)
			base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
			usual := map[string]bool{}
			for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &before.Survey, Base: base}) {
				usual[f.Key()] = true
			}
			now := p.done(t, c.hand)
			r := look(now.files, now.modes, now.sheet)
			var said []string
			for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
				if !usual[f.Key()] && f.Severity != drift.Note {
					said = append(said, f.Class+" "+f.Severity)
				}
			}
			assert.Equal(t, []string{c.hand.want}, said)
		})
	}
}
