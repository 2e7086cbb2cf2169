package fleet

import (
	"errors"
	"slices"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/store"
)

// Hosts with equal surveys follow each other, and each is there once.
func TestHostsWithEqualSurveysFollowEachOther(t *testing.T) {
	digests := rapid.SliceOfN(rapid.StringMatching(`[a-d]{0,1}`), 0, 60)
	rapid.Check(t, func(rt *rapid.T) {
		var rows []*store.Host
		distinct := map[string]bool{}
		for _, d := range digests.Draw(rt, "surveys") {
			rows = append(rows, &store.Host{Survey: d})
			distinct[d] = true
		}
		var keys []string
		seen := map[int]bool{}
		for _, i := range bySurvey(rows) {
			keys = append(keys, rows[i].Survey)
			seen[i] = true
		}
		require.Len(rt, seen, len(rows), "every host once")
		require.Len(rt, slices.Compact(keys), len(distinct))
	})
	assert.Empty(t, bySurvey(nil))
}

func TestEachOfAListIsDoneOnce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		list := make([]int, rapid.IntRange(0, 5*block).Draw(rt, "length"))
		done := make([]atomic.Int32, len(list))
		for i := range list {
			list[i] = i
		}
		require.NoError(rt, ByBlocks(list, func(i int) error { done[i].Add(1); return nil }))
		for i := range done {
			require.EqualValues(rt, 1, done[i].Load(), i)
		}
	})
	assert.EqualError(t, ByBlocks([]int{1, 2}, func(int) error { return errors.New("no") }), "no")
}
