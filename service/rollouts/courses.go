package rollouts

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/upstreams"
	"patientlantern.example/lantern/store"
)

// rolloutOf describes a rollout without its waves and hosts.
func rolloutOf(ro store.Rollout) api.Rollout {
	out := api.Rollout{
		ID: ro.ID, Kind: ro.Kind, Revision: ro.Revision, Of: ro.Of, Author: ro.Author, Because: ro.Because,
		Phase: ro.Course.Phase, Wave: ro.Course.Opened, Waves: rollout.Stages(ro.Parts), Counts: map[rollout.State]int{},
	}
	if out.Phase == "" {
		out.Phase = rollout.Soaking
	}
	if !ro.Course.Since.IsZero() {
		out.Since = &ro.Course.Since
	}
	if !ro.Begun.IsZero() {
		out.Begun = &ro.Begun
	}
	if !ro.Ended.IsZero() {
		out.Ended = &ro.Ended
	}
	if !ro.Stopped.IsZero() {
		out.Stopped = &ro.Stopped
	}
	if h := ro.Course.Hold; h != nil {
		out.Hold = &api.RolloutHold{By: h.By, Because: h.Because, Gate: h.Gate}
		if h.Gate != "" && h.Part < len(ro.Parts) {
			out.Hold.Wave = ro.Parts[h.Part].Stage + 1
		}
	}
	for _, st := range rollout.States {
		out.Counts[st] = ro.Counts[st]
	}
	out.NotReached = ro.NotReached()
	out.Says = says(&ro)
	return out
}

// partsOf describes the waves of a rollout, which brings some places to its hosts.
func (s *Rollouts) partsOf(ro *store.Rollout, tallies []rollout.Tally, brings *upstreams.BringsTo) []api.RolloutPart {
	addresses := map[string]string{}
	if brings == nil {
		brings = &upstreams.BringsTo{}
	}
	for _, x := range brings.Places {
		addresses[x.Digest] = strings.TrimSpace(x.Address() + " " + x.Suite)
	}
	out := make([]api.RolloutPart, len(ro.Parts))
	for i := range ro.Parts {
		p := &ro.Parts[i]
		x := api.RolloutPart{
			Wave: p.Stage + 1, Plan: p.Plan, What: p.What, Hosts: p.Hosts, Soak: int(p.Soak.Seconds()), Consent: p.Consent,
			Quiet: p.Quiet.String(), Counts: map[rollout.State]int{}, Gates: []api.RolloutGate{},
		}
		if ro.Ended.IsZero() && p.Stage >= ro.Course.Opened {
			x.Unseen, x.Refused = tallies[i].Unseen, s.refuses(p, addresses)
		}
		if p.Stage < len(ro.Course.Consents) {
			x.Agreed = ro.Course.Consents[p.Stage]
		}
		for st, n := range tallies[i].Counts {
			x.Counts[st] = n
		}
		for _, g := range p.Gates(tallies[i]) {
			x.Gates = append(x.Gates, api.RolloutGate{Name: g.Name, Value: g.Value, Limit: g.Limit.String(), Most: g.Most, Passed: g.Passed()})
		}
		out[i] = x
	}
	slices.SortStableFunc(out, func(a, b api.RolloutPart) int { return a.Wave - b.Wave })
	return out
}

// courseOf describes a rollout with its waves and with why hosts failed.
func (s *Rollouts) courseOf(ctx context.Context, ro store.Rollout) (api.Rollout, error) {
	out := rolloutOf(ro)
	tallies, why, err := s.stands(ctx, &ro)
	if err != nil {
		return out, err
	}
	if len(why) > 0 {
		out.Says += "; " + strings.Join(why, "; ")
	} else if ro.Ended.IsZero() {
		s.sayLeft(&out, &ro, tallies)
	}
	brings, err := s.broughtBy(ctx, &ro)
	if err != nil {
		return out, err
	}
	out.Parts = s.partsOf(&ro, tallies, brings)
	out.Says += aheadSays(out.Parts, &ro, tallies, mayOpen(&ro, s.Now()))
	out.Causes, err = s.causes(ctx, ro.ID)
	return out, err
}

// sayLeft says how long a rollout still takes, or that its last hosts keep it waiting.
func (s *Rollouts) sayLeft(out *api.Rollout, ro *store.Rollout, tallies []rollout.Tally) {
	now := s.Now()
	left, idle, known := rollout.Left(ro.Parts, ro.Course, tallies, ro.Begun, s.steer.lastEnded(ro.ID, now), now)
	switch {
	case known:
		seconds := int(left.Seconds())
		out.TimeLeft = &seconds
		out.Says += "; " + fleet.About(left) + " left, by what hosts took so far"
	case idle > 0:
		out.Says += fmt.Sprintf("; no host has ended for %s: how long the last ones take is not known", fleet.About(idle))
	}
}

// aheadSays is what there is to say of the places that the next wave brings, which may begin soon.
func aheadSays(parts []api.RolloutPart, ro *store.Rollout, tallies []rollout.Tally, soon bool) (out string) {
	unseen, looks := 0, false
	for i := range ro.Parts {
		if next := ro.Parts[i].Stage == ro.Course.Opened; next && ro.Ended.IsZero() && ro.Course.Phase != rollout.Held {
			unseen += tallies[i].Unseen
			looks = looks || soon && !tallies[i].Looked && ro.Parts[i].Limits.Refused.Set && len(ro.Parts[i].Brings) > 0
		}
	}
	switch {
	case looks && ro.Course.Opened > 0:
		out = "; what the next wave brings is being looked at"
	case unseen > 0:
		out = fmt.Sprintf("; of %s of the next wave it is not known what stands at the places that it brings", Plural(unseen))
	}
	if h := ro.Course.Hold; h != nil && h.Gate == rollout.GateRefused {
		for i := range parts {
			if parts[i].Wave != ro.Parts[h.Part].Stage+1 {
				continue
			}
			out += refusedSays(parts[i].Refused)
		}
	}
	return out
}

// refusedSays names the places that are refused, each reason once.
func refusedSays(list []api.RefusedPlace) (out string) {
	first := map[string]string{} // reason → address
	more := map[string]int{}
	var order []string
	for _, x := range list {
		if _, known := first[x.Says]; known {
			more[x.Says]++
			continue
		}
		first[x.Says] = x.Address
		order = append(order, x.Says)
	}
	for _, says := range order {
		out += "; " + first[says]
		if n := more[says]; n > 0 {
			out += fmt.Sprintf(" and %d more", n)
		}
		out += ": " + says
	}
	return out
}

// stands counts the hosts of a rollout, and says why some may not begin. What comes of a
// host after a rollout has ended is not counted any more.
func (s *Rollouts) stands(ctx context.Context, ro *store.Rollout) (t []rollout.Tally, why []string, err error) {
	if !ro.Ended.IsZero() {
		t, err = s.Store.Tallies(ctx, ro)
		return t, nil, err
	}
	t, err = s.tallies(ctx, ro, true)
	return t, s.waitsFor(ro.ID), err
}

// waitsFor says why hosts of a rollout may not begin though their wave has come, and how many.
func (s *Rollouts) waitsFor(id int64) (why []string) {
	s.steer.known.Lock()
	defer s.steer.known.Unlock()
	for text, n := range s.steer.blocked[id] {
		why = append(why, fmt.Sprintf("%s %s", hostsWord(n), text))
	}
	slices.Sort(why)
	return why
}

// Plural is a number of hosts in words.
func Plural(hosts int) string {
	if hosts == 1 {
		return "1 host"
	}
	return fmt.Sprintf("%d hosts", hosts)
}

func hostsWord(n int) string {
	if n == 1 {
		return "1 host is"
	}
	return fmt.Sprintf("%d hosts are", n)
}

// gateWords say what a gate counts.
var gateWords = map[string]string{
	rollout.GateFailed:      "failed",
	rollout.GateSilent:      "give no sign of life",
	rollout.GateUnrefreshed: "could not refresh a source",
	rollout.GateDrifted:     "drifted after the change",
	rollout.GateRefused:     "would get packages from what the service saw refused",
}

// says is what a rollout is about, in a sentence.
func says(ro *store.Rollout) string {
	c := &ro.Course
	waves := rollout.Stages(ro.Parts)
	switch c.Phase {
	case rollout.Ended:
		if n := ro.NotReached(); n > 0 {
			return fmt.Sprintf("it was stopped before %s had begun", Plural(n))
		}
		if !ro.Stopped.IsZero() {
			return "it was stopped"
		}
		return "it has ended"
	case rollout.Held:
		return heldSays(ro)
	case rollout.Asking:
		return fmt.Sprintf("wave %d of %d waits for the consent of somebody else than %s: lantern rollout consent %d",
			c.Opened+1, waves, ro.Author, ro.ID)
	case rollout.Soaking, "":
		if c.Opened == 0 {
			return fmt.Sprintf("wave 1 of %d begins once what it brings to its hosts has been looked at", waves)
		}
		at := c.Since.Add(rollout.Soak(ro.Parts, c.Opened-1)).UTC()
		return fmt.Sprintf("wave %d of %d is done; the next begins at %s", c.Opened, waves, at.Format("15:04:05 MST"))
	}
	return fmt.Sprintf("wave %d of %d: %d at work, %d may begin", c.Opened, waves, ro.Counts[rollout.Working], ro.Counts[rollout.Waiting])
}

func heldSays(ro *store.Rollout) string {
	h := ro.Course.Hold
	switch {
	case h == nil:
		return "it is held"
	case h.Gate == rollout.GateNobody:
		return fmt.Sprintf("held: no host of wave %d has said that it is well", ro.Parts[h.Part].Stage+1)
	case h.Gate == rollout.GateRefused && h.Part < len(ro.Parts):
		p := &ro.Parts[h.Part]
		return fmt.Sprintf("held before wave %d: %d of its %s %s, and the limit is %s", p.Stage+1, h.Value, Plural(p.Hosts),
			gateWords[h.Gate], p.Limits.Refused)
	case h.Gate != "" && h.Part < len(ro.Parts):
		p := &ro.Parts[h.Part]
		for _, g := range p.Gates(rollout.Tally{}) {
			if g.Name == h.Gate {
				return fmt.Sprintf("held: %d of %s of wave %d %s, and the limit is %s", h.Value, Plural(p.Hosts), p.Stage+1, gateWords[h.Gate],
					limitWords(g))
			}
		}
	}
	out := "held by " + h.By
	if h.Because != "" {
		out += ": " + h.Because
	}
	return out
}

// limitWords say a limit, and what it comes to.
func limitWords(g rollout.Gate) string {
	if g.Limit.Share {
		return fmt.Sprintf("%s, which is %d", g.Limit, g.Most)
	}
	return g.Limit.String()
}

// mostCauses bounds how many causes are told, and mostNames how many hosts of each.
const mostCauses, mostReports = 20, 2000

// causes groups the hosts of a rollout that failed by why they did.
func (s *Rollouts) causes(ctx context.Context, id int64) ([]api.RolloutCause, error) {
	list, err := s.Store.FailedReports(ctx, id, mostReports)
	if err != nil {
		return nil, err
	}
	var out []api.RolloutCause
	for _, f := range list {
		var rep api.Report
		if len(f.Report) > 0 && json.Unmarshal(f.Report, &rep) != nil {
			continue
		}
		short, _, _ := strings.Cut(f.First, ".")
		message := strings.ReplaceAll(strings.ReplaceAll(rep.Message, f.First, "this host"), short, "this host")
		i := slices.IndexFunc(out, func(c api.RolloutCause) bool { return c.Step == rep.Step && c.Message == message })
		if i < 0 {
			x := api.RolloutCause{Step: rep.Step, Message: message, Names: []string{}}
			if c, known := cause.Of(message); known {
				x.Kind, x.Says, x.Remedy = string(c.Kind), c.Says, c.Remedy
			}
			out = append(out, x)
			i = len(out) - 1
		}
		out[i].Hosts += f.Hosts
		if len(out[i].Names) < ground.MostNames {
			out[i].Names = source.Strings(append(out[i].Names, f.First))
		}
	}
	slices.SortStableFunc(out, func(a, b api.RolloutCause) int { return b.Hosts - a.Hosts })
	return out[:min(len(out), mostCauses)], nil
}
