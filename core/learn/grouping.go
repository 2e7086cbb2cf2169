package learn

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/policy"
)

// grouping finds groups for sets of hosts.
type grouping struct {
	*learner
	groups map[string]string // name → what it says
}

// to says how a set of hosts is called, among those that it matters for.
func (g *grouping) to(hosts, universe []int) string {
	if slices.Equal(hosts, universe) || len(hosts) == len(g.hosts) {
		return policy.Everyone
	}
	has := make(map[int]bool, len(hosts))
	for _, i := range hosts {
		has[i] = true
	}
	fits := func(in func(i int) bool) bool {
		for _, i := range universe {
			if in(i) != has[i] {
				return false
			}
		}
		return true
	}
	classes := map[string][]int{} // by the name before its number
	for i := range g.hosts {
		classes[stem(g.hosts[i].Host)] = append(classes[stem(g.hosts[i].Host)], i)
	}
	var touched []string
	for _, c := range slices.Sorted(maps.Keys(classes)) {
		if slices.ContainsFunc(classes[c], func(i int) bool { return has[i] }) {
			touched = append(touched, c)
		}
	}
	if len(touched) <= 3 && fits(func(i int) bool { return slices.Contains(touched, stem(g.hosts[i].Host)) }) {
		var names []string
		for _, c := range touched {
			names = append(names, g.named(word(c), "{ hosts: "+list(g.ranges(classes[c]))+" }"))
		}
		if len(names) == 1 {
			return names[0]
		}
		return list(names)
	}
	for _, i := range hosts[:1] {
		h := &g.hosts[i]
		for _, k := range slices.Sorted(maps.Keys(h.Labels)) {
			v := h.Labels[k]
			if fits(func(j int) bool { return g.hosts[j].Labels[k] == v }) {
				return g.named(word(v), "{ where: "+quoted(fmt.Sprintf("label.%s == %q", k, v))+" }")
			}
		}
		t, n := &h.Traits, major(h)
		for _, c := range []struct {
			name, where string
			in          func(j int) bool
		}{
			{t.OS.ID, fmt.Sprintf("os.id == %q", t.OS.ID), func(j int) bool { return g.hosts[j].Traits.OS.ID == t.OS.ID }},
			{t.OS.ID + "-" + n, fmt.Sprintf("os.id == %q && os.major == %s", t.OS.ID, n), func(j int) bool {
				return kindOf(&g.hosts[j]) == kindOf(h)
			}},
			{t.Arch, fmt.Sprintf("arch == %q", t.Arch), func(j int) bool { return g.hosts[j].Traits.Arch == t.Arch }},
			{fmt.Sprintf("level-%d", t.CPU.Level), fmt.Sprintf("cpu.level >= %d", t.CPU.Level), func(j int) bool {
				return g.hosts[j].Traits.CPU.Level >= t.CPU.Level
			}},
		} {
			if fits(c.in) {
				return g.named(word(c.name), "{ where: "+quoted(c.where)+" }")
			}
		}
	}
	names := g.names(hosts)
	if len(names) == 1 {
		return q(names[0])
	}
	return list(names)
}

// names says a set of hosts by their names: one without a dot would be that of a group, and gets one.
func (g *grouping) names(hosts []int) []string {
	names := g.ranges(hosts)
	var bare []string
	names = slices.DeleteFunc(names, func(n string) bool {
		if !strings.ContainsAny(n, ".{") {
			bare = append(bare, n)
		}
		return !strings.ContainsAny(n, ".{")
	})
	if len(bare) > 0 {
		names = append(names, g.named(word(bare[0]), "{ hosts: "+list(bare)+" }"))
	}
	return names
}

// write says the groups that were made.
func (g *grouping) write(b *strings.Builder) {
	if len(g.groups) == 0 {
		return
	}
	b.WriteString("groups:\n")
	for _, name := range slices.Sorted(maps.Keys(g.groups)) {
		fmt.Fprintf(b, "  %s: %s\n", name, g.groups[name])
	}
	b.WriteByte('\n')
}

// named makes a group, or takes the one that says the same.
func (g *grouping) named(name, says string) string {
	for n := 1; ; n++ {
		try := name
		if n > 1 {
			try = fmt.Sprintf("%s-%d", name, n)
		}
		if old, taken := g.groups[try]; try == policy.Everyone || taken && old != says {
			continue
		}
		g.groups[try] = says
		return try
	}
}

var numbered = regexp.MustCompile(`^(.*?)([0-9]+)(\..*|)$`)

// stem is the short name of a host without its number.
func stem(host string) string {
	short, _, _ := strings.Cut(host, ".")
	if m := numbered.FindStringSubmatch(short); m != nil && strings.Trim(m[1], "-_") != "" {
		return strings.Trim(m[1], "-_")
	}
	return short
}

// ranges writes names of hosts as brace ranges.
func (g *grouping) ranges(hosts []int) (out []string) {
	type run struct {
		before, after string
		width         int
		numbers       []int
	}
	var runs []*run
	for _, i := range hosts {
		name := g.hosts[i].Host
		m := numbered.FindStringSubmatch(name)
		if m == nil || len(m[2]) > 9 {
			out = append(out, name)
			continue
		}
		n, _ := strconv.Atoi(m[2]) // digits, at most nine
		width := len(m[2])
		k := slices.IndexFunc(runs, func(r *run) bool { return r.before == m[1] && r.after == m[3] && r.width == width })
		if k < 0 {
			runs = append(runs, &run{before: m[1], after: m[3], width: width})
			k = len(runs) - 1
		}
		runs[k].numbers = append(runs[k].numbers, n)
	}
	for _, r := range runs {
		slices.Sort(r.numbers)
		for i := 0; i < len(r.numbers); {
			j := i
			for j+1 < len(r.numbers) && r.numbers[j+1] == r.numbers[j]+1 {
				j++
			}
			first, last := fmt.Sprintf("%0*d", r.width, r.numbers[i]), fmt.Sprintf("%0*d", r.width, r.numbers[j])
			if i == j {
				out = append(out, r.before+first+r.after)
			} else {
				out = append(out, r.before+"{"+first+".."+last+"}"+r.after)
			}
			i = j + 1
		}
	}
	slices.Sort(out)
	return out
}
