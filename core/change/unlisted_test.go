package change_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

const ownConf = "[options]\nArchitecture = x86_64\nSigLevel = Required\n\n[driftwood]\nServer = http://archive.driftwood.example/$repo\n\n# somebody's\n[terns]\nSigLevel = Never\nServer = http://terns.example/$arch\n\n[gulls]\nServer = http://gulls.example/\n"

func TestSectionsOfPacmanThatThePolicyDoesNotList(t *testing.T) {
	for unlisted, want := range map[string]string{
		source.UnlistedReport:    ownConf,
		source.UnlistedSwitchOff: "[options]\nArchitecture = x86_64\nSigLevel = Required\n\n[driftwood]\nServer = http://archive.driftwood.example/$repo\n\n# somebody's\n#[terns]\n#SigLevel = Never\n#Server = http://terns.example/$arch\n\n#[gulls]\n#Server = http://gulls.example/\n",
		source.UnlistedRemove:    "[options]\nArchitecture = x86_64\nSigLevel = Required\n\n[driftwood]\nServer = http://archive.driftwood.example/$repo\n\n# somebody's\n\n",
	} {
		have := pacmanHost(map[string]string{"etc/pacman.conf": ownConf})
		sheet := &source.Sheet{Format: source.FormName(1), Family: arch.Family, Unlisted: unlisted, InPlace: []source.InPlace{{Repository: "base", Enabled: true, Sections: []string{"driftwood"}}}}
		after, plan := carry(t, sheet, have)
		assert.Empty(t, plan.Impossible)
		assert.Equal(t, want, after["etc/pacman.conf"], unlisted)
		again := pacmanHost(after)
		for _, f := range drift.Compare(sheet, &again.Survey) {
			assert.Equal(t, source.UnlistedReport, unlisted, "%v", f)
		}
	}
}

func TestSectionsOfTheDistributionGoOnAndOff(t *testing.T) {
	have := pacmanHost(map[string]string{"etc/pacman.conf": "[options]\nSigLevel = Required\n\n#[driftwood]\n#Server = http://archive.driftwood.example/$repo\n\n[extra]\nServer = http://x.example/\n"})
	sheet := &source.Sheet{Format: source.FormName(1), Family: arch.Family, Unlisted: source.UnlistedReport, InPlace: []source.InPlace{
		{Repository: "base", Enabled: true, Sections: []string{"driftwood"}}, {Repository: "extra", Sections: []string{"extra"}}, {Repository: "more", Enabled: true, Sections: []string{"gone"}}}}
	after, plan := carry(t, sheet, have)
	assert.Equal(t, "[options]\nSigLevel = Required\n\n[driftwood]\nServer = http://archive.driftwood.example/$repo\n\n#[extra]\n#Server = http://x.example/\n", after["etc/pacman.conf"])
	assert.Equal(t, []string{"more: no section [gone] stands on the host, and none stood there before"}, plan.Impossible)
}

func TestRemotesThatThePolicyDoesNotList(t *testing.T) {
	const config = "[core]\nrepo_version=1\n\n[remote \"terns\"]\nurl=http://terns.example/repo\ngpg-verify=false\n"
	for unlisted, want := range map[string]string{
		source.UnlistedReport:    config,
		source.UnlistedSwitchOff: config + "xa.disable=true\n",
		source.UnlistedRemove:    "[core]\nrepo_version=1\n",
	} {
		r := survey.Read(rootfs.New(fstest.MapFS{
			"etc/os-release":               {Data: []byte("ID=skerry\nID_LIKE=debian\n")},
			"etc/apt/sources.list":         {Data: []byte("")},
			"var/lib/flatpak/repo/config":  {Data: []byte(config)},
			"var/lib/flatpak/repo/objects": {Mode: 0o755 | 1<<31},
		}), survey.Machine{Arch: "x86_64"})
		r.Masked()
		plan := change.Compute(change.Input{Sheet: &source.Sheet{Family: "deb", Unlisted: unlisted}, Survey: &r.Survey, Texts: r.Texts})
		if unlisted == source.UnlistedReport {
			assert.Empty(t, plan.Edits)
			continue
		}
		require.Len(t, plan.Edits, 1, unlisted)
		assert.Equal(t, want, string(plan.Edits[0].New))
	}
}
