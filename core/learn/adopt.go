package learn

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
)

// Why nothing can be adopted.
var (
	ErrNothing = errors.New("nothing that the policy does not list stands there")
	ErrOwn     = errors.New(
		"it is one of the distribution's own entries: add what differs to the repository that edits them in place, " +
			"or take it as it stands with lantern host accept",
	)
)

// Place is where a source stands on hosts.
type Place struct {
	File string
	Line int // 0: all of the file
}

// Adopt finds what has to be added to a policy folder so that a source which it does not list
// is as the policy says, on the given hosts. It answers new files alone, and what people
// should look at; no file that is there is touched. What comes of it is tried on the hosts'
// surveys.
func Adopt(folder policy.Folder, hosts []saved.Snapshot, at Place, now time.Time) (*Result, error) {
	p, diags := policy.Load(folder, now)
	if diag.HasErrors(diags) {
		return nil, fmt.Errorf("the folder has an error: %s", diag.Errors(diags)[0])
	}
	l := newLearner(nil)
	without, err := l.only(p, hosts, at)
	if err != nil {
		return nil, err
	}
	known := map[string]string{}
	for name, k := range p.Keys {
		known[k.Fingerprint] = name
	}
	l.collectKeys()
	taken := map[string]bool{}
	for name := range p.Keys {
		taken[name] = true
	}
	for _, fpr := range slices.Sorted(maps.Keys(l.keys)) {
		if name := known[fpr]; name != "" {
			l.keys[fpr].name = name
		} else {
			l.keys[fpr].name = unique(l.keys[fpr].name, taken)
		}
	}
	for {
		files, err := l.added(folder, p, known)
		if err != nil {
			return nil, err
		}
		whole := maps.Clone(folder)
		maps.Copy(whole, files)
		with, diags := policy.Load(whole, now)
		if diag.HasErrors(diags) {
			if l.spoiled(files, diags) {
				continue
			}
			return nil, fmt.Errorf("the policy cannot say it: %s", diag.Errors(diags)[0])
		}
		left, trouble, again := l.left(with, hosts, at)
		if again || len(trouble) > 0 && l.spoiled(files, trouble) {
			continue
		}
		if _, had := (&learner{hosts: hosts}).check(p); len(trouble) > len(had) {
			return nil, fmt.Errorf("the policy cannot say it: %s", trouble[len(trouble)-1])
		}
		if len(left) > 0 {
			return nil, fmt.Errorf("the policy cannot say it whole; it would still be found: %s", left[0])
		}
		return &Result{
			Files:        files,
			Hosts:        len(l.hosts),
			Repositories: len(l.repositories),
			Keys:         len(with.Keys) - len(p.Keys),
			Notes:        l.notes,
			Without:      without,
		}, nil
	}
}

// only keeps of each host the sources that are meant and that the policy does not list. Hosts that have none
// are named; where all have none that is the error.
func (l *learner) only(p *policy.Policy, hosts []saved.Snapshot, at Place) (without []string, err error) {
	r := resolve.New(p)
	for i := range hosts {
		h := hosts[i]
		meant := map[int]bool{} // by line
		for _, f := range drift.Compare(r.Resolve(hostOf(&hosts[i])).Sheet, &h.Survey) {
			if f.File == at.File && (at.Line == 0 || at.Line == f.Line) &&
				(f.Class == drift.UnlistedSource || f.Class == drift.ChecksWeakened) {
				meant[f.Line] = true
			}
		}
		var kept []source.Source
		for _, s := range h.Sources {
			if s.File == at.File && meant[s.Line] {
				kept = append(kept, s)
			}
		}
		if len(kept) == 0 {
			without = append(without, h.Host)
			continue
		}
		h.Sources = kept
		l.hosts = append(l.hosts, h)
	}
	switch {
	case len(l.hosts) > 0:
		return without, nil
	case len(without) == 1:
		return nil, fmt.Errorf("%s: %w", without[0], ErrNothing)
	}
	return nil, fmt.Errorf("%w, on none of the %d hosts", ErrNothing, len(without))
}

// added writes the files that say what the hosts have.
func (l *learner) added(folder policy.Folder, p *policy.Policy, known map[string]string) (policy.Folder, error) {
	var rest []unit
	for n := range l.hosts {
		for _, u := range l.units(n) {
			if u.own {
				return nil, fmt.Errorf("%s: %w", l.hosts[n].Host, ErrOwn)
			}
			rest = append(rest, u)
		}
	}
	taken := map[string]bool{baseName: true}
	for name := range p.Repositories {
		taken[name] = true
	}
	l.repositories, l.notes = nil, nil
	l.vendors(l.bunches(rest), taken)
	if len(l.repositories) == 0 {
		if len(l.notes) > 0 {
			return nil, errors.New(l.notes[0].Message)
		}
		return nil, ErrNothing
	}
	out := policy.Folder{}
	var b strings.Builder
	names := make([]string, 0, len(l.hosts))
	for i := range l.hosts {
		names = append(names, q(l.hosts[i].Host))
	}
	slices.Sort(names)
	g := &grouping{learner: l, groups: map[string]string{}}
	for name := range p.Groups {
		g.groups[name] = "" // taken
	}
	b.WriteString("# Taken over as it stood on " + names[0])
	if len(names) > 1 {
		fmt.Fprintf(&b, " and %d more", len(names)-1)
	}
	b.WriteString(". Hold the fingerprints of keys against what the vendor publishes.\nformat: patient-lantern/1\n\n")
	l.addKeys(&b, out, known)
	b.WriteString("repositories:\n")
	all := &entries{}
	for _, r := range l.repositories {
		l.repository(&b, r)
		e := all.at(list(g.names(r.hosts)), len(r.hosts))
		e.repositories = append(e.repositories, r.name)
		all.settings(l, r, func(hosts []int) string { return list(g.names(hosts)) })
	}
	b.WriteByte('\n')
	maps.DeleteFunc(g.groups, func(_, says string) bool { return says == "" })
	g.write(&b)
	all.write(&b)
	first := l.repositories[0].name
	file := first + ".yaml"
	for n := 2; folder[file] != nil; n++ {
		file = fmt.Sprintf("%s-%d.yaml", first, n)
	}
	tidy, err := policy.Tidy([]byte(b.String()))
	if err != nil {
		return nil, fmt.Errorf("what was written cannot be read, which is a fault of this program: %w", err)
	}
	out[file] = tidy
	return out, nil
}

// addKeys writes the keys of the repositories that the policy does not have yet.
func (l *learner) addKeys(b *strings.Builder, out policy.Folder, known map[string]string) {
	used := map[string]bool{}
	for _, r := range l.repositories {
		for _, f := range r.keys {
			used[f] = used[f] || known[f] == ""
		}
	}
	maps.DeleteFunc(used, func(_ string, fresh bool) bool { return !fresh })
	if len(used) == 0 {
		return
	}
	b.WriteString("keys:\n")
	for _, f := range slices.Sorted(maps.Keys(used)) {
		k := l.keys[f]
		fmt.Fprintf(b, "  %s:\n    file: keys/%s.asc\n    fingerprint: %s\n", k.name, k.name, spaced(f))
		out["keys/"+k.name+".asc"] = []byte(k.armoured)
	}
	b.WriteByte('\n')
}

// left are the findings that would still be there, and what keeps the policy from being said to a host; again says that it was said in
// another way, which is to be tried.
func (l *learner) left(p *policy.Policy, hosts []saved.Snapshot, at Place) (left []string, trouble []diag.Diagnostic, again bool) {
	ours := map[string]bool{}
	for _, r := range l.repositories {
		ours[r.name] = true
	}
	found, trouble := (&learner{hosts: hosts}).check(p)
	for host, found := range found {
		for _, f := range found {
			switch {
			case ours[f.Repository] && f.Class == drift.ChecksWeakened && !l.unchecked[f.Repository]:
				l.unchecked[f.Repository], again = true, true
			case ours[f.Repository] && !l.plain[f.Repository]:
				l.plain[f.Repository], again = true, true
			case ours[f.Repository] || f.File == at.File && (at.Line == 0 || at.Line == f.Line) && f.Class == drift.UnlistedSource:
				left = append(left, fmt.Sprintf("%s: %s:%d %s", host, f.File, f.Line, f.Message))
			}
		}
	}
	slices.Sort(left)
	return left, trouble, again
}
