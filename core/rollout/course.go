package rollout

import (
	"fmt"
	"slices"
	"time"
)

// Phase is what a rollout is about.
type Phase string

// The phases of a rollout.
const (
	Changing Phase = "changing" // the hosts of a stage carry the change out
	Soaking  Phase = "soaking"  // they have, and time passes before the next stage
	Asking   Phase = "asking"   // somebody else must agree before the next stage
	Held     Phase = "held"     // nobody begins until somebody says so
	Ended    Phase = "ended"
)

// Names of gates.
const (
	GateFailed      = "failed"      // hosts that could not be changed
	GateSilent      = "silent"      // hosts that give no sign of life
	GateUnrefreshed = "unrefreshed" // hosts of which a source could not be refreshed
	GateDrifted     = "drifted"     // hosts that drifted after the change
	GateNobody      = "nobody"      // no host of a wave has said that it is well
	GateRefused     = "refused"     // hosts of the next wave would get packages from places that are refused
)

// Hold says who held a rollout, and why.
type Hold struct {
	By      string `json:"by,omitempty"` // an operator; empty: a gate
	Because string `json:"because,omitempty"`
	Gate    string `json:"gate,omitempty"`
	Part    int    `json:"part,omitempty"`
	Value   int    `json:"value,omitempty"` // of the gate
	Was     Phase  `json:"was"`             // what it goes on with
}

// Borne is a gate that somebody let pass: it holds again where more hosts come.
type Borne struct {
	Gate  string `json:"gate"`
	Part  int    `json:"part"`
	Value int    `json:"value"`
}

// Course is where a rollout stands. The zero value stands before its first stage.
type Course struct {
	Opened   int       `json:"opened"` // stages whose hosts may begin, so far
	Phase    Phase     `json:"phase"`
	Since    time.Time `json:"since,omitzero"`
	Hold     *Hold     `json:"hold,omitempty"`
	Borne    []Borne   `json:"borne,omitempty"`
	Consents []string  `json:"consents,omitempty"` // by stage, who agreed
}

// Tally is what there is of the hosts of a part.
type Tally struct {
	Counts      Counts
	Unrefreshed int
	Drifted     int
	Refused     int  // a place that the change brings to them is refused
	Unseen      int  // it is not known what stands at one
	Looked      bool // nobody looks at those places just now
}

// Gate is one condition, as it stands.
type Gate struct {
	Name  string
	Value int
	Limit Limit
	Most  int // what the limit comes to in hosts; -1 where there is none
}

// Passed reports whether a gate lets the rollout go on.
func (g Gate) Passed() bool { return g.Most < 0 || g.Value <= g.Most }

// Gates are those of a part.
func (p *Part) Gates(t Tally) []Gate {
	gate := func(name string, value int, l Limit) Gate { return Gate{name, value, l, l.Allows(p.Hosts)} }
	return []Gate{
		gate(GateFailed, t.Counts[Failed], p.Limits.Failed),
		gate(GateSilent, t.Counts[Behind], p.Limits.Silent),
		gate(GateUnrefreshed, t.Unrefreshed, p.Limits.Unrefreshed),
		gate(GateDrifted, t.Drifted, p.Limits.Drifted),
		gate(GateRefused, t.Refused, p.Limits.Refused),
	}
}

// asks reports whether a part waits for what stands at the places that the change brings.
func (p *Part) asks() bool { return p.Limits.Refused.Set && len(p.Brings) > 0 }

// Stages counts the stages of some parts.
func Stages(parts []Part) (n int) {
	for i := range parts {
		n = max(n, parts[i].Stage+1)
	}
	return n
}

// Action is what follows from a step.
type Action string

// What can follow.
const (
	Open Action = "open" // the hosts of one more stage may begin
	Stop Action = "hold" // a gate holds the rollout
	End  Action = "end"  // nobody is waited for any more
)

// Step says where a rollout stands next, given what there is of its parts, and what has to
// be done for that. Nothing has where both are as before. It is asked again when anything
// has happened, and now and then for the time.
func Step(parts []Part, c Course, tallies []Tally, now time.Time) (Course, []Action) {
	var out []Action
	c.Borne, c.Consents = slices.Clone(c.Borne), slices.Clone(c.Consents)
	for {
		switch {
		case c.Phase == Ended:
			return c, out
		case c.Opened == Stages(parts) && !c.waits(parts, tallies): // whatever held it, nobody is left
			c.Phase, c.Since, c.Hold = Ended, now, nil
			return c, append(out, End)
		case c.Phase == Held:
			return c, out
		}
		if h := c.stopped(parts, tallies); h != nil {
			return c.hold(h, now), append(out, Stop)
		}
		switch c.Phase {
		case Changing:
			if c.waits(parts, tallies) {
				return c, out
			}
			c.Phase, c.Since = Soaking, now
		case Soaking, "":
			if now.Sub(c.Since) < Soak(parts, c.Opened-1) {
				return c, out
			}
			if !c.agreed(parts) {
				c.Phase, c.Since = Asking, now
				continue
			}
			return c.next(parts, tallies, now, out)
		case Asking:
			if !c.agreed(parts) {
				return c, out
			}
			return c.next(parts, tallies, now, out)
		default: // written by a later version
			return c, out
		}
	}
}

// next opens the next stage, once it is known that the change brings nothing to its hosts that is
// refused.
func (c Course) next(parts []Part, tallies []Tally, now time.Time, out []Action) (Course, []Action) {
	if c.looks(parts, tallies) {
		return c, out
	}
	if h := c.refused(parts, tallies); h != nil {
		return c.hold(h, now), append(out, Stop)
	}
	c.Opened, c.Phase, c.Since = c.Opened+1, Changing, now
	return c, append(out, Open)
}

// hold is the course with a gate that holds it.
func (c Course) hold(h *Hold, now time.Time) Course {
	if h.Was = c.Phase; h.Was == "" {
		h.Was = Soaking
	}
	c.Phase, c.Hold, c.Since = Held, h, now
	return c
}

// looks reports whether what the next stage would bring is being looked at.
func (c *Course) looks(parts []Part, tallies []Tally) bool {
	for i := range parts {
		if parts[i].Stage == c.Opened && parts[i].asks() && !tallies[i].Looked {
			return true
		}
	}
	return false
}

// refused finds a part of the next stage to which the change would bring what is refused.
func (c *Course) refused(parts []Part, tallies []Tally) *Hold {
	for i := range parts {
		if parts[i].Stage != c.Opened {
			continue
		}
		g := parts[i].gate(GateRefused, tallies[i])
		if !g.Passed() && !c.borne(g.Name, i, g.Value) {
			return &Hold{Gate: g.Name, Part: i, Value: g.Value}
		}
	}
	return nil
}

// gate is one of a part.
func (p *Part) gate(name string, t Tally) (g Gate) {
	for _, g = range p.Gates(t) {
		if g.Name == name {
			return g
		}
	}
	return g
}

// waits reports whether hosts of the newest stage are waited for.
func (c *Course) waits(parts []Part, tallies []Tally) bool {
	for i := range parts {
		if parts[i].Stage == c.Opened-1 && tallies[i].Counts.Left() > 0 {
			return true
		}
	}
	return false
}

// stopped finds a gate of the stages so far that holds.
func (c *Course) stopped(parts []Part, tallies []Tally) *Hold {
	for i := range parts {
		p := &parts[i]
		if p.Stage >= c.Opened {
			continue
		}
		for _, g := range p.Gates(tallies[i]) {
			if g.Name != GateRefused && !g.Passed() && !c.borne(g.Name, i, g.Value) { // that one is asked before the stage begins
				return &Hold{Gate: g.Name, Part: i, Value: g.Value}
			}
		}
		t := tallies[i].Counts
		well, said := t.said()
		waits := t.Left() > 0
		if last := p.Stage == Stages(parts)-1; !last && (p.Limits.Failed.Set || p.Limits.Silent.Set) && !waits && well == 0 && said > 0 &&
			!c.borne(GateNobody, i, said) {
			return &Hold{Gate: GateNobody, Part: i, Value: said}
		}
	}
	return nil
}

func (c *Course) borne(gate string, part, value int) bool {
	return slices.ContainsFunc(c.Borne, func(b Borne) bool { return b.Gate == gate && b.Part == part && value <= b.Value })
}

// Soak is how long is waited after a stage.
func Soak(parts []Part, stage int) (d time.Duration) {
	for i := range parts {
		if parts[i].Stage == stage {
			d = max(d, parts[i].Soak)
		}
	}
	return d
}

// Asks reports whether a stage wants somebody's consent.
func Asks(parts []Part, stage int) bool {
	return slices.ContainsFunc(parts, func(p Part) bool { return p.Stage == stage && p.Consent })
}

func (c *Course) agreed(parts []Part) bool {
	return !Asks(parts, c.Opened) || c.Opened < len(c.Consents) && c.Consents[c.Opened] != ""
}

// CourseError is returned for what cannot be done to a rollout as it stands.
type CourseError struct{ Why string }

func (e *CourseError) Error() string { return e.Why }

func cannot(format string, args ...any) error { return &CourseError{fmt.Sprintf(format, args...)} }

// HoldNow holds a rollout. The error is a *CourseError.
func HoldNow(c Course, by, because string, now time.Time) (Course, error) {
	switch c.Phase {
	case Ended:
		return c, cannot("it has ended")
	case Held:
		return c, cannot("it is held already")
	}
	was := c.Phase
	if was == "" {
		was = Soaking
	}
	c.Hold, c.Phase, c.Since = &Hold{By: by, Because: because, Was: was}, Held, now
	return c, nil
}

// Proceed lets a rollout that is held go on. The gate that held it is borne as it stands
// then, and holds again where more hosts come. The error is a *CourseError.
func Proceed(c Course, parts []Part, tallies []Tally, now time.Time) (Course, error) {
	if c.Phase != Held || c.Hold == nil {
		return c, cannot("it is not held")
	}
	for i := range parts { // one word lets everything pass that holds it now
		if parts[i].Stage == c.Opened {
			if g := parts[i].gate(GateRefused, tallies[i]); !g.Passed() {
				c.bear(g.Name, i, g.Value)
			}
		}
		if parts[i].Stage >= c.Opened {
			continue
		}
		for _, g := range parts[i].Gates(tallies[i]) {
			if !g.Passed() {
				c.bear(g.Name, i, g.Value)
			}
		}
		if well, said := tallies[i].Counts.said(); well == 0 && said > 0 {
			c.bear(GateNobody, i, said)
		}
	}
	since := now
	if c.Hold.Gate == GateRefused { // the time after the stage before had passed
		since = now.Add(-Soak(parts, c.Opened-1))
	}
	c.Phase, c.Since, c.Hold = c.Hold.Was, since, nil
	return c, nil
}

func (c *Course) bear(gate string, part, value int) {
	c.Borne = slices.DeleteFunc(slices.Clone(c.Borne), func(b Borne) bool { return b.Gate == gate && b.Part == part })
	c.Borne = append(c.Borne, Borne{gate, part, value})
}

// Agree takes somebody's consent to the next stage. The error is a *CourseError.
func Agree(c Course, parts []Part, author, by string) (Course, error) {
	switch {
	case c.Phase == Ended:
		return c, cannot("it has ended")
	case !Asks(parts, c.Opened) || c.agreed(parts):
		return c, cannot("nobody is asked for consent to its next wave")
	case by == author:
		return c, cannot("whoever began it cannot agree to it as well; somebody else must")
	}
	for len(c.Consents) <= c.Opened {
		c.Consents = append(slices.Clip(c.Consents), "")
	}
	c.Consents = slices.Clone(c.Consents)
	c.Consents[c.Opened] = by
	return c, nil
}
