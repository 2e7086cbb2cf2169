package change_test

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Nothing hides where more stands than is read: of what was not looked at there is a finding, and it goes where somebody
// accepts the host.
func TestWhatIsNotReadIsFound(t *testing.T) {
	long := strings.Repeat("# gulls\n", rootfs.MostLines)
	crowd := func(dir, last, text string) tree {
		out := tree{dir + last: text}
		for i := range rootfs.MostEntries {
			out[fmt.Sprintf("%sa%05d", dir, i)] = ""
		}
		return out
	}
	places := ownPlaces(t)
	places["flatpak"] = flatpakPlace()
	for _, c := range []struct {
		does, on string
		put      tree
		at       string
	}{
		{"a pin behind a hundred thousand lines", "apt", tree{"etc/apt/preferences.d/own": long + "\nPackage: *\nPin: origin elsewhere.example\nPin-Priority: 1001\n"}, "/etc/apt/preferences.d/own"},
		{"a setting behind them", "apt", tree{"etc/apt/apt.conf.d/99own": long + "Acquire::AllowInsecureRepositories \"1\";\n"}, "/etc/apt/apt.conf.d/99own"},
		{"what dpkg is told behind them", "apt", tree{"etc/dpkg/dpkg.cfg.d/own": long + "force-bad-verify\n"}, "/etc/dpkg/dpkg.cfg.d/own"},
		{"a list of sources behind a crowd of files", "apt", crowd("etc/apt/sources.list.d/", "z.list", "deb [trusted=yes] http://elsewhere.example/ x y\n"), "/etc/apt/sources.list.d"},
		{"a setting behind a crowd", "apt", crowd("etc/apt/apt.conf.d/", "z", "DPkg::Pre-Invoke { \"/srv/x\"; };\n"), "/etc/apt/apt.conf.d"},
		{"a repository behind a crowd", "dnf", crowd("etc/yum.repos.d/", "z.repo", "[z]\nname=z\nbaseurl=http://elsewhere.example/\ngpgcheck=0\n"), "/etc/yum.repos.d"},
		{"macros of rpm behind lines", "dnf", tree{"etc/rpm/macros.own": long + "%_pkgverify_level none\n"}, "/etc/rpm/macros.own"},
		{"macros of rpm behind lines", "zypper", tree{"etc/rpm/macros.own": long + "%_pkgverify_level none\n"}, "/etc/rpm/macros.own"},
		{"a repository behind a crowd", "zypper", crowd("etc/zypp/repos.d/", "z.repo", "[z]\nname=z\nbaseurl=http://elsewhere.example/\ngpgcheck=0\n"), "/etc/zypp/repos.d"},
		{"a hook behind a crowd", "pacman", crowd("etc/pacman.d/hooks/", "z.hook", "[Trigger]\nOperation = Install\nType = Package\nTarget = *\n[Action]\nWhen = PreTransaction\nExec = /srv/x\n"), "/etc/pacman.d/hooks"},
		{"a hook behind lines", "pacman", tree{"etc/pacman.d/hooks/own.hook": long + "[Trigger]\nOperation = Install\n"}, "/etc/pacman.d/hooks/own.hook"},
		{"a remote behind a crowd", "flatpak", crowd("etc/flatpak/remotes.d/", "z.flatpakrepo", "[Flatpak Repo]\nUrl=http://elsewhere.example/\n"), "/etc/flatpak/remotes.d"},
		{"cron behind lines", "apt", tree{"etc/cron.d/own": long + "0 3 * * * root apt-get -y --allow-unauthenticated upgrade\n"}, "/etc/cron.d/own"},
	} {
		t.Run(c.on+": "+c.does, func(t *testing.T) {
			p := places[c.on].carried(t)
			before := look(p.files, p.modes, p.sheet)
			now := p.with(c.put)
			r := look(now.files, now.modes, now.sheet)
			found := func(base *drift.Base) (beside, wanted []string) {
				for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
					assert.NotContains(t, f.Message, "does not read it", "it is we who do not")
					assert.NotContains(t, f.Message, "is not there", "it is not known")
					if f.Class != drift.NotRead {
						continue
					}
					assert.Equal(t, drift.Fault, f.Severity)
					assert.NotEmpty(t, f.ClosedBy())
					if f.Want == "" {
						beside = append(beside, f.File)
					} else {
						wanted = append(wanted, f.Want)
					}
				}
				return beside, wanted
			}
			beside, wanted := found(&drift.Base{Sheet: p.sheet, Survey: &before.Survey})
			assert.Contains(t, beside, c.at)
			assert.Empty(t, wanted, "one hand, one finding")
			hides := slices.ContainsFunc(p.sheet.Sources, func(s source.SheetSource) bool { return path.Dir(s.File) == c.at })
			for _, base := range []*drift.Base{{Sheet: p.sheet, Survey: &r.Survey}, nil} {
				beside, wanted = found(base)
				assert.Empty(t, beside, "it is accepted, or nobody knows what stood there")
				assert.Equal(t, hides, len(wanted) > 0, "what the policy wants is accepted by nobody: %v", wanted)
			}
		})
	}
	assert.Len(t, maps.Clone(places), 5)
}
