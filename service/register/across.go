package register

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/service/fleet"
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
	at  int32
}

// hostRows are hosts that are asked for, and how all of a part stand.
type hostRows struct {
	counted Tally
	states  [16]int // by index into api.States
	rows    []hostRow
	systems []string // by num, where they are sorted by the system's name
}

// look gathers those of a part that are asked for; meant is nil where all may be.
func (in *HostFilter) look(part []*fleet.Host, meant map[*fleet.Host]bool, order string, now time.Time) *hostRows {
	out := &hostRows{rows: make([]hostRow, 0, len(part))}
	numbers := map[string]int64{}
	for _, h := range part {
		v, st := h.Row(), h.State(now)
		n := slices.Index(api.States, st)
		out.states[n]++
		out.counted.Add(v, st)
		if meant != nil && !meant[h] || !in.wants(v, st) {
			continue
		}
		r := hostRow{h: h}
		switch order {
		case "state":
			r.num = int64(n)<<2 | worstRank(v.Worst)
		case "revision":
			r.num = v.Revision
		case "findings":
			r.num = int64(len(v.Findings))
		case "last_seen":
			r.num = h.SeenMilli()
		case "os":
			number, known := numbers[v.OS]
			if !known {
				number = int64(len(out.systems))
				numbers[v.OS] = number
				out.systems = append(out.systems, v.OS)
			}
			r.num = number
		}
		out.rows = append(out.rows, r)
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

// joined are the rows of all parts, each with its place by name.
func joined(parts []*hostRows, order string) (rows []hostRow) {
	var names []string
	for _, p := range parts {
		names = append(names, p.systems...)
	}
	slices.Sort(names)
	names = slices.Compact(names)
	for _, p := range parts {
		ranks := make([]int64, len(p.systems))
		for i, name := range p.systems {
			rank, _ := slices.BinarySearch(names, name)
			ranks[i] = int64(rank)
		}
		for i := range p.rows {
			if len(ranks) > 0 {
				p.rows[i].num = ranks[p.rows[i].num]
			}
		}
	}
	if rows = parts[0].rows; len(parts) > 1 {
		rows = make([]hostRow, 0, len(rows)*len(parts))
		for _, p := range parts {
			rows = append(rows, p.rows...)
		}
	}
	for i := range rows {
		rows[i].at = int32(i)
		if order == "name" {
			rows[i].num = int64(i)
		}
	}
	return rows
}

// rowOrder is by number, then by name; turned round where that is asked for.
func rowOrder(turned bool) func(a, b hostRow) int {
	return func(a, b hostRow) int {
		n := cmp.Compare(a.num, b.num)
		if turned {
			n = -n
		}
		return cmp.Or(n, cmp.Compare(a.at, b.at))
	}
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
