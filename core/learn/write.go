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
	if bare.MatchString(s) &&
		!slices.Contains([]string{"true", "false", "yes", "no", "on", "off", "null", "y", "n"}, strings.ToLower(s)) {
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
			says = append(says, "sections: "+list(literals(p.sections)))
		}
		if len(p.suites) > 0 {
			says = append(says, "suites: "+list(p.suites))
		}
		if len(p.components) > 0 {
			says = append(says, "components: "+list(literals(p.components)))
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
					version,
					list(literals(p.more[kind])),
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
	fmt.Fprintf(
		b,
		"    # These may stand where the distribution keeps its keys; brought by %s.\n    keys:\n",
		strings.Join(r.bring, ", "),
	)
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

// entry is one of the list of who gets what.
type entry struct {
	to           string
	repositories []string
	settings     []string
	unlisted     bool
	hosts        int
}

// entries are those of a policy that is written.
type entries struct{ all []*entry }

// at is the entry for somebody.
func (es *entries) at(to string, hosts int) *entry {
	for _, e := range es.all {
		if e.to == to {
			return e
		}
	}
	es.all = append(es.all, &entry{to: to, hosts: hosts})
	return es.all[len(es.all)-1]
}

// settings gives those hosts of a repository their values that have other ones than most.
func (es *entries) settings(l *learner, r *repository, who func(hosts []int) string) {
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
			e := es.at(who(others[v]), len(others[v]))
			e.settings = append(e.settings, fmt.Sprintf("%s.%s: %q", r.name, name, v))
		}
	}
}

func (es *entries) write(b *strings.Builder) {
	b.WriteString("assign:\n")
	slices.SortFunc(es.all, func(a, b *entry) int { return cmp.Or(cmp.Compare(b.hosts, a.hosts), cmp.Compare(a.to, b.to)) })
	for i, e := range es.all {
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(b, "  - to: %s\n", e.to)
		if len(e.repositories) > 0 {
			slices.Sort(e.repositories)
			fmt.Fprintf(b, "    repositories: %s\n", list(e.repositories))
		}
		if e.unlisted {
			fmt.Fprintf(b, "    unlisted: %s\n", source.UnlistedReport)
		}
		if len(e.settings) > 0 {
			slices.Sort(e.settings)
			fmt.Fprintf(b, "    settings: { %s }\n", strings.Join(e.settings, ", "))
		}
	}
}

// assignments says who gets what.
func (l *learner) assignments(head string) string {
	g := &grouping{learner: l, groups: map[string]string{}}
	all := &entries{}
	all.at(policy.Everyone, len(l.hosts)+1).unlisted = true
	for _, r := range l.repositories {
		universe := []int{}
		for i := range l.hosts {
			h := &l.hosts[i]
			if r.parts[h.Traits.Family] != nil || r.parts[source.FamilyFlatpak] != nil && h.Traits.Tools["flatpak"] != "" {
				universe = append(universe, i)
			}
		}
		e := all.at(g.to(r.hosts, universe), len(r.hosts))
		e.repositories = append(e.repositories, r.name)
		all.settings(l, r, func(hosts []int) string { return g.to(hosts, universe) })
	}
	var b strings.Builder
	b.WriteString("# Who gets what. Groups were found by the hosts' names, labels and traits.\n" + head)
	g.write(&b)
	all.write(&b)
	return b.String()
}

// quoted writes a text as a YAML scalar in single quotes (YAML 1.2.2, 7.3.2).
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
