package change_test

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/internal/keyforms"
)

// A newer apt may take keys no more though nobody has touched their files. No other file of their folder is touched for
// it: what the policy wrote there since, and what somebody else keeps there, is no reason of that.
func TestFilesBesideAKeyThatANewerAptRefusesStay(t *testing.T) {
	tried := 0
	for _, form := range forms {
		p := debPlace()
		p.files["etc/apt/keyrings/plover.asc"] = keyforms.Write(form, []byte(binary(handKeys[2])), armoured(handKeys[2]))
		plain := look(p.files, nil, p.sheet)
		base := &drift.Base{Sheet: p.sheet, Survey: &plain.Survey} // before the policy wrote its own key
		p = p.carried(t)
		now := place{files: maps.Clone(p.files), sheet: p.sheet, modes: maps.Clone(p.modes)}
		now.files["etc/apt/keyrings/spare.asc"] = armoured(handKeys[3])
		now.files["usr/lib/apt/methods/sqv"] = ""
		delete(now.files, "usr/bin/apt-key")
		r := look(now.files, now.modes, now.sheet)
		found := drift.Judge(drift.Input{Sheet: now.sheet, Before: now.sheet, Survey: &r.Survey, Base: base, All: true})
		if !slices.ContainsFunc(found, func(f drift.Finding) bool {
			return f.Class == drift.MissingKey && f.File == "/etc/apt/keyrings/plover.asc"
		}) {
			continue
		}
		tried++
		plan := change.Compute(change.Input{Sheet: now.sheet, Survey: &r.Survey, Texts: r.Texts, Before: now.sheet, Base: base, Stood: plain.Texts})
		for _, e := range plan.Edits {
			assert.NotContains(t, []string{"/etc/apt/keyrings/saltmarsh.asc", "/etc/apt/keyrings/spare.asc"}, e.Path, "%s: %+v", form, e.Why)
		}
	}
	assert.Positive(t, tried)
}
