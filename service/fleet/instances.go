package fleet

import (
	"sync"
	"time"
)

// instances remembers the last runs of a host's agent. One agent that is started again
// never comes back to a run before; two machines with one identity do, in turn.
type instances struct {
	mu      sync.Mutex
	current string
	before  []string
	back    time.Time // when a run before came back once: a call that was late, perhaps
	twins   time.Time // when they last took turns
}

// mostRuns bounds how many runs are remembered.
const mostRuns = 8

// twinTime is how long two machines count as two after they last took turns.
const twinTime = time.Hour

// note takes note of a run, and reports whether it is another than the last one.
func (i *instances) note(run string, now time.Time) (changed bool) {
	if run == "" {
		return false
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	if run == i.current {
		return false
	}
	for _, b := range i.before {
		if b == run {
			if now.Sub(i.back) <= twinTime {
				changed = now.Sub(i.twins) > twinTime
				i.twins = now
			}
			i.back = now
		}
	}
	if i.current != "" {
		i.before = append(i.before, i.current)
		if len(i.before) > mostRuns {
			i.before = i.before[1:]
		}
	}
	i.current = run
	return changed
}

// twice reports whether two machines have taken turns of late.
func (i *instances) twice(now time.Time) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	return !i.twins.IsZero() && now.Sub(i.twins) <= twinTime
}
