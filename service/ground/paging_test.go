package ground

import (
	"cmp"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The first rows are those that putting all in order puts first.
func TestTheFirstAreThoseOfTheWholeOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		type row struct{ num, at int }
		nums := rapid.SliceOfN(rapid.IntRange(0, 20), 0, 300).Draw(t, "nums")
		rows := make([]row, len(nums))
		for i, n := range nums {
			rows[i] = row{n, i}
		}
		order := func(a, b row) int { return cmp.Or(cmp.Compare(a.num, b.num), cmp.Compare(a.at, b.at)) }
		all := slices.SortedFunc(slices.Values(rows), order)
		most := rapid.IntRange(0, 320).Draw(t, "most")
		got := FirstOf(rows, most, order)
		require.Equal(t, append([]row{}, all[:min(most, len(all))]...), append([]row{}, got...))
	})
}
