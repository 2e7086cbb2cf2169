package change_test

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
)

// The heading of a section is a line like others: one edit of it is one finding, and healing gives every byte back.
func TestWhatHandsDoToHeadings(t *testing.T) {
	const missing, source, goes = "missing-source fault", "source", "changed-source danger"
	hands(t, archPlace(), []hand{
		{does: "gone, with all below it", file: pacFile, from: "\n[extra]\nSigLevel = PackageRequired\nInclude = /etc/pacman.d/mirrors\n", text: "\n", want: missing, field: source},
		{does: "the first gone, with all below it", file: pacFile, from: "[core]\nServer = http://archive.driftwood.example/$repo\n\n", text: "", want: missing, field: source},
		{does: "another name", file: pacFile, from: "[extra]", text: "[other]", want: missing, field: source, at: "/etc/pacman.conf:10"},
		{does: "the name of the one above", file: pacFile, from: "[extra]", text: "[core]", want: missing, field: source},
		{does: "spoilt", file: pacFile, from: "[extra]", text: "[extra", want: goes, field: "URL, include", at: "/etc/pacman.conf:7"},
		{does: "commented", file: pacFile, from: "[extra]", text: "#[extra]", want: goes, field: "URL, include", at: "/etc/pacman.conf:7"},
		{does: "taken out", file: pacFile, from: "[extra]\n", text: "", want: goes, field: "URL, include", at: "/etc/pacman.conf:7"},
		{does: "the first commented", file: pacFile, from: "[core]", text: "#[core]", want: missing, field: source},
	})
	alike := "[options]\nArchitecture = x86_64\nSigLevel = Required DatabaseOptional\n\n[core]\nInclude = /etc/pacman.d/mirrors\n\n[extra]\nInclude = /etc/pacman.d/mirrors\n"
	hands(t, archPlace().with(tree{pacFile: alike}), []hand{
		{does: "commented, with all below it", file: pacFile, from: "[extra]\nInclude", text: "#[extra]\n#Include", want: "switched-off fault", field: "enabled"},
		{does: "another name, of two alike", file: pacFile, from: "[extra]", text: "[other]", want: missing, field: source},
		{does: "another name, of the first of two alike", file: pacFile, from: "[core]", text: "[other]", want: missing, field: source},
		{does: "the first of two alike gone", file: pacFile, from: "[core]\nInclude = /etc/pacman.d/mirrors\n\n", text: "", want: missing, field: source},
		{does: "the second of two alike gone", file: pacFile, from: "[extra]\nInclude = /etc/pacman.d/mirrors\n", text: "", want: missing, field: source},
	})
	hands(t, zyppPlace(t), []hand{
		{does: "another name", file: halyardFile, from: "[update]", text: "[other]", want: missing, field: source, at: "/etc/zypp/repos.d/halyard.repo:12"},
		{does: "commented", file: halyardFile, from: "[update]", text: "#[update]", want: goes, field: "list of mirrors"},
		{does: "taken out", file: halyardFile, from: "[update]\n", text: "", want: goes, field: "list of mirrors"},
		{does: "the name of the one above", file: halyardFile, from: "[update]", text: "[oss]", want: goes, field: "list of mirrors"},
		{does: "the first commented", file: halyardFile, from: "[oss]", text: "#[oss]", want: "refused fault"},
		{does: "the policy's, another name", file: "etc/zypp/repos.d/saltmarsh.repo", from: "[saltmarsh]", text: "[other]", want: "changed-source fault", field: "name"},
	})
	hands(t, rpmPlace(), []hand{
		{does: "another name", file: forelandFile, from: "[updates]", text: "[other]", want: missing, field: source, at: "/etc/yum.repos.d/foreland.repo:9"},
		{does: "commented", file: forelandFile, from: "[updates]", text: "#[updates]", want: goes, field: "list of mirrors, priority, signature check, excludepkgs"},
		{does: "the name of the one above", file: forelandFile, from: "[updates]", text: "[base]", want: goes, field: "list of mirrors, priority, signature check, excludepkgs"},
		{does: "the first commented", file: forelandFile, from: "[base]", text: "#[base]", want: missing, field: source},
		{does: "the policy's, another name", file: saltRepo, from: "[saltmarsh]", text: "[other]", want: "changed-source fault", field: "name"},
		{does: "the policy's, commented", file: saltRepo, from: "[saltmarsh]", text: "#[saltmarsh]", want: missing, field: source},
		{does: "somebody's, another name", file: ploverDnf, from: "[plover]", text: "[other]", want: missing, field: source},
	})
	hands(t, flatpakPlace(), []hand{
		{does: "commented", file: flatConf, from: `[remote "gulls"]`, text: `#[remote "gulls"]`, want: missing, field: source},
		{does: "another name", file: flatConf, from: `[remote "gulls"]`, text: `[remote "others"]`, want: missing, field: source},
	})
}

// What took the place of a section is not looked for any more where that is put back: neither switched off, nor taken out.
func TestAHeadingIsPutBackWhateverBecomesOfTheUnlisted(t *testing.T) {
	for _, unlisted := range []string{source.UnlistedSwitchOff, source.UnlistedRemove} {
		for name, h := range map[string]hand{
			"dnf":    {file: forelandFile, from: "[updates]", text: "[other]"},
			"zypper": {file: halyardFile, from: "[update]", text: "[other]"},
			"pacman": {file: pacFile, from: "[extra]", text: "[other]"},
		} {
			t.Run(name+" "+unlisted, func(t *testing.T) {
				p := map[string]place{"dnf": rpmPlace(), "zypper": zyppPlace(t), "pacman": archPlace()}[name].carried(t)
				before := look(p.files, p.modes, p.sheet)
				sheet := *p.sheet
				sheet.Unlisted = unlisted
				r := look(p.files, p.modes, &sheet)
				settled := place{files: maps.Clone(p.files), sheet: &sheet, modes: p.modes}
				settled.take(change.Compute(change.Input{Sheet: &sheet, Survey: &r.Survey, Texts: r.Texts, Before: p.sheet, Kept: before.Texts}))
				stood := look(settled.files, settled.modes, &sheet)
				base := &drift.Base{Sheet: &sheet, Survey: &stood.Survey}
				require.Contains(t, settled.files[h.file], h.from)
				now := settled.done(t, h)
				r = look(now.files, now.modes, &sheet)
				plan := change.Compute(change.Input{Sheet: &sheet, Survey: &r.Survey, Texts: r.Texts, Before: &sheet, Kept: stood.Texts, Base: base, Stood: stood.Texts})
				assert.Empty(t, plan.Impossible)
				now.take(plan)
				assert.Equal(t, settled.files[h.file], now.files[h.file])
			})
		}
	}
}
