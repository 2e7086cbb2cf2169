package fleet

import (
	"fmt"
	"time"
)

// astray is what is known of a host whose calls are refused because of their times: it signs with
// the right key, and its clock is wrong. It says nothing else that is believed, so this is not stored.
type astray struct {
	by time.Duration // how far it is ahead of the service's clock
	at time.Time
}

// astrayTime is how long a refused call tells of a wrong clock: agents try again within minutes.
const astrayTime = 30 * time.Minute

// says tells that the clock is wrong; empty where nothing tells so since the host was believed last.
func (a *astray) says(believed, now time.Time) string {
	if a == nil || !a.at.After(believed) || now.Sub(a.at) > astrayTime {
		return ""
	}
	by, way := a.by, "ahead of"
	if by < 0 {
		by, way = -by, "behind"
	}
	return fmt.Sprintf("its clock is %s %s the service's, so nothing that it says is believed; set the right time on it", About(by), way)
}
