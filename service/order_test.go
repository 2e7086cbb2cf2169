package service

import (
	"errors"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/store"
)

// oneRun fails where something equal stands at two places.
func oneRun(t require.TestingT, keys []string) {
	seen := map[string]bool{}
	for i, k := range keys {
		if i > 0 && keys[i-1] == k {
			continue
		}
		require.False(t, seen[k], "%q stands at two places of %q", k, keys)
		seen[k] = true
	}
}

func TestWhatIsReadOnceStandsSideBySide(t *testing.T) {
	digests := rapid.SliceOfN(rapid.StringMatching(`[a-d]{0,1}`), 0, 60)
	rapid.Check(t, func(rt *rapid.T) {
		var rows []*store.Host
		for _, d := range digests.Draw(rt, "surveys") {
			rows = append(rows, &store.Host{Survey: d})
		}
		var keys []string
		seen := map[int]bool{}
		for _, i := range bySurvey(rows) {
			keys = append(keys, rows[i].Survey)
			seen[i] = true
		}
		require.Len(rt, seen, len(rows), "every host once")
		oneRun(rt, keys)

		var all []*shown
		before := digests.Draw(rt, "sheets")
		for i, h := range rows {
			if i < len(before) {
				all = append(all, &shown{pair: pair{survey: h.Survey, before: before[i]}})
			}
		}
		keys = nil
		for _, x := range sideBySide(all) {
			keys = append(keys, x.pair.survey)
		}
		require.Len(rt, keys, len(all))
		oneRun(rt, keys)
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
		require.NoError(rt, byBlocks(list, func(i int) error { done[i].Add(1); return nil }))
		for i := range done {
			require.EqualValues(rt, 1, done[i].Load(), i)
		}
	})
	assert.EqualError(t, byBlocks([]int{1, 2}, func(int) error { return errors.New("no") }), "no")
}
