package rollout_test

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/rollout"
)

var events = []rollout.Event{
	rollout.Works, rollout.Succeeds, rollout.Rests, rollout.Fails, rollout.Withdraws, rollout.Loses, rollout.Leaves, rollout.Stops,
}

// What a host has said stands: no event takes it back.
func TestWhatAHostHasSaidStands(t *testing.T) {
	for _, from := range rollout.States {
		for _, e := range events {
			to, err := rollout.Next(from, e)
			var place *rollout.PlaceError
			if from.Ended() {
				require.ErrorAs(t, err, &place, "%s %s", from, e)
				assert.Equal(t, from, to)
				continue
			}
			if err != nil {
				require.ErrorAs(t, err, &place)
				assert.Equal(t, from, to, "a refused event changes nothing")
			}
		}
	}
}

// However things happen, hosts are neither lost nor counted twice, and a rollout whose
// hosts have all said how it went waits for nobody.
func TestHostsAreCountedOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		places := make([]rollout.State, rapid.IntRange(1, 12).Draw(t, "hosts"))
		counts := rollout.Counts{}
		for i := range places {
			places[i] = rollout.Waiting
			counts[rollout.Waiting]++
		}
		for range rapid.IntRange(0, 60).Draw(t, "events") {
			i := rapid.IntRange(0, len(places)-1).Draw(t, "host")
			e := rapid.SampledFrom(events).Draw(t, "event")
			to, err := rollout.Next(places[i], e)
			if err != nil {
				continue
			}
			counts.Move(places[i], to)
			places[i] = to
		}
		want := rollout.Counts{}
		open := 0
		for _, p := range places {
			if p != rollout.Gone {
				want[p]++
			}
			if p.Open() {
				open++
			}
		}
		maps.DeleteFunc(counts, func(_ rollout.State, n int) bool { return n == 0 })
		if !maps.Equal(want, counts) {
			t.Fatalf("counted %v, there are %v", counts, want)
		}
		if counts.Open() != open {
			t.Fatalf("waits for %d, there are %d", counts.Open(), open)
		}
	})
}

// Everything that waits can be ended by events that need no host: losing and stopping.
func TestNothingWaitsForEver(t *testing.T) {
	for _, from := range rollout.States {
		if !from.Open() {
			continue
		}
		to, err := rollout.Next(from, rollout.Loses)
		require.NoError(t, err)
		assert.False(t, to.Open())
	}
}
