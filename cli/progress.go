package cli

import (
	"fmt"
	"sync"
	"sync/atomic"
	"time"
)

// progress counts the parts of something that is under way.
type progress struct {
	done, all atomic.Int64
	stop      func() // takes the line away
}

// waiting shows that something is under way when it takes more than a moment.
func (a *app) waiting(what string) (stop func()) { return a.counting(what, 0).stop }

// counting is waiting for something that has parts, of which it shows how many are done and how long the others take.
// How many there are may be learnt on the way.
func (a *app) counting(what string, all int) *progress {
	p := &progress{stop: func() {}}
	p.all.Store(int64(all))
	if !a.errOut.Live {
		return p
	}
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		start := time.Now()
		tick := time.NewTicker(200 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				a.errOut.Over("")
				return
			case <-tick.C:
				if d := time.Since(start); d > 700*time.Millisecond {
					a.errOut.Over(what + p.says(d) + " …")
				}
			}
		}
	}()
	p.stop = sync.OnceFunc(func() { close(done); <-gone })
	return p
}

// says tells how far it is.
func (p *progress) says(since time.Duration) string {
	text := fmt.Sprintf(", %ds", int(since.Seconds()))
	if all := int(p.all.Load()); all > 0 {
		done := int(p.done.Load())
		text = fmt.Sprintf(", %d of %d%s%s", done, all, text, timeLeft(done, all, since))
	}
	return text
}

// timeLeft says how long the rest takes at the pace so far; nothing where that is not known yet.
func timeLeft(done, all int, since time.Duration) string {
	if done < 2 || done >= all || since < 2*time.Second {
		return ""
	}
	left := time.Duration(float64(since) / float64(done) * float64(all-done))
	return ", about " + left.Round(time.Second).String() + " left at this pace"
}
