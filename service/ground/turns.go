package ground

import (
	"context"
	"time"
)

// Enter says that somebody's call is under way, until leave is called.
func (g *Ground) Enter() (leave func()) {
	g.inside.Add(1)
	return func() { g.inside.Add(-1) }
}

// GiveWay waits while somebody's call is under way, so that what is worked out ahead of time
// does not keep it waiting. left is how much longer it may wait in all: nothing waits for ever.
func (g *Ground) GiveWay(ctx context.Context, left *time.Duration) {
	const pause = 5 * time.Millisecond
	for g.inside.Load() > 0 && *left > 0 && ctx.Err() == nil {
		*left -= pause
		time.Sleep(pause)
	}
}
