package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What is under way says how far it is, and how long the rest takes once that can be told.
func TestProgressSaysHowFarItIs(t *testing.T) {
	for _, c := range []struct {
		done, all int64
		since     time.Duration
		want      string
	}{
		{0, 0, 1500 * time.Millisecond, ", 1s"},
		{0, 300, time.Second, ", 0 of 300, 1s"},
		{1, 300, 9 * time.Second, ", 1 of 300, 9s"},
		{100, 300, time.Second, ", 100 of 300, 1s"},
		{100, 300, 10 * time.Second, ", 100 of 300, 10s, about 20s left at this pace"},
		{300, 300, 10 * time.Second, ", 300 of 300, 10s"},
	} {
		var p progress
		p.done.Store(c.done)
		p.all.Store(c.all)
		assert.Equal(t, c.want, p.says(c.since))
	}
}
