package ground

import (
	"cmp"
	"math"
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
		byNum := func(a, b row) int { return cmp.Compare(a.num, b.num) } // equal ones stay as they came
		first, more := NewFirsts(most, byNum), NewFirsts(most, byNum)
		at := rapid.IntRange(0, len(rows)).Draw(t, "at")
		for _, r := range rows[:at] {
			first.Add(r)
		}
		for _, r := range rows[at:] {
			more.Add(r)
		}
		first.Join(more)
		require.Equal(t, len(rows), first.Total)
		kept := min(most, len(all))
		if rapid.Bool().Draw(t, "some of them") {
			from := rapid.IntRange(0, kept).Draw(t, "from")
			to := rapid.IntRange(from, kept).Draw(t, "to")
			require.Equal(t, append([]row{}, all[from:to]...), append([]row{}, first.Between(from, to)...))
			return
		}
		require.Equal(t, append([]row{}, all[:kept]...), append([]row{}, first.InOrder()...))
	})
}

// Pages together are the whole list, and one behind its end is empty, however far behind.
func TestPagesAreTheList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		total, per := rapid.IntRange(0, 200).Draw(t, "total"), rapid.IntRange(1, 60).Draw(t, "per page")
		at, page := 0, 1
		for page > 0 {
			p := Paging{page, per}
			from, to := p.Cut(total)
			require.Equal(t, at, from)
			at, page = to, p.Next(total)
		}
		require.Equal(t, total, at)
		far := Paging{rapid.IntRange(total/per+2, math.MaxInt).Draw(t, "far"), per}
		from, to := far.Cut(total)
		require.Equal(t, []int{total, total, 0}, []int{from, to, far.Next(total)})
		require.Positive(t, far.Reach())
	})
}
