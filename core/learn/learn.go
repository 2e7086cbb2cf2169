// Package learn derives a policy from what a fleet has: a folder that says of the hosts
// just what stands on them.
package learn

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/condition"
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
	l := newLearner(hosts)
	l.collectKeys()
	for { // each time something is said in another way, which happens once to each of it
		folder := l.folder()
		p, diags := policy.Load(folder, now)
		if diag.HasErrors(diags) {
			if l.spoiled(folder, diags) {
				continue
			}
			return nil, fmt.Errorf(
				"the policy that was learnt has an error, which is a fault of this program: %s",
				diag.Errors(diags)[0],
			)
		}
		found, trouble := l.check(p)
		if len(trouble) > 0 {
			if l.spoiled(folder, trouble) {
				continue
			}
			return nil, fmt.Errorf("the policy that was learnt cannot be carried, which is a fault of this program: %s", trouble[0])
		}
		if l.otherwise(found) {
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
}

// otherwise is what is to be said in another way because of what would be found; what cannot be is noted.
func (l *learner) otherwise(all map[string][]drift.Finding) (again bool) {
	for host, found := range all {
		for _, f := range found {
			switch {
			case f.Class == drift.ChecksWeakened && f.Repository != "" && !l.unchecked[f.Repository]:
				l.unchecked[f.Repository], again = true, true
			case f.Repository != "" && f.Repository != baseName && !l.plain[f.Repository]:
				l.plain[f.Repository], again = true, true // say it in place instead
			case f.Class == drift.MissingSource && f.Repository != "" && f.Repository != baseName && l.unsaid[f.Repository] == "":
				l.unsaid[f.Repository], again = "its entries cannot be told from others by what a policy may say of them", true
			default:
				l.notes = append(l.notes, Note{host, fmt.Sprintf("%s:%d %s", f.File, f.Line, f.Message)})
			}
		}
	}
	return again
}

// check compares a policy with the surveys that it was learnt from; trouble is what keeps it from being said to a host.
func (l *learner) check(p *policy.Policy) (out map[string][]drift.Finding, trouble []diag.Diagnostic) {
	out = map[string][]drift.Finding{}
	r := resolve.New(p)
	for i := range l.hosts {
		h := &l.hosts[i]
		res := r.Resolve(hostOf(h))
		trouble = append(trouble, res.Trouble...)
		if len(res.Trouble) == 0 {
			if found := drift.Compare(res.Sheet, &h.Survey); len(found) > 0 {
				out[h.Host] = found
			}
		}
	}
	return out, trouble
}

// hostOf is a host as resolving sees it.
func hostOf(h *saved.Snapshot) resolve.Host {
	t := h.Traits
	t.Free = nil
	return resolve.Host{Name: h.Host, Class: fmt.Sprint(t, h.Labels), Labels: h.Labels, Traits: &h.Traits}
}

// spoiled says in place what a diagnostic is about, and not at all what cannot be said so either.
func (l *learner) spoiled(folder policy.Folder, diags []diag.Diagnostic) (helped bool) {
	for _, d := range diag.Errors(diags) {
		for _, k := range l.keys {
			if strings.Contains(d.Message, fmt.Sprintf("%q", k.name)) && !k.useless {
				k.useless, helped = true, true // one that has ended, or is revoked
			}
		}
		name := l.blamed(folder, d)
		switch {
		case name == "" || l.unsaid[name] != "":
		case name != baseName && !l.plain[name]:
			l.plain[name], helped = true, true
		default:
			l.unsaid[name], helped = d.Message, true
		}
	}
	return helped
}

// blamed is the repository that a diagnostic is about: the one that stands where it points to, or that it names.
func (l *learner) blamed(folder policy.Folder, d diag.Diagnostic) string {
	lines := strings.Split(string(folder[d.File]), "\n")
	for n := min(d.Line, len(lines)) - 1; n >= 0; n-- {
		for _, r := range l.repositories {
			if lines[n] == "  "+r.name+":" {
				return r.name
			}
		}
		if !strings.HasPrefix(lines[n], "  ") {
			break
		}
	}
	for _, r := range l.repositories {
		if strings.Contains(d.Message, `"`+r.name+`"`) || strings.Contains(d.Message, `"`+r.name+`.`) {
			return r.name
		}
	}
	return ""
}

func newLearner(hosts []saved.Snapshot) *learner {
	return &learner{
		hosts:     hosts,
		keys:      map[string]*key{},
		plain:     map[string]bool{},
		unchecked: map[string]bool{},
		unsaid:    map[string]string{},
	}
}

type learner struct {
	hosts        []saved.Snapshot
	keys         map[string]*key   // by fingerprint
	unchecked    map[string]bool   // repositories in place of which some host does not check what comes
	plain        map[string]bool   // repositories that are said in place whatever they are
	unsaid       map[string]string // repositories that cannot be said, and why
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
func kindOf(h *saved.Snapshot) string { return h.Traits.OS.ID + " " + major(h) }

// major is what a condition sees as os.major.
func major(h *saved.Snapshot) string {
	m, _ := (&condition.Facts{Traits: &h.Traits}).Get("os.major")
	return cmp.Or(m, "0")
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
