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
	earlier *earlierRuns // nil while there was no other, as on nearly all
}

type earlierRuns struct {
	names []string
	back  time.Time // when one of them came back once: a call that was late, perhaps
	twins time.Time // when they last took turns
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
	if i.current == "" {
		i.current = run
		return false
	}
	if i.earlier == nil {
		i.earlier = &earlierRuns{}
	}
	was := i.earlier
	for _, b := range was.names {
		if b == run {
			if now.Sub(was.back) <= twinTime {
				changed = now.Sub(was.twins) > twinTime
				was.twins = now
			}
			was.back = now
		}
	}
	was.names = append(was.names, i.current)
	if len(was.names) > mostRuns {
		was.names = was.names[1:]
	}
	i.current = run
	return changed
}

// twice reports whether two machines have taken turns of late.
func (i *instances) twice(now time.Time) bool {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.earlier != nil && !i.earlier.twins.IsZero() && now.Sub(i.earlier.twins) <= twinTime
}
