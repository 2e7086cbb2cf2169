// Package learn derives a policy from what a fleet has: a folder that says of the hosts
// just what stands on them.
package learn

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
)

// Result is a policy folder, and what people should know of it.
type Result struct {
	Files        policy.Folder `json:"-"`
	Hosts        int           `json:"hosts"`            // that were followed
	Repositories int           `json:"repository_count"` // that came of it
	InPlace      int           `json:"in_place"`         // of those, edited where they stand
	Keys         int           `json:"key_count"`
	Notes        []Note        `json:"notes"`
	Without      []string      `json:"-"` // hosts that have nothing where Adopt looked
}

// Note is something that people should look at.
type Note struct {
	Host    string `json:"host"`
	Message string `json:"message"`
}

// Learn derives a policy. Compared with the same surveys it finds no drift on any of
// the hosts; what is peculiar to one of them is noted.
func Learn(hosts []saved.Snapshot, now time.Time) (*Result, error) {
	l := &learner{hosts: hosts, keys: map[string]*key{}, plain: map[string]bool{}, unchecked: map[string]bool{}}
	l.collectKeys()
	for range 4 {
		l.notes = nil
		folder := l.folder()
		p, diags := policy.Load(folder, now)
		if diag.HasErrors(diags) {
			if l.spoiled(diags) {
				continue
			}
			return nil, fmt.Errorf("the policy that was learnt has an error, which is a fault of this program: %s", diag.Errors(diags)[0])
		}
		again := false
		for host, found := range l.check(p) {
			for _, f := range found {
				if f.Class == drift.ChecksWeakened && f.Repository != "" && !l.unchecked[f.Repository] {
					l.unchecked[f.Repository], again = true, true
					continue
				}
				if f.Repository != "" && f.Repository != baseName && !l.plain[f.Repository] {
					l.plain[f.Repository], again = true, true // say it in place instead
				} else {
					l.notes = append(l.notes, Note{host, fmt.Sprintf("%s:%d %s", f.File, f.Line, f.Message)})
				}
			}
		}
		if again {
			continue
		}
		out := &Result{
			Files:        folder,
			Hosts:        len(hosts),
			Repositories: len(p.Repositories),
			Keys:         len(p.Keys),
			Notes:        append(l.notes, l.outliers()...),
		}
		for _, r := range p.Repositories {
			if r.InPlace {
				out.InPlace++
			}
		}
		slices.SortStableFunc(out.Notes, func(a, b Note) int { return strings.Compare(a.Host, b.Host) })
		return out, nil
	}
	return nil, fmt.Errorf("no policy was found that gives no drift for these %d hosts; leave out those that are peculiar", len(hosts))
}

// check compares a policy with the surveys that it was learnt from.
func (l *learner) check(p *policy.Policy) map[string][]drift.Finding {
	out := map[string][]drift.Finding{}
	r := resolve.New(p)
	for i := range l.hosts {
		h := &l.hosts[i]
		res := r.Resolve(hostOf(h))
		for _, d := range res.Trouble {
			out[h.Host] = append(out[h.Host], drift.Finding{Class: drift.Refused, File: d.File, Line: d.Line, Message: d.Message})
		}
		if len(res.Trouble) == 0 {
			if found := drift.Compare(res.Sheet, &h.Survey); len(found) > 0 {
				out[h.Host] = found
			}
		}
	}
	return out
}

// hostOf is a host as resolving sees it.
func hostOf(h *saved.Snapshot) resolve.Host {
	t := h.Traits
	t.Free = nil
	return resolve.Host{Name: h.Host, Class: fmt.Sprint(t, h.Labels), Labels: h.Labels, Traits: &h.Traits}
}

// spoiled says in place what a diagnostic is about, where that may help.
func (l *learner) spoiled(diags []diag.Diagnostic) bool {
	helped := false
	for _, d := range diag.Errors(diags) {
		for _, r := range l.repositories {
			if strings.Contains(d.Message, fmt.Sprintf("%q", r.name)) && !l.plain[r.name] {
				l.plain[r.name], helped = true, true
			}
		}
		for _, k := range l.keys {
			if strings.Contains(d.Message, fmt.Sprintf("%q", k.name)) && !k.useless {
				k.useless, helped = true, true // one that has ended, or is revoked
			}
		}
	}
	return helped
}

type learner struct {
	hosts        []saved.Snapshot
	keys         map[string]*key // by fingerprint
	unchecked    map[string]bool // repositories in place of which some host does not check what comes
	plain        map[string]bool // repositories that are said in place whatever they are
	repositories []*repository
	notes        []Note
}

// key is a signing key of which the certificate is known.
type key struct {
	name, armoured string
	useless        bool
}

// collectKeys gathers the certificates that stand in the surveys' files.
func (l *learner) collectKeys() {
	taken, read := map[string]bool{}, map[string]bool{}
	take := func(data []byte, hint string) {
		if read[string(data)] { // most hosts have the same ones
			return
		}
		read[string(data)] = true
		list, err := keyring.Certificates(data)
		if err != nil {
			return
		}
		for _, e := range list {
			fpr := keyring.Fingerprint(e)
			if l.keys[fpr] != nil {
				continue
			}
			armoured, err := keyring.Armor([]*keyEntity{e})
			if err != nil {
				continue
			}
			name := unique(word(hint), taken)
			l.keys[fpr] = &key{name: name, armoured: armoured}
		}
	}
	for i := range l.hosts {
		h := &l.hosts[i]
		for _, m := range []map[string]string{h.Texts, h.Certificates} {
			for _, p := range slices.Sorted(maps.Keys(m)) {
				text := m[p]
				for rest := text; ; {
					at := strings.Index(rest, "-----BEGIN PGP PUBLIC KEY BLOCK-----")
					if at < 0 {
						break
					}
					end := strings.Index(rest[at:], "-----END PGP PUBLIC KEY BLOCK-----")
					if end < 0 {
						break
					}
					block := rest[at : at+end+len("-----END PGP PUBLIC KEY BLOCK-----")]
					var lines []string
					for line := range strings.SplitSeq(block, "\n") { // inside a deb822 file each line is indented
						if line = strings.TrimSpace(line); line == "." {
							line = ""
						}
						lines = append(lines, line)
					}
					take([]byte(strings.Join(lines, "\n")+"\n"), base(p))
					rest = rest[at+end:]
				}
			}
		}
	}
}

// outliers names what only one host has, of several that are alike.
func (l *learner) outliers() (out []Note) {
	alike := map[string]int{}
	for i := range l.hosts {
		alike[kindOf(&l.hosts[i])]++
	}
	for _, r := range l.repositories {
		if len(r.hosts) == 1 && alike[kindOf(&l.hosts[r.hosts[0]])] > 2 {
			h := &l.hosts[r.hosts[0]]
			out = append(out, Note{h.Host, fmt.Sprintf("only this one of %d hosts of its kind has %s", alike[kindOf(h)], r.name)})
		}
	}
	return out
}

// kindOf is what makes hosts alike.
func kindOf(h *saved.Snapshot) string { return h.Traits.OS.ID + " " + major(h.Traits.OS.Version) }

func major(version string) string {
	m, _, _ := strings.Cut(version, ".")
	return m
}

// fingerprints are those of the keys that a source names; ok is false where it names
// something of which the certificate is not known.
func (l *learner) fingerprints(h *saved.Snapshot, s *source.Source) (out []string, ok bool) {
	for _, by := range s.SignedBy {
		if rest, embedded := strings.CutPrefix(by, "embedded:"); embedded {
			out = append(out, strings.Split(rest, ",")...)
			continue
		}
		name, _ := source.LocalFile(s.Family, by)
		found := false
		for _, k := range h.Keys {
			if k.Where == name && k.Good() {
				out, found = append(out, k.Fingerprint), true
			}
		}
		if !found {
			return nil, false
		}
	}
	for _, f := range out {
		if k := l.keys[f]; k == nil || k.useless {
			return nil, false
		}
	}
	slices.Sort(out)
	return slices.Compact(out), len(out) > 0
}
