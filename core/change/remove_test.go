package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/source"
)

func TestAFileOfWhichNothingIsLeftGoes(t *testing.T) {
	have := dnfHost(t, map[string]string{"etc/yum.repos.d/own.repo": "[own]\nname=Own\nbaseurl=http://own.example/\n", "etc/yum.repos.d/kept.repo": "# why this is here\n[other]\nname=Other\nbaseurl=http://other.example/\n",
		"etc/yum.repos.d/foreland.repo": "[foreland-base]\nname=Foreland\nbaseurl=http://archive.foreland.example/\n"})
	sheet := &source.Sheet{Format: source.FormName(1), Family: "rpm", Unlisted: source.UnlistedRemove}
	plan := change.Compute(change.Input{Sheet: sheet, Survey: &have.Survey, Texts: have.Texts})
	got := map[string]string{}
	for _, e := range plan.Edits {
		got[e.Path] = e.Action
	}
	assert.Equal(t, map[string]string{"/etc/yum.repos.d/own.repo": change.Remove, "/etc/yum.repos.d/kept.repo": change.Edit, "/etc/yum.repos.d/foreland.repo": change.Remove}, got, "a file with a remark in it stays")
	loud := preview.Weakens(sheet, &have.Survey)
	require.Len(t, loud, 1)
	assert.Equal(t, "/etc/yum.repos.d/foreland.repo:1 is the distribution's own (http://archive.foreland.example/) and would be removed: unlisted: remove takes everything that the policy does not list; list it with in-place: true", loud[0])
	sheet.InPlace = []source.InPlace{{Repository: "base", Enabled: true, Sections: []string{"foreland-base"}}}
	assert.Empty(t, preview.Weakens(sheet, &have.Survey))
}
