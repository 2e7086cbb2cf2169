package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
)

// A keyring below /usr is its package's: what an update of it brings is told, and no healing
// takes it back.
func TestWhatAPackageBringsBelowUsrIsNotTakenBack(t *testing.T) {
	p := debPlace()
	p.files["var/lib/dpkg/info/skerry-keyring.list"] = "/.\n/usr/share/keyrings\n/usr/share/keyrings/skerry.asc\n"
	p = p.carried(t)
	before := look(p.files, p.modes, p.sheet)
	base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
	now := p.done(t, hand{file: "usr/share/keyrings/skerry.asc", text: armoured(handKeys[1]) + armoured(handKeys[3])})
	r := look(now.files, now.modes, now.sheet)
	classes, said := map[string]int{}, ""
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
		classes[f.Class]++
		said += f.Message
	}
	require.Equal(t, 1, classes[drift.KeyAdded], "%v", classes)
	assert.Contains(t, said, "; the file belongs to the package skerry-keyring")
	plan := change.Compute(change.Input{Sheet: p.sheet, Survey: &r.Survey, Texts: r.Texts, Before: p.sheet, Kept: before.Texts, Base: base, Stood: before.Texts})
	assert.Empty(t, plan.Edits)
}
