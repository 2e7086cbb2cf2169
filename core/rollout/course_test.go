package rollout_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/rollout"
)

var noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

// fleet is a rollout as a service would keep it, and everything that happens to it.
type fleet struct {
	parts  []rollout.Part
	course rollout.Course
	of     []int
	places []rollout.State
	now    time.Time
	drift  map[int]bool
	bad    map[int]int  // part → hosts that would get packages from what is refused
	looks  map[int]bool // parts of which that is being looked at
}

func (f *fleet) tallies() []rollout.Tally {
	out := make([]rollout.Tally, len(f.parts))
	for i := range out {
		out[i].Counts = rollout.Counts{}
		out[i].Refused, out[i].Looked = f.bad[i], !f.looks[i]
	}
	for i, st := range f.places {
		out[f.of[i]].Counts[st]++
		if f.drift[i] {
			out[f.of[i]].Drifted++
		}
	}
	return out
}

// step takes the rollout on as far as it goes, and lets the hosts in that may begin.
func (f *fleet) step() {
	for range 1000 {
		next, actions := rollout.Step(f.parts, f.course, f.tallies(), f.now)
		f.course = next
		moved := len(actions) > 0
		if f.course.Phase != rollout.Held {
			for i, st := range f.places {
				if st == rollout.Queued && f.parts[f.of[i]].Stage < f.course.Opened {
					f.places[i] = rollout.Waiting
					moved = true
				}
			}
		}
		if !moved {
			return
		}
	}
	panic("it never comes to rest")
}

// begun counts the hosts that were ever let begin.
func (f *fleet) begun() (n int) {
	for _, st := range f.places {
		if st != rollout.Queued && st != rollout.Skipped {
			n++
		}
	}
	return n
}

func drawLimit(t *rapid.T, name string) rollout.Limit {
	switch n := rapid.IntRange(0, 12).Draw(t, name); {
	case n < 4:
		return rollout.Number(n)
	case n < 9:
		return rollout.Share((n - 4) * 15)
	}
	return rollout.Limit{}
}

func drawPlan(t *rapid.T, name string) rollout.Plan {
	p := rollout.Plan{Name: name, Limits: rollout.Limits{
		Failed: drawLimit(t, "failed"), Silent: drawLimit(t, "silent"), Drifted: drawLimit(t, "drifted"),
		Refused: drawLimit(t, "refused"),
	}}
	if rapid.Bool().Draw(t, "spread") {
		p.Spread = "cluster"
	}
	for range rapid.IntRange(0, 4).Draw(t, "waves") {
		w := rollout.Wave{Soak: time.Duration(rapid.IntRange(0, 2).Draw(t, "soak")) * time.Hour, Consent: rapid.IntRange(0, 5).Draw(t, "consent") == 0}
		switch rapid.IntRange(0, 2).Draw(t, "kind") {
		case 0:
			w.Hosts = rapid.IntRange(1, 5).Draw(t, "hosts")
		case 1:
			w.Share = rapid.IntRange(1, 100).Draw(t, "share")
		case 2:
			w.To = []string{"some"}
		}
		p.Waves = append(p.Waves, w)
	}
	return p
}

func drawMembers(t *rapid.T, plan *rollout.Plan, most int) []rollout.Member {
	out := make([]rollout.Member, rapid.IntRange(0, most).Draw(t, "members"))
	for i := range out {
		m := rollout.Member{Name: fmt.Sprintf("%s-%03d", plan.Name, i), Alive: rapid.IntRange(0, 4).Draw(t, "alive") > 0}
		if v := rapid.IntRange(0, 5).Draw(t, "value"); v > 0 {
			m.Value = fmt.Sprint("c", v)
		}
		for w := range plan.Waves {
			if len(plan.Waves[w].To) > 0 && rapid.Bool().Draw(t, "named") {
				m.Named = append(m.Named, w)
			}
		}
		out[i] = m
	}
	return out
}

func drawFleet(t *rapid.T) *fleet {
	f := &fleet{now: noon, drift: map[int]bool{}, bad: map[int]int{}, looks: map[int]bool{}}
	for n := range rapid.IntRange(1, 2).Draw(t, "plans") {
		plan := drawPlan(t, fmt.Sprint("p", n))
		parts, of := plan.Lay(drawMembers(t, &plan, 30))
		for _, at := range of {
			f.of, f.places = append(f.of, len(f.parts)+at), append(f.places, rollout.Queued)
		}
		for i := range parts {
			if rapid.Bool().Draw(t, "brings") {
				parts[i].Brings = []rollout.Brings{{Hosts: parts[i].Hosts, Places: []rollout.Brought{{Place: "place"}}}}
				f.looks[len(f.parts)+i] = rapid.Bool().Draw(t, "looks")
				f.bad[len(f.parts)+i] = rapid.IntRange(0, parts[i].Hosts).Draw(t, "bad")
			}
		}
		f.parts = append(f.parts, parts...)
	}
	return f
}

// A plan gives each host one wave, never two hosts of one cluster one wave, and waves that
// a number or a share bounds no more hosts than that.
func TestAPlanPlacesEveryHostOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		plan := drawPlan(t, "p")
		members := drawMembers(t, &plan, 60)
		parts, of := plan.Lay(members)
		count := make([]int, len(parts))
		values := map[string]bool{}
		for i, at := range of {
			if at < 0 || at >= len(parts) {
				t.Fatalf("host %d stands in no wave", i)
			}
			count[at]++
			key := fmt.Sprint(at, members[i].Value)
			if plan.Spread != "" && members[i].Value != "" && values[key] {
				t.Fatalf("two hosts of %s stand in wave %d", members[i].Value, at)
			}
			values[key] = true
		}
		for i := range parts {
			if parts[i].Hosts != count[i] || count[i] == 0 || parts[i].Stage != i {
				t.Fatalf("part %d says %d hosts at stage %d, there are %d", i, parts[i].Hosts, parts[i].Stage, count[i])
			}
		}
	})
}

// Whatever happens: no further host begins while a gate of a wave that has begun does not
// pass and nobody has let it pass; no wave begins before those before it are over and have
// soaked; what was begun never goes back to waiting; and it is always known what is waited for.
func TestNoMoreHostsAreAtRiskThanTheGatesAllow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := drawFleet(t)
		f.step()
		for range rapid.IntRange(0, 80).Draw(t, "events") {
			opened, begun := f.course.Opened, f.begun()
			broken := f.broken()
			f.happen(t)
			f.step()
			if f.course.Opened > opened {
				f.wary(t, opened)
			}
			if broken && f.course.Phase == rollout.Held && f.begun() > begun {
				t.Fatalf("hosts began though a gate holds")
			}
			if f.course.Opened > opened+1 && f.course.Opened-1 < rollout.Stages(f.parts) && f.open(opened) {
				t.Fatalf("wave %d began before wave %d was over", f.course.Opened, opened)
			}
			if f.course.Phase != rollout.Held && f.course.Phase != rollout.Ended && f.broken() {
				t.Fatalf("it goes on (%s) though a gate does not pass", f.course.Phase)
			}
		}
		f.finish(t)
	})
}

// wary checks that a stage began only once it was known what the change brings to its hosts, and
// with no more of them at what is refused than somebody allows.
func (f *fleet) wary(t *rapid.T, stage int) {
	tallies := f.tallies()
	for i := range f.parts {
		p := &f.parts[i]
		if p.Stage < stage || p.Stage >= f.course.Opened || !p.Limits.Refused.Set || len(p.Brings) == 0 {
			continue
		}
		if f.looks[i] {
			t.Fatalf("wave %d began while it was looked at what it brings", p.Stage+1)
		}
		most := p.Limits.Refused.Allows(p.Hosts)
		for _, b := range f.course.Borne {
			if b.Gate == rollout.GateRefused && b.Part == i {
				most = max(most, b.Value)
			}
		}
		if tallies[i].Refused > most {
			t.Fatalf("wave %d began with %d hosts at what is refused, and %d are allowed", p.Stage+1, tallies[i].Refused, most)
		}
	}
}

// broken reports whether a gate does not pass that nobody bears.
func (f *fleet) broken() bool {
	tallies := f.tallies()
	for i := range f.parts {
		if f.parts[i].Stage >= f.course.Opened {
			continue
		}
		for _, g := range f.parts[i].Gates(tallies[i]) {
			borne := false
			for _, b := range f.course.Borne {
				borne = borne || b.Gate == g.Name && b.Part == i && g.Value <= b.Value
			}
			if g.Name != rollout.GateRefused && !g.Passed() && !borne { // that one holds before a wave
				return true
			}
		}
	}
	return false
}

// open reports whether a host of a stage is waited for.
func (f *fleet) open(stage int) bool {
	for i, st := range f.places {
		if f.parts[f.of[i]].Stage == stage-1 && (st.Open() || st == rollout.Queued) {
			return true
		}
	}
	return false
}

// happen lets one thing happen: to a host, to the clock, or by somebody's hand.
func (f *fleet) happen(t *rapid.T) {
	switch rapid.IntRange(0, 11).Draw(t, "what") {
	case 0:
		f.now = f.now.Add(time.Duration(rapid.IntRange(0, 120).Draw(t, "minutes")) * time.Minute)
	case 1:
		f.course, _ = rollout.HoldNow(f.course, "mira", "", f.now)
	case 2:
		f.course, _ = rollout.Proceed(f.course, f.parts, f.tallies(), f.now)
	case 3:
		f.course, _ = rollout.Agree(f.course, f.parts, "mira", rapid.SampledFrom([]string{"mira", "jonas"}).Draw(t, "who"))
	case 4:
		if len(f.places) > 0 {
			if i := rapid.IntRange(0, len(f.places)-1).Draw(t, "drifts"); f.places[i] == rollout.Done {
				f.drift[i] = true
			}
		}
	case 5:
		if i := rapid.IntRange(0, len(f.parts)).Draw(t, "seen"); i < len(f.parts) && len(f.parts[i].Brings) > 0 {
			f.looks[i] = rapid.Bool().Draw(t, "looks")
			f.bad[i] = rapid.IntRange(0, f.parts[i].Hosts).Draw(t, "bad")
		}
	default:
		if len(f.places) == 0 {
			return
		}
		i := rapid.IntRange(0, len(f.places)-1).Draw(t, "host")
		e := rapid.SampledFrom([]rollout.Event{
			rollout.Works, rollout.Succeeds, rollout.Succeeds, rollout.Rests, rollout.Fails, rollout.Loses, rollout.Skips,
		}).Draw(t, "event")
		if to, err := rollout.Next(f.places[i], e); err == nil {
			f.places[i] = to
		}
	}
}

// finish lets everybody say that it is well and somebody press what is asked for: it ends.
func (f *fleet) finish(t *rapid.T) {
	clear(f.looks)
	for range 4*len(f.places) + 100 {
		if f.course.Phase == rollout.Ended {
			return
		}
		for i, st := range f.places {
			if st.Open() {
				f.places[i], _ = rollout.Next(st, rollout.Succeeds)
			}
		}
		f.now = f.now.Add(3 * time.Hour)
		f.course, _ = rollout.Proceed(f.course, f.parts, f.tallies(), f.now)
		f.course, _ = rollout.Agree(f.course, f.parts, "mira", "jonas")
		f.step()
	}
	t.Fatalf("it does not end: %+v %v", f.course, f.places)
}

func TestGatesInWords(t *testing.T) {
	parts := []rollout.Part{
		{Stage: 0, Plan: "p", Hosts: 1, Limits: rollout.BuiltIn().Limits},
		{Stage: 1, Plan: "p", Hosts: 20, Limits: rollout.BuiltIn().Limits, Soak: time.Hour},
		{Stage: 2, Plan: "p", Hosts: 79, Limits: rollout.BuiltIn().Limits, Consent: true},
	}
	count := func(all ...rollout.Counts) (out []rollout.Tally) {
		for _, c := range all {
			out = append(out, rollout.Tally{Counts: c})
		}
		return out
	}
	queued := rollout.Counts{rollout.Queued: 79}
	brings := slices.Clone(parts)
	brings[0].Brings = []rollout.Brings{{Hosts: 1, Places: []rollout.Brought{{Place: "place"}}}}
	for _, x := range []struct {
		tally rollout.Tally
		want  rollout.Phase
	}{{rollout.Tally{}, ""}, {rollout.Tally{Looked: true, Refused: 1}, rollout.Held}, {rollout.Tally{Looked: true, Unseen: 1}, rollout.Changing}} {
		next, _ := rollout.Step(brings, rollout.Course{}, []rollout.Tally{x.tally, {}, {}}, noon)
		assert.Equal(t, x.want, next.Phase, "before the first host: %+v", x.tally)
	}
	for name, x := range map[string]struct {
		course  rollout.Course
		tallies []rollout.Tally
		after   time.Duration
		phase   rollout.Phase
		opened  int
		gate    string
	}{
		"the first host fails": {
			rollout.Course{Opened: 1, Phase: rollout.Changing},
			count(rollout.Counts{rollout.Failed: 1}, rollout.Counts{rollout.Queued: 20}, queued), 0, rollout.Held, 1, rollout.GateFailed,
		},
		"the first host is silent": {
			rollout.Course{Opened: 1, Phase: rollout.Changing},
			count(rollout.Counts{rollout.Behind: 1}, rollout.Counts{rollout.Queued: 20}, queued), 0, rollout.Held, 1, rollout.GateSilent,
		},
		"the first host is well": {
			rollout.Course{Opened: 1, Phase: rollout.Changing},
			count(rollout.Counts{rollout.Done: 1}, rollout.Counts{rollout.Queued: 20}, queued), 0, rollout.Changing, 2, "",
		},
		"one of twenty is borne": {
			rollout.Course{Opened: 2, Phase: rollout.Changing},
			count(rollout.Counts{rollout.Done: 1}, rollout.Counts{rollout.Failed: 1, rollout.Working: 19}, queued), 0, rollout.Changing, 2, "",
		},
		"two are not, and it does not wait for the others": {
			rollout.Course{Opened: 2, Phase: rollout.Changing},
			count(rollout.Counts{rollout.Done: 1}, rollout.Counts{rollout.Failed: 2, rollout.Working: 18}, queued), 0, rollout.Held, 2, rollout.GateFailed,
		},
		"it soaks": {
			rollout.Course{Opened: 2, Phase: rollout.Soaking, Since: noon},
			count(rollout.Counts{rollout.Done: 1}, rollout.Counts{rollout.Done: 20}, queued), 59 * time.Minute, rollout.Soaking, 2, "",
		},
		"then it asks": {
			rollout.Course{Opened: 2, Phase: rollout.Soaking, Since: noon},
			count(rollout.Counts{rollout.Done: 1}, rollout.Counts{rollout.Done: 20}, queued), time.Hour, rollout.Asking, 2, "",
		},
		"with nobody left it ends, whatever held it": {
			rollout.Course{Opened: 3, Phase: rollout.Held, Hold: &rollout.Hold{Gate: rollout.GateFailed}},
			count(rollout.Counts{rollout.Done: 1}, rollout.Counts{rollout.Done: 20}, rollout.Counts{rollout.Failed: 79}), 0, rollout.Ended, 3, "",
		},
	} {
		next, _ := rollout.Step(parts, x.course, x.tallies, noon.Add(x.after))
		assert.Equal(t, x.phase, next.Phase, name)
		assert.Equal(t, x.opened, next.Opened, name)
		if x.gate != "" && assert.NotNil(t, next.Hold, name) {
			assert.Equal(t, x.gate, next.Hold.Gate, name)
		}
	}
}

func TestConsentIsSomebodyElses(t *testing.T) {
	parts := []rollout.Part{{Hosts: 3, Consent: true}}
	c, actions := rollout.Step(parts, rollout.Course{}, []rollout.Tally{{Counts: rollout.Counts{rollout.Queued: 3}}}, noon)
	assert.Equal(t, rollout.Asking, c.Phase)
	assert.Empty(t, actions)
	_, err := rollout.Agree(c, parts, "mira", "mira")
	require.Error(t, err)
	c, err = rollout.Agree(c, parts, "mira", "jonas")
	require.NoError(t, err)
	c, actions = rollout.Step(parts, c, []rollout.Tally{{Counts: rollout.Counts{rollout.Queued: 3}}}, noon)
	assert.Equal(t, []rollout.Action{rollout.Open}, actions)
	assert.Equal(t, 1, c.Opened)
}

func TestQuietHours(t *testing.T) {
	at := func(h, m int) time.Time { return time.Date(2026, 11, 26, h, m, 0, 0, time.UTC) }
	night := rollout.Quiet{From: 22 * 60, Until: 6 * 60}
	for _, x := range []struct {
		q    rollout.Quiet
		t    time.Time
		want bool
	}{
		{night, at(21, 59), false},
		{night, at(22, 0), true},
		{night, at(0, 0), true},
		{night, at(5, 59), true},
		{night, at(6, 0), false},
		{rollout.Quiet{From: 8 * 60, Until: 18 * 60}, at(12, 0), true},
		{rollout.Quiet{From: 8 * 60, Until: 18 * 60}, at(18, 0), false},
		{rollout.Quiet{}, at(12, 0), false},
	} {
		assert.Equal(t, x.want, x.q.Covers(x.t), "%s at %s", x.q, x.t)
	}
}
