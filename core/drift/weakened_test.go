package drift_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// host reads a root of one family.
func host(t *testing.T, of string, tree map[string]string) *source.Survey {
	root := t.TempDir()
	require.NoError(t, cell.Write(root, tree))
	r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading {
		if of == "rpm" {
			return rpm.Read(root, family.Host{Arch: "x86_64", Release: "9"})
		}
		return deb.Read(root, []string{"amd64"})
	})
	require.NoError(t, err)
	return &source.Survey{Sources: r.Sources, Keys: r.Keys, Settings: r.Settings, Problems: r.Problems}
}

// No host is as the policy says on which a setting takes checks away, though no file of the
// policy says anything of the place where it stands.
func TestSettingsThatTakeChecksAwayAreFound(t *testing.T) {
	base := "deb http://archive.skerry.example/skerry mussel main\n"
	rule := source.InPlace{Repository: "skerry-base", Files: []string{"/etc/apt/sources.list"}, URLs: []string{"http://archive.skerry.example/skerry/"}, Suites: []string{"mussel"}, Enabled: true}
	for _, c := range []struct {
		name, of string
		tree     map[string]string
		want     string // class and severity of the only finding; empty for none
	}{
		{"as it came", "deb", map[string]string{"etc/apt/sources.list": base}, ""},
		{"permission for all", "deb", map[string]string{"etc/apt/sources.list": base, "etc/apt/apt.conf.d/99x": "Acquire::AllowInsecureRepositories \"yes\";\n"}, "setting-weakened danger"},
		{"for one program", "deb", map[string]string{"etc/apt/sources.list": base, "etc/apt/apt.conf": "Binary::apt-get::APT::Get::AllowUnauthenticated \"1\";\n"}, "setting-weakened danger"},
		{"certificates", "deb", map[string]string{"etc/apt/sources.list": base, "etc/apt/apt.conf": "Acquire { https { Verify-Peer \"false\"; }; };\n"}, "setting-weakened danger"},
		{"another checker", "deb", map[string]string{"etc/apt/sources.list": base, "etc/apt/apt.conf": "APT::Key::gpgvcommand \"true\";\n"}, "setting-weakened danger"},
		{"what holds anyway", "deb", map[string]string{"etc/apt/sources.list": base, "etc/apt/apt.conf": "Acquire::AllowInsecureRepositories \"no\";\nAPT::Install-Recommends \"0\";\n"}, ""},
		{"unlisted, without its age", "deb", map[string]string{"etc/apt/sources.list": base + "deb [check-date=no] http://elsewhere.example/d mussel main\n"}, "unlisted-source danger"},
		{"dnf without certificates", "rpm", map[string]string{"etc/dnf/dnf.conf": "[main]\ngpgcheck=1\nsslverify=0\n"}, "setting-weakened danger"},
		{"dnf as it came", "rpm", map[string]string{"etc/dnf/dnf.conf": "[main]\ngpgcheck=1\nskip_if_unavailable=1\n"}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			sheet := &source.Sheet{Family: c.of}
			if c.of == "deb" {
				sheet.InPlace = []source.InPlace{rule}
			}
			var got []string
			for _, f := range drift.Compare(sheet, host(t, c.of, c.tree)) {
				got = append(got, f.Class+" "+f.Severity)
				assert.NotEmpty(t, f.Message)
				assert.NotZero(t, f.Line)
			}
			if c.want == "" {
				assert.Empty(t, got)
			} else {
				assert.Equal(t, []string{c.want}, got)
			}
		})
	}
}

// A setting that takes one check away excuses no source that goes without another.
func TestASettingExcusesNothingButWhatItTakes(t *testing.T) {
	sheet := &source.Sheet{Family: "rpm", Unlisted: source.UnlistedReport, InPlace: []source.InPlace{{Repository: "base", Sections: []string{"base"}, Enabled: true}}}
	s := &source.Survey{Sources: []source.Source{{Family: "rpm", File: "/etc/yum.repos.d/x.repo", Line: 1, ID: "base", Enabled: true, EffURLs: []string{"http://h/"},
		Checks: source.Checks{Packages: source.CheckOff, Metadata: source.CheckOff}, Options: map[string]string{"gpgcheck": "0"}}}}
	classes := func() (out []string) {
		for _, f := range drift.Compare(sheet, s) {
			out = append(out, f.Class)
		}
		return out
	}
	assert.Equal(t, []string{drift.ChecksWeakened}, classes())
	s.Settings = []source.Setting{{Family: "rpm", Name: "main.sslverify", Value: "0", File: "/etc/dnf/dnf.conf", Line: 2, Touches: []string{source.TouchesTransport}}}
	assert.ElementsMatch(t, []string{drift.ChecksWeakened, drift.SettingWeakened}, classes())
	s.Settings[0].Touches = []string{source.TouchesTrust}
	assert.ElementsMatch(t, []string{drift.ChecksWeakened, drift.SettingWeakened}, classes(), "it says itself that it is not checked")
}
