package register

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
)

// count counts how hosts stand.
func count(hosts []*fleet.Host, now time.Time) Tally {
	var all Tally
	for _, part := range fleet.Across(hosts, func(part []*fleet.Host) (t Tally) {
		for _, h := range part {
			t.Add(h.Row(), h.State(now))
		}
		return t
	}) {
		all.join(&part)
	}
	return all
}

// hostRow is a host with what it is sorted by; equal ones keep the order of names.
type hostRow struct {
	h   *fleet.Host
	num int64
	by  string // where they are sorted by a word
}

// hostRows are hosts that are asked for and come first, and how all of a part stand.
type hostRows struct {
	counted Tally
	states  [16]int // by index into api.States
	rows    *ground.Firsts[hostRow]
}

// hostOrder is an order of hosts.
type hostOrder struct {
	by     string // name, state, revision, findings, last_seen or os
	turned bool
}

func (o hostOrder) compare(a, b hostRow) int {
	n := cmp.Or(cmp.Compare(a.num, b.num), strings.Compare(a.by, b.by))
	if o.turned {
		n = -n
	}
	return n
}

// look gathers those of a part that are asked for and come first, so many at most; meant is nil where all may be.
func (in *HostFilter) look(part []*fleet.Host, meant map[*fleet.Host]bool, order hostOrder, most int, now time.Time) *hostRows {
	out := &hostRows{rows: ground.NewFirsts(most, order.compare)}
	for _, h := range part {
		v, st := h.Row(), h.State(now)
		n := slices.Index(api.States, st)
		out.states[n]++
		out.counted.Add(v, st)
		if meant != nil && !meant[h] || !in.wants(v, st) {
			continue
		}
		r := hostRow{h: h}
		switch order.by {
		case "state":
			r.num = int64(n)<<2 | worstRank(v.Worst)
		case "revision":
			r.num = v.Revision
		case "findings":
			r.num = int64(len(v.Findings))
		case "last_seen":
			r.num = h.SeenMilli()
		case "os":
			r.by = v.OS
		case "name":
			if order.turned { // else they come so
				r.by = v.Name
			}
		}
		out.rows.Add(r)
	}
	return out
}

// worstRank puts those with the worst findings first among hosts of one state, and those without any last.
func worstRank(severity string) int64 {
	if rank := drift.Rank(severity); rank >= 0 {
		return int64(rank)
	}
	return 3
}

// joined are the first rows of all parts.
func joined(parts []*hostRows, order hostOrder, most int) *ground.Firsts[hostRow] {
	all := ground.NewFirsts(most, order.compare)
	for _, p := range parts {
		all.Join(p.rows)
	}
	return all
}

// matches reports whether a host's name, system or a label holds a text in small letters.
func matches(v *fleet.View, q string) bool {
	if strings.Contains(v.Name, q) || strings.Contains(v.LowerOS, q) { // names are in small letters
		return true
	}
	for k, l := range v.Labels {
		if strings.Contains(strings.ToLower(k+"="+l), q) {
			return true
		}
	}
	return false
}
