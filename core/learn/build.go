package learn

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// part is what a repository is to one family.
type part struct {
	url        string // template
	suites     []string
	components []string
	kinds      []string
	sections   []string
	priority   int
	settings   map[string]map[int]string
	hosts      []int
	more       map[string][]string // os id and major → components that only those have
}

// repository is one that was learnt.
type repository struct {
	name    string
	inPlace bool
	bring   []string // packages that bring the keys of the distribution's own entries
	keys    []string
	parts   map[string]*part // by family
	hosts   []int
	base    string // what all URLs begin with
}

// bunch is units of several hosts that are the same but for facts and settings.
type bunch struct {
	unit
	units []unit
}

// folder writes the policy that the surveys come to.
func (l *learner) folder() policy.Folder {
	var own, rest []unit
	for n := range l.hosts {
		for _, u := range l.units(n) {
			if u.own {
				own = append(own, u)
			} else {
				rest = append(rest, u)
			}
		}
	}
	taken := map[string]bool{baseName: true}
	l.repositories, l.notes = nil, nil
	if r := l.base(own, taken); r != nil {
		l.repositories = append([]*repository{r}, l.repositories...)
	}
	l.repositories = slices.DeleteFunc(l.repositories, l.leavesOut)
	l.vendors(l.bunches(rest), taken)
	return l.write()
}

// leavesOut reports whether the policy cannot say a repository, which is noted of its hosts.
func (l *learner) leavesOut(r *repository) bool {
	why := l.unsaid[r.name]
	if why == "" {
		return false
	}
	for _, h := range r.hosts {
		l.notes = append(
			l.notes,
			Note{l.hosts[h].Host, fmt.Sprintf("what would be the repository %s cannot be said in the policy: %s", r.name, why)},
		)
	}
	return true
}

// of lists the followed hosts of a family.
func (l *learner) of(family string) (out []int) {
	for i := range l.hosts {
		if l.hosts[i].Traits.Family == family {
			out = append(out, i)
		}
	}
	return out
}

// base is what the distributions' own entries come to. What not all hosts of a family
// have becomes a repository of its own.
func (l *learner) base(own []unit, taken map[string]bool) *repository {
	atoms := map[[2]string][]int{} // family and suite or section → hosts
	components := map[int][]string{}
	mixed := false
	for _, u := range own {
		names := u.suites
		if u.family != deb.Family {
			names = []string{u.section}
		} else {
			if old, seen := components[u.host]; seen && !slices.Equal(old, u.components) {
				mixed = true // its entries differ, so there is no one list for all
			}
			components[u.host] = u.components
		}
		for _, s := range names {
			k := [2]string{u.family, s}
			if u.family == deb.Family {
				k[1] = factor(l.hosts, []int{u.host}, []string{s}, "suite").text
			}
			if list := atoms[k]; len(list) == 0 || list[len(list)-1] != u.host { // hosts come in order
				atoms[k] = append(list, u.host)
			}
		}
	}
	r := &repository{name: baseName, inPlace: true, parts: map[string]*part{}}
	keys := make([][2]string, 0, len(atoms))
	for k := range atoms {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b [2]string) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	for _, k := range keys {
		into := r
		if !slices.Equal(atoms[k], l.of(k[0])) {
			into = &repository{
				name:    unique(word(baseName+"-"+strings.ReplaceAll(k[1], "${os.codename}", "")), taken),
				inPlace: true,
				parts:   map[string]*part{},
			}
			l.repositories = append(l.repositories, into)
		}
		p := into.parts[k[0]]
		if p == nil {
			p = &part{hosts: atoms[k]}
			into.parts[k[0]] = p
		}
		if k[0] == deb.Family {
			p.suites = append(p.suites, k[1])
		} else {
			p.sections = append(p.sections, k[1])
		}
		into.hosts = union(into.hosts, atoms[k])
	}
	if p := r.parts[deb.Family]; p != nil && !mixed {
		l.components(p, components)
	}
	if len(r.parts) == 0 {
		return nil
	}
	r.keys, r.bring = l.ownKeys(r.hosts, own)
	return r
}

// ownKeys are the keys that hosts believe for everything, or that the distribution's own entries
// name, and that a package of the distribution has brought. One that nobody's package brings is
// somebody's own doing: it is not taken over.
func (l *learner) ownKeys(hosts []int, own []unit) (keys, bring []string) {
	named := map[int][]string{} // host → fingerprints
	for i := range own {
		named[own[i].host] = append(named[own[i].host], own[i].keys...)
	}
	for _, i := range hosts {
		h := &l.hosts[i]
		of := map[string]string{}
		for j := range h.Files {
			of[h.Files[j].Path] = h.Files[j].Package
		}
		for j := range h.Keys {
			k := &h.Keys[j]
			known, brought := l.keys[k.Fingerprint], of[k.Where]
			believed := k.Used && k.Scope == source.ScopeAny || slices.Contains(named[i], k.Fingerprint)
			if !believed || brought == "" || known == nil || known.useless {
				continue
			}
			keys, bring = append(keys, k.Fingerprint), append(bring, brought)
		}
	}
	slices.Sort(keys)
	slices.Sort(bring)
	return slices.Compact(keys), slices.Compact(bring)
}

// components says the components of the distribution's own entries: those that all
// hosts have, and those that a release has besides; nothing where hosts of one release
// differ.
func (l *learner) components(p *part, have map[int][]string) {
	byKind := map[string][]string{}
	for _, h := range p.hosts {
		k := kindOf(&l.hosts[h])
		if old, seen := byKind[k]; seen && !slices.Equal(old, sorted(have[h])) {
			return
		}
		byKind[k] = sorted(have[h])
	}
	first := true
	for _, k := range slices.Sorted(maps.Keys(byKind)) {
		if first {
			p.components, first = slices.Clone(byKind[k]), false
			continue
		}
		p.components = slices.DeleteFunc(p.components, func(c string) bool { return !slices.Contains(byKind[k], c) })
	}
	if len(p.components) == 0 {
		p.components = nil
		return
	}
	p.more = map[string][]string{}
	for k, list := range byKind {
		more := slices.DeleteFunc(slices.Clone(list), func(c string) bool { return slices.Contains(p.components, c) })
		if len(more) > 0 {
			p.more[k] = more
		}
	}
}

func union[T cmp.Ordered](a, b []T) []T {
	out := slices.Concat(a, b)
	slices.Sort(out)
	return slices.Compact(out)
}

// bunches gathers units that are the same but for facts and settings.
func (l *learner) bunches(list []unit) []*bunch {
	groups := map[string]*bunch{}
	var order []string
	for _, u := range list {
		h := &l.hosts[u.host]
		var suites []string
		for _, s := range u.suites {
			suites = append(suites, factor(l.hosts, []int{u.host}, []string{s}, "suite").text)
		}
		section := u.section
		if u.full && u.family != flatpak.Family {
			section = ""
		}
		key := strings.Join(
			[]string{
				u.family,
				fmt.Sprint(u.full),
				strings.Join(u.keys, ","),
				origin(u.url),
				shape(h, u.url),
				strings.Join(suites, ","),
				strings.Join(u.components, ","),
				strings.Join(u.kinds, ","),
				section,
				fmt.Sprint(u.priority),
			},
			"\x00",
		)
		for g := groups[key]; g != nil; g = groups[key] { // a host that has it twice needs two of them
			if g.units[len(g.units)-1].host != u.host { // units come host by host
				break
			}
			key += "\x00again"
		}
		if groups[key] == nil {
			u.suites = suites
			groups[key] = &bunch{unit: u}
			order = append(order, key)
		}
		groups[key].units = append(groups[key].units, u)
	}
	out := make([]*bunch, 0, len(order))
	for _, k := range order {
		out = append(out, groups[k])
	}
	return out
}

// vendors makes repositories of bunches. Those of one vendor that are one for each
// family of package managers are one repository.
func (l *learner) vendors(list []*bunch, taken map[string]bool) {
	byOrigin := map[string][]*bunch{}
	var order []string
	for _, b := range list {
		k := origin(b.url) + "\x00" + strings.Join(b.keys, ",")
		switch {
		case b.family == flatpak.Family:
			k = "flatpak\x00" + b.section
		case !b.full:
			k = "place\x00" + word(b.hint)
		}
		if byOrigin[k] == nil {
			order = append(order, k)
		}
		byOrigin[k] = append(byOrigin[k], b)
	}
	for _, k := range order {
		same := byOrigin[k]
		families := map[string]int{}
		for _, b := range same {
			families[b.family]++
		}
		single := true
		for _, n := range families {
			single = single && n == 1
		}
		if single {
			l.add(same, taken)
			continue
		}
		for _, b := range same {
			l.add([]*bunch{b}, taken)
		}
	}
}

// free finds a name under which no file of the policy would stand where one stands
// already: what is equal is left where it is, and only under another name.
func (l *learner) free(hint string, list []*bunch) string {
	if !list[0].full || list[0].family == flatpak.Family {
		return hint
	}
	vendor := strings.Split(origin(list[0].url), ".")
	for _, name := range []string{hint, word(vendor[max(len(vendor)-2, 0)]), hint + "-packages"} {
		stands := false
		for _, b := range list {
			path := map[string]string{
				deb.Family:  deb.PartsDir + "/" + name + ".sources",
				rpm.Family:  rpm.ReposDir + "/" + name + ".repo",
				zypp.Family: zypp.ReposDir + "/" + name + ".repo",
			}[b.family]
			for _, u := range b.units {
				stands = stands || slices.ContainsFunc(l.hosts[u.host].Sources, func(s source.Source) bool { return s.File == path })
			}
		}
		if !stands {
			return name
		}
	}
	return hint
}

// share lets a family use the setting that another has found, where the value stands in
// its URL too: one line is to say the series for all.
func (r *repository) share(l *learner) {
	for name, values := range l.settings(r) {
		usual := commonest(values)
		for _, p := range r.parts {
			if p.settings[name] != nil {
				continue
			}
			list := tokens(p.url)
			for i, t := range list {
				if t == usual && i > hostTokens(list) {
					list[i] = "${" + name + "}"
				}
			}
			p.url = strings.Join(list, "")
		}
	}
}

func (l *learner) add(list []*bunch, taken map[string]bool) {
	count := map[string]int{}
	hint := ""
	for _, b := range list {
		for _, u := range b.units {
			w := word(u.hint)
			if count[w]++; hint == "" || count[w] > count[hint] {
				hint = w
			}
		}
	}
	r := &repository{name: unique(l.free(hint, list), taken), inPlace: !list[0].full, keys: list[0].keys, parts: map[string]*part{}}
	if l.plain[r.name] {
		r.inPlace = true
		for _, b := range list {
			if b.mixed {
				b.components = nil
			}
		}
	}
	var templates []string
	for _, b := range list {
		p := &part{suites: b.suites, components: b.components, kinds: b.kinds, priority: b.priority}
		var urls, sections []string
		for _, u := range b.units {
			p.hosts, urls, sections = append(p.hosts, u.host), append(urls, u.url), append(sections, u.section)
		}
		t := factor(l.hosts, p.hosts, urls, "series")
		p.url, p.settings = t.text, t.settings
		if b.family != deb.Family {
			slices.Sort(sections)
			p.sections = slices.Compact(sections)
		}
		r.parts[b.family] = p
		r.hosts = union(r.hosts, p.hosts)
	}
	r.share(l)
	for _, family := range slices.Sorted(maps.Keys(r.parts)) {
		templates = append(templates, r.parts[family].url)
	}
	if f := r.parts[flatpak.Family]; f != nil && (r.inPlace || len(f.sections) != 1 || f.sections[0] != r.name) {
		for _, h := range r.hosts {
			l.notes = append(
				l.notes,
				Note{
					l.hosts[h].Host,
					fmt.Sprintf(
						"the remote %s of flatpak cannot be said in the policy: its keys are not known, it is not checked, or its name is no name for "+
							"a policy",
						strings.Join(f.sections, ", "),
					),
				},
			)
		}
		return
	}
	if p := r.parts[deb.Family]; p != nil && holdsAccess(p.url) && l.unsaid[r.name] == "" {
		l.unsaid[r.name] = "a login stands in its URL, and a policy holds none"
	}
	if l.leavesOut(r) {
		return
	}
	if !r.inPlace {
		r.base = commonBase(templates)
	} else {
		r.keys = nil
	}
	l.repositories = append(l.repositories, r)
}
