package drift_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
)

// A key that the policy names as one of the distribution's own may come; any other that comes is
// a danger, whatever is expected beside it, and what goes is told as before.
func TestTheDistributionsOwnKeysMayCome(t *testing.T) {
	all := []string{"AA", "BB", "CC"}
	rapid.Check(t, func(rt *rapid.T) {
		was, is := drawn(rt, "was"), drawn(rt, "is")
		plain := &source.Sheet{Family: "deb", Unlisted: source.UnlistedReport}
		named := *plain
		named.InPlace = []source.InPlace{{Repository: "base", Keys: rapid.SliceOfNDistinct(rapid.SampledFrom(all), 0, 3, rapid.ID).Draw(rt, "expected")}}
		expected := map[string]bool{}
		for _, k := range named.InPlace[0].Keys {
			expected[k] = true
		}
		judge := func(sheet *source.Sheet) (added, others []drift.Finding) {
			for _, f := range drift.Judge(drift.Input{Sheet: sheet, Survey: is, Base: &drift.Base{Sheet: sheet, Survey: was}}) {
				if f.Class == drift.KeyAdded || f.Class == drift.KeyWider {
					added = append(added, f)
				} else if f.Class == drift.MissingKey {
					others = append(others, f)
				}
			}
			return added, others
		}
		before, gone := judge(plain)
		now, still := judge(&named)
		require.Equal(rt, gone, still)
		var want []drift.Finding
		for _, f := range before {
			if !expected[f.Have] {
				want = append(want, f)
			}
		}
		require.Equal(rt, want, now)
	})
}

// A sheet that names them says more than older agents understand, which refuse it in words.
func TestASheetThatNamesTheDistributionsKeysIsHasAFormOfItsOwn(t *testing.T) {
	sheet := &source.Sheet{InPlace: []source.InPlace{{Repository: "base"}}}
	assert.Equal(t, 1, sheet.Form())
	sheet.InPlace[0].Keys = []string{"AA"}
	assert.Equal(t, 3, sheet.Form())
	sheet.InPlace[0].Mirrors = []source.Mirror{{Of: "http://a.example/", At: "http://b.example/"}}
	assert.Equal(t, 4, sheet.Form())
	sheet.InPlace[0].Mirrors[0].Before = true
	assert.Equal(t, 7, sheet.Form())
	assert.Equal(t, "patient-lantern/sheet/7", source.FormName(source.NewestForm))
}
