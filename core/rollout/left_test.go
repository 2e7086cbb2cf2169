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
		of    []rollout.Tally
		want  time.Duration
		known bool
	}{
		{"nobody has said anything yet", rollout.Changing, 1, 0, 1, counts(0, 0, 0), 0, false},
		{"the first wave took two minutes and soaks", rollout.Soaking, 1, 2, 5, counts(1, 0, 0), 7*time.Minute + 2*time.Minute + 10*time.Minute + 2*time.Minute, true},
		{"the second has just begun", rollout.Changing, 2, 12, 13, counts(1, 0, 0), 30*time.Second + 10*time.Minute + 90*time.Second, true},
		{"half of the second took four minutes", rollout.Changing, 2, 12, 16, counts(1, 5, 0), 4*time.Minute + 10*time.Minute + 8*time.Minute, true},
		{"the last is nearly through", rollout.Changing, 3, 30, 38, counts(1, 10, 88), 8 * time.Minute / 88, true},
		{"it is held", rollout.Held, 2, 12, 16, counts(1, 5, 0), 0, false},
		{"somebody is asked", rollout.Asking, 2, 12, 16, counts(1, 10, 0), 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			left, known := rollout.Left(parts, rollout.Course{Opened: c.wave, Phase: c.phase, Since: minute(c.since)}, c.of, began, minute(c.now))
			assert.Equal(t, c.known, known)
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
		left, known := rollout.Left(parts, course, tallies, began, began.Add(time.Duration(rapid.IntRange(-100, 5000).Draw(t, "now"))*time.Second))
		if left < 0 || !known && left != 0 {
			t.Fatalf("%s is left, known: %t", left, known)
		}
	})
}
