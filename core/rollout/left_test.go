package rollout_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/rollout"
)

func TestTheTimeThatIsLeft(t *testing.T) {
	began := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	parts := []rollout.Part{{Stage: 0, Hosts: 1, Soak: 10 * time.Minute}, {Stage: 1, Hosts: 10, Soak: 10 * time.Minute}, {Stage: 2, Hosts: 89}}
	counts := func(first, second, third int) []rollout.Tally {
		return []rollout.Tally{
			{Counts: rollout.Counts{rollout.Done: first, rollout.Working: 1 - first}},
			{Counts: rollout.Counts{rollout.Done: second, rollout.Queued: 10 - second}},
			{Counts: rollout.Counts{rollout.Failed: third, rollout.Queued: 89 - third}},
		}
	}
	minute := func(n int) time.Time { return began.Add(time.Duration(n) * time.Minute) }
	for _, c := range []struct {
		name  string
		phase rollout.Phase
		wave  int
		since int // minutes after the beginning
		now   int
		idle  int // minutes since a host ended last
		of    []rollout.Tally
		want  time.Duration
		known bool
	}{
		{"nobody has said anything yet", rollout.Changing, 1, 0, 1, 0, counts(0, 0, 0), 0, false},
		{"the first wave took two minutes and soaks", rollout.Soaking, 1, 2, 5, 0, counts(1, 0, 0), 7*time.Minute + 2*time.Minute + 10*time.Minute + 2*time.Minute, true},
		{"the second has just begun", rollout.Changing, 2, 12, 13, 0, counts(1, 0, 0), 30*time.Second + 10*time.Minute + 90*time.Second, true},
		{"half of the second took four minutes", rollout.Changing, 2, 12, 16, 0, counts(1, 5, 0), 4*time.Minute + 10*time.Minute + 8*time.Minute, true},
		{"the last is nearly through", rollout.Changing, 3, 30, 38, 0, counts(1, 10, 88), 8 * time.Minute / 88, true},
		{"the last is nearly through, and two minutes were not long before", rollout.Changing, 2, 12, 20, 2, counts(1, 3, 0), 8*time.Minute*7/3 + 10*time.Minute + (8*time.Minute + 8*time.Minute*7/3), true},
		{"the last one hangs", rollout.Changing, 3, 30, 98, 60, counts(1, 10, 88), 0, false},
		{"it is held", rollout.Held, 2, 12, 16, 0, counts(1, 5, 0), 0, false},
		{"somebody is asked", rollout.Asking, 2, 12, 16, 0, counts(1, 10, 0), 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			course := rollout.Course{Opened: c.wave, Phase: c.phase, Since: minute(c.since)}
			left, idle, known := rollout.Left(parts, course, c.of, began, minute(c.now-c.idle), minute(c.now))
			assert.Equal(t, c.known, known)
			if c.known || c.idle == 0 {
				assert.Zero(t, idle)
			} else {
				assert.Equal(t, time.Duration(c.idle)*time.Minute, idle)
			}
			assert.Equal(t, c.want, left)
		})
	}
}

func TestTheTimeThatIsLeftIsNeverLessThanNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var parts []rollout.Part
		var tallies []rollout.Tally
		for s := range rapid.IntRange(0, 4).Draw(t, "waves") {
			n := rapid.IntRange(0, 50).Draw(t, "hosts")
			parts = append(parts, rollout.Part{Stage: s, Hosts: n, Soak: time.Duration(rapid.IntRange(0, 600).Draw(t, "soak")) * time.Second})
			tallies = append(tallies, rollout.Tally{Counts: rollout.Counts{rollout.Queued: rapid.IntRange(0, n).Draw(t, "open")}})
		}
		began := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
		course := rollout.Course{
			Opened: rapid.IntRange(0, 5).Draw(t, "opened"), Phase: rapid.SampledFrom([]rollout.Phase{rollout.Changing, rollout.Soaking}).Draw(t, "phase"),
			Since: began.Add(time.Duration(rapid.IntRange(-100, 5000).Draw(t, "since")) * time.Second),
		}
		now, last := rapid.IntRange(-100, 5000).Draw(t, "now"), rapid.IntRange(-100, 5000).Draw(t, "last")
		at := func(seconds int) time.Time { return began.Add(time.Duration(seconds) * time.Second) }
		left, idle, known := rollout.Left(parts, course, tallies, began, at(last), at(now))
		if left < 0 || idle < 0 || !known && left != 0 || known && idle != 0 {
			t.Fatalf("%s is left, none has ended for %s, known: %t", left, idle, known)
		}
	})
}
