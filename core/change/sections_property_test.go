package change_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// TestSectionsSettle draws configurations with sections and a sheet: once the edits are
// made there is nothing left to edit, and nothing but what is reported anyway is found.
func TestSectionsSettle(t *testing.T) {
	for _, family := range []string{rpm.Family, arch.Family} {
		t.Run(family, func(t *testing.T) {
			rapid.Check(t, func(rt *rapid.T) { settles(t, rt, family) })
		})
	}
}

func settles(t *testing.T, rt *rapid.T, family string) {
	section := func(name string) string {
		if family == rpm.Family {
			return fmt.Sprintf("[%s]\nname = %s\n%sbaseurl=https://%s.example/\n%s\n", name, name, rapid.SampledFrom([]string{"", "# a comment\n", "enabled = 0\n", "enabled=1\n"}).Draw(rt, "before"), name,
				rapid.SampledFrom([]string{"", "enabled=no\n", "gpgcheck=1\n"}).Draw(rt, "after"))
		}
		off := rapid.SampledFrom([]string{"", "", "#"}).Draw(rt, "off")
		return off + "[" + name + "]\n" + off + "Server = https://" + name + ".example/$arch\n" + rapid.SampledFrom([]string{"", "\n", "\n# a comment\n"}).Draw(rt, "after")
	}
	var text strings.Builder
	if family == arch.Family {
		text.WriteString("[options]\nArchitecture = x86_64\n\n")
	}
	names := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"base", "extra", "terns", "fulmar", "gulls"}), 0, 5, rapid.ID).Draw(rt, "sections")
	for _, n := range names {
		text.WriteString(section(n))
	}
	own := rapid.SliceOfNDistinct(rapid.SampledFrom(append([]string{"base"}, names...)), 0, min(2, len(names)), rapid.ID).Filter(func(l []string) bool { return subset(l, names) }).Draw(rt, "own")
	sheet := &source.Sheet{Format: source.FormName(1), Family: family, Unlisted: rapid.SampledFrom([]string{source.UnlistedReport, source.UnlistedSwitchOff, source.UnlistedRemove}).Draw(rt, "unlisted")}
	for i, n := range own {
		sheet.InPlace = append(sheet.InPlace, source.InPlace{Repository: fmt.Sprintf("own-%d", i), Enabled: rapid.Bool().Draw(rt, "enabled"), Sections: []string{n}})
	}
	read := func(files map[string]string) survey.Result {
		if family == rpm.Family {
			return dnfHost(t, files)
		}
		r := pacmanHost(files)
		r.Masked()
		return r
	}
	file := map[string]string{rpm.Family: "etc/yum.repos.d/all.repo", arch.Family: "etc/pacman.conf"}[family]
	have := read(map[string]string{file: text.String()})
	after, plan := carry(t, sheet, have)
	require.Empty(rt, plan.Impossible, text.String())
	again := read(map[string]string{file: after[file]})
	carriesOut(rt, sheet, nil, &have.Survey, &again.Survey)
	second := change.Compute(change.Input{Sheet: sheet, Survey: &again.Survey, Texts: again.Texts})
	assert.Empty(rt, second.Edits, "%s\nbecame\n%s", text.String(), after[file])
	for _, f := range drift.Compare(sheet, &again.Survey) {
		assert.True(rt, f.Class == drift.UnlistedSource && sheet.Unlisted == source.UnlistedReport, "%v\n%s\nbecame\n%s", f, text.String(), after[file])
	}
	for line := range strings.Lines(text.String()) { // no comment is lost
		if strings.HasPrefix(line, "# ") && sheet.Unlisted != source.UnlistedRemove {
			assert.Contains(rt, after[file], line)
		}
	}
}

func subset(list, of []string) bool {
	return !slices.ContainsFunc(list, func(x string) bool { return !slices.Contains(of, x) })
}
