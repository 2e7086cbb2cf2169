// Package rollout decides how a rollout goes on: what a host's place in it becomes when
// something happens, and whether anybody is still waited for.
//
// It holds no clock, no rows and no names of hosts. The service keeps the places of the
// hosts and asks; what it is answered is what it stores and tells.
package rollout

import "fmt"

// State is the place of one host in a rollout.
type State string

// The places that a host can have.
const (
	Queued    State = "queued"    // its wave has not come, or it may not begin at this hour
	Waiting   State = "waiting"   // it may begin, and has not
	Working   State = "working"   // it has said that it carries the change out
	Done      State = "done"      // it has carried the change out
	Unchanged State = "unchanged" // nothing had to be changed
	Failed    State = "failed"    // it could not, and has said why
	Behind    State = "behind"    // the others went on without it: it gave no sign of life for too long
	Skipped   State = "skipped"   // it takes no part: somebody took it out, or it cannot be taken back
	Gone      State = "gone"      // it takes part no more, and is not counted
)

// States are the places that are counted, in the order in which they are shown.
var States = []State{Queued, Waiting, Working, Done, Unchanged, Failed, Behind, Skipped}

// Open reports whether the rollout waits for a host at this place.
func (s State) Open() bool { return s == Waiting || s == Working }

// Ended reports whether a host at this place has said how it went.
func (s State) Ended() bool { return s == Done || s == Unchanged || s == Failed }

// Event is something that happens to a host in a rollout.
type Event string

// What can happen.
const (
	Admits    Event = "admits"    // its wave has come
	Skips     Event = "skips"     // an operator takes it out
	Works     Event = "works"     // the host says that it is at work
	Succeeds  Event = "succeeds"  // the host says that it has carried the change out
	Rests     Event = "rests"     // the host says that nothing had to be changed
	Fails     Event = "fails"     // the host says that it could not
	Withdraws Event = "withdraws" // the host stops before it has touched anything, as it was asked to
	Loses     Event = "loses"     // nothing was heard of the host for too long
	Leaves    Event = "leaves"    // the host is retired
	Stops     Event = "stops"     // an operator stops the rollout
)

// ReportEvents tells what a report of a host stands for by the word that agents use.
var ReportEvents = map[string]Event{
	"working": Works, "done": Succeeds, "unchanged": Rests, "failed": Fails, "stopped": Withdraws,
}

// PlaceError is returned for an event that cannot happen to a host at its place.
type PlaceError struct {
	From  State
	Event Event
}

func (e *PlaceError) Error() string {
	return fmt.Sprintf("a host that is %s cannot come to %q in a rollout", e.From, e.Event)
}

// next says where an event leads from each place. A host that was left behind may come
// back; what it says then counts.
var next = map[Event]map[State]State{
	Admits:    {Queued: Waiting},
	Skips:     {Queued: Skipped, Waiting: Skipped, Behind: Skipped},
	Works:     {Waiting: Working, Working: Working, Behind: Working},
	Succeeds:  {Waiting: Done, Working: Done, Behind: Done},
	Rests:     {Waiting: Unchanged, Working: Unchanged, Behind: Unchanged},
	Fails:     {Waiting: Failed, Working: Failed, Behind: Failed},
	Withdraws: {Working: Gone},
	Loses:     {Waiting: Behind, Working: Behind},
	Leaves:    {Queued: Gone, Waiting: Behind, Working: Behind},
	Stops:     {Queued: Gone, Waiting: Gone},
}

// Next says which place a host has after an event. The error is a *PlaceError.
func Next(from State, e Event) (State, error) {
	to, ok := next[e][from]
	if !ok {
		return from, &PlaceError{from, e}
	}
	return to, nil
}

// Counts is how many hosts there are at each place.
type Counts map[State]int

// Open is how many hosts are still waited for.
func (c Counts) Open() (n int) {
	for s, hosts := range c {
		if s.Open() {
			n += hosts
		}
	}
	return n
}

// said counts the hosts of which it is known that they are well, and those that are not, or
// of which nothing is known though it should be.
func (c Counts) said() (well, not int) { return c[Done] + c[Unchanged], c[Failed] + c[Behind] }

// Left is how many hosts a rollout still has to do with: those that are waited for, and those
// whose turn has not come.
func (c Counts) Left() int { return c.Open() + c[Queued] }

// Move counts a host that goes from one place to another.
func (c Counts) Move(from, to State) {
	if c[from]--; c[from] == 0 {
		delete(c, from)
	}
	if to != Gone {
		c[to]++
	}
}
