package resolve

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// Fleet gathers what only shows when a policy is resolved for hosts: contradictions
// with the hosts that they hit, and definitions that hit none.
type Fleet struct {
	resolver *Resolver
	hosts    map[string]bool
	results  map[*Result]*some
	systems  map[system]*some
	releases map[string]map[string]string // os id → codename → version
	ahead    map[string]*foreseen
	follow   map[string]*followers // by plan
	trials   []*trial              // of expectations
	apart    *Resolver             // for hosts that are only described
}

// some are hosts: how many, and the first few.
type some struct {
	hosts []string
	count int
}

func (s *some) add(host string) {
	if s.count++; len(s.hosts) < mostNamed {
		s.hosts = append(s.hosts, host)
	}
}

// system is one release among the hosts of a result: where nothing in the policy looks at
// the release, hosts of several share one.
type system struct {
	res                   *Result
	id, release, codename string
}

// mostNamed bounds how many hosts a diagnostic names.
const mostNamed = 3

// NewFleet begins with no hosts.
func NewFleet(r *Resolver) *Fleet {
	return &Fleet{
		resolver: r,
		hosts:    map[string]bool{},
		results:  map[*Result]*some{},
		systems:  map[system]*some{},
		releases: map[string]map[string]string{},
		follow:   map[string]*followers{},
		trials:   newTrials(r.policy),
	}
}

// Add resolves a host, or takes note of a result.
func (f *Fleet) Add(h Host, res *Result) {
	f.hosts[h.Name] = true
	f.follows(h, res)
	for _, t := range f.trials {
		t.try(f.resolver, h, res)
	}
	one := f.results[res]
	if one == nil {
		one = &some{}
		f.results[res] = one
	}
	one.add(h.Name)
	os := h.Traits.OS
	if os.Codename == "" {
		return
	}
	key := system{res, os.ID, os.Version, os.Codename}
	kind := f.systems[key]
	if kind == nil {
		kind = &some{}
		f.systems[key] = kind
		if f.releases[os.ID] == nil {
			f.releases[os.ID] = map[string]string{}
		}
		f.releases[os.ID][os.Codename] = os.Version
	}
	kind.add(h.Name)
}

// Hosts counts the hosts so far.
func (f *Fleet) Hosts() int { return len(f.hosts) }

// Diagnostics says what is wrong, by place.
func (f *Fleet) Diagnostics() []diag.Diagnostic {
	var out []diag.Diagnostic
	type group struct {
		d     diag.Diagnostic
		hosts []string
		count int
	}
	var order []string
	all := map[string]*group{}
	note := func(d diag.Diagnostic, of *some) {
		key := d.Code + d.Pos.String() + fmt.Sprint(d.Also) + d.Remedy
		g := all[key]
		if g == nil {
			g = &group{d: d}
			all[key], order = g, append(order, key)
		}
		g.count += of.count
		g.hosts = append(g.hosts, of.hosts...)
	}
	results := byFirst(f.results)
	for _, res := range results {
		for _, d := range res.Trouble {
			note(d, f.results[res])
		}
		if len(res.Trouble) == 0 {
			for _, d := range slices.Concat(f.doubled(res), f.contradicting(res), f.notHeld(res), f.notProxied(res), f.mirrorsAlone(res)) {
				note(d, f.results[res])
			}
		}
	}
	for _, kind := range byFirst(f.systems) {
		if len(kind.res.Trouble) == 0 {
			for _, d := range f.wrongRelease(kind) {
				note(d, f.systems[kind])
			}
		}
	}
	for _, key := range order {
		g := all[key]
		slices.Sort(g.hosts)
		if g.count > 1 {
			g.d.Message += fmt.Sprintf(", and so for %d hosts: %s", g.count, someOf(g.hosts, g.count))
		}
		out = append(out, g.d)
	}
	out = append(out, f.foretold()...)
	out = append(out, f.unmetExpectations()...)
	if len(f.hosts) > 0 {
		out = append(out, f.missing()...)
		out = append(out, f.neverApply(results)...)
		out = append(out, f.plans()...)
	}
	diag.Sort(out)
	return out
}

// byFirst sorts by the first host of each.
func byFirst[K comparable](m map[K]*some) []K {
	return slices.SortedFunc(maps.Keys(m), func(a, b K) int { return strings.Compare(m[a].hosts[0], m[b].hosts[0]) })
}

// warning is trouble that keeps nothing from being published.
func warning(code string, at diag.Pos, message, remedy string, also ...diag.Pos) diag.Diagnostic {
	d := trouble(code, at, message, remedy, also...)
	d.Severity = diag.Warning
	return d
}

func someOf(hosts []string, count int) string {
	shown := hosts[:min(len(hosts), mostNamed)]
	text := strings.Join(shown, ", ")
	if count > len(shown) {
		text += " …"
	}
	return text
}

// doubled finds repositories that come to one source on one host.
func (f *Fleet) doubled(res *Result) (out []diag.Diagnostic) {
	seen := map[string]*source.SheetSource{}
	for i := range res.Sheet.Sources {
		s := &res.Sheet.Sources[i]
		if !s.Enabled || s.IfThere {
			continue
		}
		var keys []string
		if s.Family == "" && res.Sheet.Family == deb.Family {
			for _, release := range releases(s) {
				for _, c := range append(slices.Clone(s.Components), "") {
					if (c == "") == (len(s.Components) == 0) {
						keys = append(keys, release+" "+c)
					}
				}
			}
		} else {
			for _, u := range s.URLs {
				keys = append(keys, s.Family+" "+strings.TrimRight(u, "/"))
			}
		}
		for _, k := range keys {
			old := seen[k]
			if seen[k] = s; old == nil || old.Repository == s.Repository {
				continue
			}
			a, b := f.resolver.policy.Repositories[old.Repository], f.resolver.policy.Repositories[s.Repository]
			out = append(
				out,
				trouble(
					"doubled",
					b.Pos,
					fmt.Sprintf("%s and %s are the same source on the host %s", old.Repository, s.Repository, res.Example),
					"assign one of them",
					a.Pos,
				),
			)
			break
		}
	}
	return out
}

// notHeld says where a package manager cannot be told to stay at a series of versions.
func (f *Fleet) notHeld(res *Result) (out []diag.Diagnostic) {
	for i := range res.plan.follows {
		follow := &res.plan.follows[i]
		if len(follow.Hold) == 0 || !res.has(follow.Repositories[0]) {
			continue
		}
		names, choice := strings.Join(follow.Hold, ", "), follow.Channel+"'s choice "+follow.Choice
		switch res.Sheet.Family {
		case arch.Family:
			out = append(out, warning("not-held", follow.At,
				fmt.Sprintf("%s holds %s at %s, and pacman can only keep what is installed (IgnorePkg): on %s it stays at whatever it has",
					choice, names, follow.Pinned, res.Example),
				"see with lantern whence that the hosts have that series"))
		}
	}
	return out
}

// wrongRelease finds suites that are named for another release of the host's own
// distribution.
func (f *Fleet) wrongRelease(kind system) (out []diag.Diagnostic) {
	names := f.releases[kind.id]
	if len(names) < 2 {
		return nil
	}
	for _, s := range kind.res.Sheet.Sources {
		for _, suite := range s.Suites {
			code, _, _ := strings.Cut(strings.ToLower(suite), "-")
			code, _, _ = strings.Cut(code, "/")
			version, other := names[code]
			if !other || code == kind.codename {
				continue
			}
			repo := f.resolver.policy.Repositories[s.Repository]
			at := repo.Pos
			if repo.Deb != nil && len(repo.Deb.Suites) > 0 {
				at = repo.Deb.Suites[0].Pos
			}
			out = append(
				out,
				warning(
					"wrong-release",
					at,
					fmt.Sprintf(
						"%s gives the suite %q, of release %s, to the host %s, which has release %s (%s)",
						s.Repository,
						suite,
						version,
						f.systems[kind].hosts[0],
						kind.release,
						kind.codename,
					),
					"use ${os.codename}, or a case",
				),
			)
			break
		}
	}
	return out
}

// missing finds names of hosts that are not there.
func (f *Fleet) missing() (out []diag.Diagnostic) {
	for _, g := range f.resolver.groups {
		var gone []string
		for _, h := range g.Hosts {
			if !f.hosts[h] {
				gone = append(gone, h)
			}
		}
		if len(gone) == 0 {
			continue
		}
		what := fmt.Sprintf("the group %q names %d hosts that are not enrolled: %s", g.Name, len(gone), someOf(gone, len(gone)))
		if len(gone) == 1 {
			what = fmt.Sprintf("the group %q names a host that is not enrolled: %s", g.Name, gone[0])
		}
		if g.Bare {
			what = fmt.Sprintf("the host %s is not enrolled", someOf(gone, len(gone)))
		}
		out = append(out, warning("no-such-host", g.Pos, what, "correct the name or range, or enrol them"))
	}
	for _, name := range sortedKeys(f.resolver.policy.Repositories) {
		if m := f.resolver.policy.Repositories[name].Media; m != nil && !f.hosts[m.Host.Value] {
			out = append(
				out,
				warning(
					"no-such-host",
					m.Host.Pos,
					fmt.Sprintf("the host %s, which holds the media of %q, is not enrolled", m.Host.Value, name),
					"correct the name, or enrol it",
				),
			)
		}
	}
	return out
}

// neverApply finds repositories that come to nothing on any host.
func (f *Fleet) neverApply(results []*Result) (out []diag.Diagnostic) {
	applied, assigned := map[string]bool{}, map[string]bool{}
	for _, res := range results {
		for i, name := range res.plan.repositories {
			assigned[name] = true
			applied[name] = applied[name] || !res.parts[i].none
		}
	}
	named := map[string]diag.Pos{} // by an assignment, or as the choice that one follows
	for _, a := range f.resolver.policy.Assignments {
		for _, t := range a.Repositories {
			named[t.Value] = t.Pos
		}
		for channel, x := range a.Channels {
			if choice := f.choice(channel, x); choice != nil {
				named[choice.Repository.Value] = x.Pos
			}
		}
	}
	for _, name := range sortedKeys(named) {
		repo := f.resolver.policy.Repositories[name]
		if repo == nil || applied[name] {
			continue
		}
		what := fmt.Sprintf(
			"the repository %q comes to nothing on any of %d hosts: none of those that get it is of a family that it speaks of",
			name,
			len(f.hosts),
		)
		if !assigned[name] {
			what = fmt.Sprintf(
				"the repository %q comes to nothing on any of %d hosts: no host is in the groups that get it",
				name,
				len(f.hosts),
			)
		}
		out = append(out, warning("never-applies", repo.Pos, what, "look at its groups and families, or take it out", named[name]))
	}
	return out
}

func (f *Fleet) choice(channel string, x policy.Follow) *policy.Choice {
	if c := f.resolver.policy.Channels[channel]; c != nil {
		return c.Choice(x.Choice.Value)
	}
	return nil
}
