package policies

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/service/compute"
)

// What is read once for many stands side by side, and each of the list is there once.
func TestChangesOfEqualSurveysStandSideBySide(t *testing.T) {
	digests := rapid.SliceOfN(rapid.StringMatching(`[a-d]{0,1}`), 0, 60)
	rapid.Check(t, func(rt *rapid.T) {
		surveys, before := digests.Draw(rt, "surveys"), digests.Draw(rt, "sheets")
		var all []*shown
		distinct := map[string]bool{}
		for i := range min(len(surveys), len(before)) {
			all = append(all, &shown{pair: compute.Pair{Survey: surveys[i], Before: before[i]}})
			distinct[surveys[i]] = true
		}
		var keys []string
		once := map[*shown]bool{}
		for _, x := range sideBySide(all) {
			keys = append(keys, x.pair.Survey)
			once[x] = true
		}
		require.Len(rt, once, len(all))
		require.Len(rt, slices.Compact(keys), len(distinct))
	})
}
