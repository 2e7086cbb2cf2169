package rollout

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Plan says in which waves hosts are changed, and what must hold before the next one.
type Plan struct {
	Name   string
	Spread string // a label: hosts that have one value of it never stand in one wave; empty: none
	Quiet  Quiet
	Limits Limits
	Waves  []Wave
}

// Wave is one batch of a plan. One of To, Hosts, Share and Rest says who is in it.
type Wave struct {
	To      []string // groups
	Hosts   int
	Share   int // of a hundred, of the hosts of the plan
	Rest    bool
	Soak    time.Duration // is waited after it
	Consent bool          // somebody else than who began it must agree before it
}

// String says who is in a wave.
func (w *Wave) String() string {
	switch {
	case len(w.To) > 0:
		return strings.Join(w.To, ", ")
	case w.Hosts == 1:
		return "1 host"
	case w.Hosts > 0:
		return fmt.Sprintf("%d hosts", w.Hosts)
	case w.Share > 0:
		return fmt.Sprintf("%d %%", w.Share)
	}
	return "the rest"
}

// Quiet are the hours in which no host begins, by its own clock: minutes of the day. They
// can go past midnight. None where From and Until are equal.
type Quiet struct {
	From  int `json:"from,omitempty"`
	Until int `json:"until,omitempty"`
}

// Covers reports whether a time, as it is on the host, is one of the quiet hours.
func (q Quiet) Covers(t time.Time) bool {
	at := t.Hour()*60 + t.Minute()
	if q.From <= q.Until {
		return q.From <= at && at < q.Until
	}
	return at >= q.From || at < q.Until
}

func (q Quiet) String() string {
	if q.From == q.Until {
		return ""
	}
	return fmt.Sprintf("%02d:%02d to %02d:%02d", q.From/60, q.From%60, q.Until/60, q.Until%60)
}

// Limit is how many hosts a gate lets pass: a number, or a share of the hosts of a wave.
// The zero value is no limit.
type Limit struct {
	Set   bool `json:"set,omitempty"`
	Share bool `json:"share,omitempty"`
	N     int  `json:"n,omitempty"` // hosts, or of a hundred
}

// Number and Share make limits.
func Number(n int) Limit { return Limit{Set: true, N: n} }

// Share is a limit of so many of a hundred hosts.
func Share(n int) Limit { return Limit{Set: true, Share: true, N: n} }

// Allows is how many of some hosts a limit lets pass; -1 where there is none.
func (l Limit) Allows(hosts int) int {
	switch {
	case !l.Set:
		return -1
	case l.Share:
		return hosts * l.N / 100
	}
	return l.N
}

func (l Limit) String() string {
	switch {
	case !l.Set:
		return "none"
	case l.Share:
		return fmt.Sprintf("%d %%", l.N)
	}
	return fmt.Sprint(l.N)
}

// Limits are those of a plan's gates.
type Limits struct {
	Failed      Limit `json:"failed,omitzero"`      // hosts that could not be changed
	Silent      Limit `json:"silent,omitzero"`      // hosts that give no sign of life
	Unrefreshed Limit `json:"unrefreshed,omitzero"` // hosts of which a source could not be refreshed
	Drifted     Limit `json:"drifted,omitzero"`     // hosts that drifted after the change
	Refused     Limit `json:"refused,omitzero"`     // hosts that would get packages from places which are refused
}

// BuiltInName is the name of the plan that is built in.
const BuiltInName = "built-in"

// BuiltIn is followed where the policy names no plan: one host, a tenth, then all others.
func BuiltIn() Plan {
	return Plan{
		Name:   BuiltInName,
		Limits: Limits{Failed: Share(5), Silent: Share(20), Refused: Number(0)},
		Waves:  []Wave{{Hosts: 1}, {Share: 10}, {Rest: true}},
	}
}

// AtOnce changes all hosts together and lets nothing stop it.
func AtOnce() Plan { return Plan{Name: "at once", Waves: []Wave{{Rest: true}}} }

// Member is a host that a plan is laid out for.
type Member struct {
	Name  string
	Value string // of the label that the plan spreads over; empty: it has none
	Named []int  // the waves whose groups it is in, as indexes into Plan.Waves
	Alive bool   // it was heard of lately; those that were not stand behind
}

// Part is a wave as it came out for one plan: a plan that spreads hosts needs several for
// one of its waves.
type Part struct {
	Stage   int           `json:"stage"` // from 0; parts of several plans share one
	Plan    string        `json:"plan"`
	What    string        `json:"what"`
	Hosts   int           `json:"hosts"`
	Soak    time.Duration `json:"soak,omitempty"`
	Consent bool          `json:"consent,omitempty"`
	Limits  Limits        `json:"limits"`
	Quiet   Quiet         `json:"quiet,omitzero"`
	Brings  []Brings      `json:"-"` // is worked out, and not stored: it is as long as the fleet has variants
}

// Brings is hosts that a change brings the same places of packages to.
type Brings struct {
	Hosts  int
	Places []Brought
}

// Brought is a place that a change brings, or of which hosts believe other keys after it.
type Brought struct {
	Place  string   // its key
	Keys   []string // fingerprints that hosts believe it by
	Signed bool     // hosts take its metadata only if it is signed
}

// Lay lays a plan out: the parts that it comes to, in order, and for each host the part
// that it stands in. Waves that nobody is in are left out; hosts that no wave takes come
// last.
func (p *Plan) Lay(hosts []Member) (parts []Part, of []int) {
	of = make([]int, len(hosts))
	order := make([]int, len(hosts))
	for i := range hosts {
		of[i], order[i] = -1, i
	}
	inTurn := func(a, b int) int {
		x, y := &hosts[a], &hosts[b]
		if x.Alive != y.Alive {
			if x.Alive {
				return -1
			}
			return 1
		}
		return strings.Compare(x.Name, y.Name)
	}
	if !slices.IsSortedFunc(order, inTurn) {
		slices.SortStableFunc(order, inTurn)
	}
	waves := p.Waves
	if n := len(waves); n == 0 || !waves[n-1].Rest {
		waves = append(slices.Clip(waves), Wave{Rest: true})
	}
	left, taken := order, make([]int, len(hosts))
	for w := range waves {
		layers := p.take(&waves[w], w, hosts, left, taken)
		if layers == 0 {
			continue
		}
		first := len(parts)
		for n := range layers {
			what := waves[w].String()
			if layers > 1 {
				what = fmt.Sprintf("%s, %d of %d", what, n+1, layers)
			}
			part := Part{Stage: first + n, Plan: p.Name, What: what, Soak: waves[w].Soak, Limits: p.Limits, Quiet: p.Quiet}
			part.Consent = waves[w].Consent && n == 0
			parts = append(parts, part)
		}
		left = slices.DeleteFunc(left, func(i int) bool {
			if taken[i] < 0 {
				return false
			}
			of[i] = first + taken[i]
			parts[of[i]].Hosts++
			return true
		})
	}
	return parts, of
}

// take picks the hosts of a wave out of those that are left, and says in which layer of it each stands; below 0 where in none. It
// returns how many layers there are.
func (p *Plan) take(w *Wave, n int, hosts []Member, left, taken []int) (layers int) {
	most := len(hosts)
	switch {
	case w.Hosts > 0:
		most = w.Hosts
	case w.Share > 0:
		most = max((len(hosts)*w.Share+99)/100, 1)
	}
	counted := w.Hosts > 0 || w.Share > 0
	seen := map[string]int{} // value → hosts of it in this wave
	count := 0
	for _, i := range left {
		taken[i] = -1
		value := hosts[i].Value
		spread := p.Spread != "" && value != ""
		if count == most || len(w.To) > 0 && !slices.Contains(hosts[i].Named, n) || spread && counted && seen[value] > 0 {
			continue
		}
		taken[i] = 0
		if spread {
			taken[i] = seen[value]
			seen[value]++
		}
		layers = max(layers, taken[i]+1)
		count++
	}
	return layers
}
