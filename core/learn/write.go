package learn

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

var bare = regexp.MustCompile(`^[A-Za-z/][A-Za-z0-9./_-]*$`)

// q writes a text as YAML takes it.
func q(s string) string {
	if bare.MatchString(s) && !slices.Contains([]string{"true", "false", "yes", "no", "on", "off", "null", "y", "n"}, strings.ToLower(s)) {
		return s
	}
	return strconv.Quote(s)
}

func list(texts []string) string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = q(t)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// order is that of families in a file.
var order = []string{source.FamilyDeb, source.FamilyRpm, source.FamilyZypp, source.FamilyArch, source.FamilyFlatpak}

func (l *learner) write() policy.Folder {
	out := policy.Folder{}
	used := map[string]bool{}
	for _, r := range l.repositories {
		for _, f := range r.keys {
			used[f] = true
		}
	}
	const head = "format: patient-lantern/1\n\n"
	var b strings.Builder
	fprs := slices.Sorted(maps.Keys(used))
	slices.SortFunc(fprs, func(a, b string) int { return strings.Compare(l.keys[a].name, l.keys[b].name) })
	if len(fprs) > 0 {
		b.WriteString(
			"# Signing keys as they stand on the hosts, pinned. Before you rely on one, hold its\n# fingerprint against what the vendor " +
				"publishes.\n" + head + "keys:\n",
		)
		for _, f := range fprs {
			k := l.keys[f]
			fmt.Fprintf(&b, "  %s:\n    file: keys/%s.asc\n    fingerprint: %s\n", k.name, k.name, spaced(f))
			out["keys/"+k.name+".asc"] = []byte(k.armoured)
		}
		out["keys.yaml"] = []byte(b.String())
	}
	b.Reset()
	b.WriteString("# What the hosts have, learnt from their surveys.\n")
	if names := slices.Sorted(maps.Keys(l.unchecked)); len(names) > 0 {
		fmt.Fprintf(&b, "#\n# NOT CHECKED, as some host has it: %s. See signatures there.\n", strings.Join(names, ", "))
	}
	b.WriteString(head + "repositories:\n")
	for i, r := range l.repositories {
		if i > 0 {
			b.WriteByte('\n')
		}
		l.repository(&b, r)
	}
	if len(l.repositories) == 0 {
		b.Reset()
		b.WriteString("# The hosts have no sources.\n" + head + "repositories: {}\n")
	}
	out["repositories.yaml"] = []byte(b.String())
	out["hosts.yaml"] = []byte(l.assignments(head))
	return out
}

// spaced writes a fingerprint as gpg shows it.
func spaced(f string) string {
	var out []string
	for i := 0; i < len(f); i += 4 {
		out = append(out, f[i:min(i+4, len(f))])
		if i+4 == len(f)/2 {
			out = append(out, "")
		}
	}
	return strings.Join(out, " ")
}

func (l *learner) repository(b *strings.Builder, r *repository) {
	fmt.Fprintf(b, "  %s:\n", r.name)
	if r.name == baseName {
		b.WriteString("    title: The distribution's own packages\n    support: distribution\n")
	}
	settings := map[string]string{}
	if r.base != "" {
		settings["base"] = r.base
	}
	for name, values := range l.settings(r) {
		settings[name] = commonest(values)
	}
	if len(settings) > 0 {
		var parts []string
		for _, name := range slices.Sorted(maps.Keys(settings)) {
			parts = append(parts, name+": "+strconv.Quote(settings[name]))
		}
		fmt.Fprintf(b, "    settings: { %s }\n", strings.Join(parts, ", "))
	}
	l.trust(b, r)
	var cases []string
	for _, family := range order {
		p := r.parts[family]
		if p == nil {
			continue
		}
		var says []string
		url := p.url
		if r.base != "" {
			url = "${base}" + strings.TrimPrefix(url, r.base)
		}
		if url != "" && (!r.inPlace || family == deb.Family) {
			says = append(says, "url: "+q(url))
		}
		if r.inPlace && len(p.sections) > 0 {
			says = append(says, "sections: "+list(p.sections))
		}
		if len(p.suites) > 0 {
			says = append(says, "suites: "+list(p.suites))
		}
		if len(p.components) > 0 {
			says = append(says, "components: "+list(p.components))
		}
		if len(p.kinds) > 0 && !slices.Equal(p.kinds, []string{"binary"}) && !r.inPlace {
			says = append(says, "kinds: "+list(p.kinds))
		}
		if p.priority != 0 && !r.inPlace {
			says = append(says, "priority: "+strconv.Itoa(p.priority))
		}
		fmt.Fprintf(b, "    %s: { %s }\n", family, strings.Join(says, ", "))
		for _, kind := range slices.Sorted(maps.Keys(p.more)) {
			id, version, _ := strings.Cut(kind, " ")
			cases = append(
				cases,
				fmt.Sprintf(
					"      - where: os.id == %q && os.major == %s\n        deb: { add-components: %s }\n",
					id,
					cmp.Or(version, "0"),
					list(p.more[kind]),
				),
			)
		}
	}
	if len(cases) > 0 {
		b.WriteString("    cases:\n" + strings.Join(cases, ""))
	}
}

// trust writes by which keys a repository is believed, and whether it is edited in place.
func (l *learner) trust(b *strings.Builder, r *repository) {
	if len(r.keys) > 0 {
		var names []string
		for _, f := range r.keys {
			names = append(names, l.keys[f].name)
		}
		slices.Sort(names)
		if len(r.bring) > 0 {
			ownKeys(b, r, names)
		} else {
			fmt.Fprintf(b, "    keys: %s\n", list(names))
		}
	}
	if r.inPlace && l.unchecked[r.name] {
		b.WriteString(
			"    signatures: off # NOT CHECKED on a host that this was learnt from; without these two lines a rollout makes it checked\n" +
				"    because: it was so when this was learnt\n",
		)
	}
	switch {
	case r.name == baseName:
		b.WriteString("    in-place: true\n")
	case r.inPlace:
		b.WriteString("    in-place: true # as it stands: its key, checks or options are not all known here\n")
	}
}

// ownKeys writes the distribution's own keys, one a line, and which packages bring them: whoever
// reads the policy is to see whom they believe for everything.
func ownKeys(b *strings.Builder, r *repository, names []string) {
	fmt.Fprintf(b, "    # These may stand where the distribution keeps its keys; brought by %s.\n    keys:\n", strings.Join(r.bring, ", "))
	for _, n := range names {
		fmt.Fprintf(b, "      - %s\n", n)
	}
}

// settings gathers the settings of a repository: name → host → value.
func (l *learner) settings(r *repository) map[string]map[int]string {
	out := map[string]map[int]string{}
	if r.inPlace && r.name == baseName {
		return out
	}
	for _, family := range slices.Sorted(maps.Keys(r.parts)) {
		if r.inPlace && family != deb.Family {
			continue // only sections are said of it
		}
		for name, values := range r.parts[family].settings {
			if out[name] == nil {
				out[name] = map[int]string{}
			}
			for h, v := range values {
				out[name][h] = v
			}
		}
	}
	return out
}

func commonest(values map[int]string) string {
	count := map[string]int{}
	for _, v := range values {
		count[v]++
	}
	best := ""
	for _, v := range slices.Sorted(maps.Keys(count)) {
		if best == "" || count[v] > count[best] {
			best = v
		}
	}
	return best
}

// assignments says who gets what.
func (l *learner) assignments(head string) string {
	g := &grouping{learner: l, groups: map[string]string{}}
	type entry struct {
		to           string
		repositories []string
		settings     []string
		hosts        int
	}
	entries := map[string]*entry{}
	at := func(to string, hosts int) *entry {
		if entries[to] == nil {
			entries[to] = &entry{to: to, hosts: hosts}
		}
		return entries[to]
	}
	everyone := at(policy.Everyone, len(l.hosts)+1)
	for _, r := range l.repositories {
		universe := []int{}
		for i := range l.hosts {
			h := &l.hosts[i]
			if r.parts[h.Traits.Family] != nil || r.parts[source.FamilyFlatpak] != nil && h.Traits.Tools["flatpak"] != "" {
				universe = append(universe, i)
			}
		}
		e := at(g.to(r.hosts, universe), len(r.hosts))
		e.repositories = append(e.repositories, r.name)
		for name, values := range l.settings(r) {
			usual := commonest(values)
			others := map[string][]int{}
			for h, v := range values {
				if v != usual {
					others[v] = append(others[v], h)
				}
			}
			for _, v := range slices.Sorted(maps.Keys(others)) {
				slices.Sort(others[v])
				e := at(g.to(others[v], universe), len(others[v]))
				e.settings = append(e.settings, fmt.Sprintf("%s.%s: %q", r.name, name, v))
			}
		}
	}
	var b strings.Builder
	b.WriteString("# Who gets what. Groups were found by the hosts' names, labels and traits.\n" + head)
	if len(g.groups) > 0 {
		b.WriteString("groups:\n")
		for _, name := range slices.Sorted(maps.Keys(g.groups)) {
			fmt.Fprintf(&b, "  %s: %s\n", name, g.groups[name])
		}
		b.WriteByte('\n')
	}
	b.WriteString("assign:\n")
	all := make([]*entry, 0, len(entries))
	for _, e := range entries {
		all = append(all, e)
	}
	slices.SortFunc(all, func(a, b *entry) int { return cmp.Or(cmp.Compare(b.hosts, a.hosts), cmp.Compare(a.to, b.to)) })
	for i, e := range all {
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "  - to: %s\n", e.to)
		if len(e.repositories) > 0 {
			slices.Sort(e.repositories)
			fmt.Fprintf(&b, "    repositories: %s\n", list(e.repositories))
		}
		if e == everyone {
			fmt.Fprintf(&b, "    unlisted: %s\n", source.UnlistedReport)
		}
		if len(e.settings) > 0 {
			slices.Sort(e.settings)
			fmt.Fprintf(&b, "    settings: { %s }\n", strings.Join(e.settings, ", "))
		}
	}
	return b.String()
}

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
		t := &h.Traits
		for _, c := range []struct {
			name, where string
			in          func(j int) bool
		}{
			{t.OS.ID, fmt.Sprintf("os.id == %q", t.OS.ID), func(j int) bool { return g.hosts[j].Traits.OS.ID == t.OS.ID }},
			{t.OS.ID + "-" + major(t.OS.Version), fmt.Sprintf(
				"os.id == %q && os.major == %s",
				t.OS.ID,
				cmp.Or(major(t.OS.Version), "0"),
			), func(j int) bool { return kindOf(&g.hosts[j]) == kindOf(h) }},
			{t.Arch, fmt.Sprintf("arch == %q", t.Arch), func(j int) bool { return g.hosts[j].Traits.Arch == t.Arch }},
			{fmt.Sprintf("level-%d", t.CPU.Level), fmt.Sprintf("cpu.level >= %d", t.CPU.Level), func(j int) bool {
				return g.hosts[j].Traits.CPU.Level >= t.CPU.Level
			}},
		} {
			if fits(c.in) {
				return g.named(word(c.name), "{ where: '"+c.where+"' }")
			}
		}
	}
	names := g.ranges(hosts)
	if len(names) == 1 {
		return q(names[0])
	}
	return list(names)
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

// quoted writes a text as a YAML scalar in single quotes (YAML 1.2.2, 7.3.2).
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
