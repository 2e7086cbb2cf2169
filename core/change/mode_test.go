package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/source"
)

// Who may write a file is a change too: there is a diff of it, by which people and programs tell that something changes.
func TestAModeAloneIsAChange(t *testing.T) {
	const path, text = "/etc/yum.repos.d/saltmarsh.repo", "[saltmarsh]\nbaseurl=http://packages.saltmarsh.example/\n"
	work := func(mode, has string) change.Change {
		sheet := &source.Sheet{Family: "rpm", Files: []source.SheetFile{{Path: path, Mode: "0644", Text: text}}}
		survey := &source.Survey{Files: []source.File{{Path: path, Mode: mode}}}
		return change.Compute(change.Input{Sheet: sheet, Survey: survey, Texts: map[string][]byte{path: []byte(has)}})
	}
	for _, c := range []struct{ name, mode, has, want string }{
		{"as it is to be", "0644", text, ""},
		{"for everybody to write", "0666", text, "--- " + path + "\tmode 0666\n+++ " + path + "\tmode 0644\n"},
		{"with another text too", "0600", "[saltmarsh]\n", "--- " + path + "\tmode 0600\n+++ " + path + "\tmode 0644\n" +
			"@@ -1 +1,2 @@\n [saltmarsh]\n+baseurl=http://packages.saltmarsh.example/\n"},
		{"with another text alone", "0644", "[saltmarsh]\n", "--- " + path + "\n+++ " + path + "\n" +
			"@@ -1 +1,2 @@\n [saltmarsh]\n+baseurl=http://packages.saltmarsh.example/\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := work(c.mode, c.has)
			assert.Equal(t, c.want, got.Diff())
			if c.want == "" {
				assert.Empty(t, got.Edits)
				return
			}
			require.Len(t, got.Edits, 1)
			assert.Equal(t, change.Edit, got.Edits[0].Action)
		})
	}
}
