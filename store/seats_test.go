package store_test

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/store"
)

// TestSeatsAreCountedUntilAContractIsGone: what is noted last of a contract is how many seats
// of it are taken, none where it is gone, and a note is made where that changed alone.
func TestSeatsAreCountedUntilAContractIsGone(t *testing.T) {
	ctx := context.Background()
	s, err := store.Open(ctx, filepath.Join(t.TempDir(), "state.db"))
	require.NoError(t, err)
	defer s.Close()
	round := 0
	rapid.Check(t, func(rt *rapid.T) {
		round++
		own := fmt.Sprint("-", round) // accounts of a round before have no contract any more
		used := map[string]int{}
		notes := 0
		for i := range rapid.IntRange(1, 8).Draw(rt, "counts") {
			at := now.Add(time.Duration(i) * time.Hour)
			is := rapid.MapOfN(rapid.SampledFrom([]string{"gannet GN-1", "gannet GN-2", "plover GN-1"}), rapid.IntRange(0, 3), 0, 3).Draw(rt, "used")
			var list []store.SeatCount
			for name, n := range is {
				c := store.SeatCount{At: at, Used: n, Seats: 9}
				_, err := fmt.Sscan(name, &c.Account, &c.Contract)
				require.NoError(rt, err)
				c.Account += own
				list = append(list, c)
			}
			require.NoError(rt, s.PutSeatCounts(ctx, at, list))
			for name, n := range is {
				if was, known := used[name]; !known || was != n {
					used[name] = n
					notes++
				}
			}
			for name, n := range used {
				if _, there := is[name]; !there && n > 0 {
					used[name] = 0
					notes++
				}
			}
		}
		list, err := s.SeatCounts(ctx, now.Add(-time.Hour))
		require.NoError(rt, err)
		last, noted := map[string]int{}, 0
		for _, c := range list {
			if account, is := strings.CutSuffix(c.Account, own); is {
				last[account+" "+c.Contract] = c.Used
				noted++
			}
		}
		assert.Equal(rt, notes, noted)
		assert.Equal(rt, used, last)
	})
}
