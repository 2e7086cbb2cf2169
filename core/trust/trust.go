// Package trust tells of a whole fleet which signing keys are believed: by how many hosts, in
// how wide a scope, until when, and where the replacement of one by another stands.
package trust

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/source"
)

// Use is how one host believes one key.
type Use struct {
	Key   *source.Key // one of the places in which it stands: that of the widest scope
	Used  bool        // the package manager really uses it
	Where []string    // all of the places
}

// Of lists the keys of a survey, each once, by fingerprint.
func Of(s *source.Survey) []Use {
	byFpr := map[string]*Use{}
	for i := range s.Keys {
		k := &s.Keys[i]
		u := byFpr[k.Fingerprint]
		if u == nil {
			u = &Use{Key: k}
			byFpr[k.Fingerprint] = u
		}
		if k.Used && (!u.Used || k.Scope == source.ScopeAny) {
			u.Key = k
		}
		u.Used = u.Used || k.Used
		u.Where = append(u.Where, k.Where)
	}
	out := make([]Use, 0, len(byFpr))
	for _, f := range slices.Sorted(maps.Keys(byFpr)) {
		out = append(out, *byFpr[f])
	}
	return out
}

// Sources lists the sources of a survey that name a key, or all of a family that believe it
// because it is trusted for everything.
func (u *Use) Sources(s *source.Survey) (out []string) {
	for i := range s.Sources {
		x := &s.Sources[i]
		if !x.Enabled {
			continue
		}
		names := u.named(x)
		if names {
			out = append(out, fmt.Sprintf("%s:%d", x.File, x.Line))
		}
	}
	return out
}

// named reports whether a source names the key.
func (u *Use) named(x *source.Source) bool {
	return slices.ContainsFunc(x.SignedBy, func(by string) bool {
		if rest, embedded := strings.CutPrefix(by, "embedded:"); embedded {
			return slices.Contains(strings.Split(rest, ","), u.Key.Fingerprint)
		}
		file, local := source.LocalFile(x.Family, by)
		return local && slices.Contains(u.Where, file) || strings.EqualFold(strings.TrimSuffix(by, "!"), u.Key.Fingerprint)
	})
}

// Believed are the fingerprints of the keys that a source is believed by: those that it names
// and, where it names none, those that are trusted for everything.
func Believed(uses []Use, x *source.Source) (out []string) {
	for i := range uses {
		u := &uses[i]
		if len(x.SignedBy) > 0 && u.named(x) || len(x.SignedBy) == 0 && u.Used && u.Key.Scope == source.ScopeAny {
			out = append(out, u.Key.Fingerprint)
		}
	}
	return out
}

// FleetKey is what a fleet makes of a signing key.
type FleetKey struct {
	Fingerprint string     `json:"fingerprint" doc:"Of the primary key, in full"`
	UserIDs     []string   `json:"user_ids"`
	Algorithm   string     `json:"algorithm"`
	Created     time.Time  `json:"created"`
	Expires     *time.Time `json:"expires" doc:"null: never"`
	Revoked     bool       `json:"revoked,omitempty"`
	Hosts       int        `json:"hosts" doc:"Hosts on which a package manager believes it"`
	BelievedFor string     `json:"believed_for" doc:"For which sources, in words; empty: no host believes it"`
	Wide        int        `json:"wide" doc:"Those of them that believe it for every source"`
	Idle        int        `json:"idle" doc:"Hosts on which it stands and nothing uses it"`
	Policy      string     `json:"policy,omitempty" doc:"Its name in the newest revision; absent: the policy does not know it"`
	For         []string   `json:"for_repositories" doc:"Repositories of the policy that are believed by it"`
	Withdrawn   string     `json:"withdrawn_because,omitempty" doc:"Why the policy takes it away"`
	Weakness    string     `json:"weakness,omitempty" doc:"Why it is weaker than it should be today"`
	SucceededBy string     `json:"succeeded_by,omitempty" doc:"The name of the key that takes over from it"`
	Replacement string     `json:"replacement,omitempty" doc:"Where that stands"`
	MayGo       bool       `json:"may_go,omitempty" doc:"It may be taken out of the policy: the one that succeeds it is where it is, and the vendor signs with that one, as far as is known"`
	Signs       int        `json:"signs_places" doc:"Places of packages that it signs today, as the service saw them last"`
	State       string     `json:"state" enum:"revoked,withdrawn,ended,ends,weak,unknown,good" doc:"unknown: to the policy"`
}

// States of a key, from worst to best.
const (
	Revoked = "revoked"
	// Withdrawn: the policy takes it away, and hosts believe it still.
	Withdrawn = "withdrawn"
	Ended     = "ended"
	Ends      = "ends" // within the notice of the policy
	Weak      = "weak"
	Unknown   = "unknown" // the policy does not know it
	Good      = "good"
)

// States are all of them.
var States = []string{Revoked, Withdrawn, Ended, Ends, Weak, Unknown, Good}

// Fleet gathers how hosts believe keys.
type Fleet struct {
	keys map[string]*FleetKey
	with map[string]map[string]int // key → key that the same host believes → hosts

	signs  map[string]int // key → places that it signs
	unseen map[string]int // key → places that hosts believe by it, and of which it was not seen who signs them
}

// Signs notes how many places each key signs today, and of how many that hosts believe by it that was not seen.
func (f *Fleet) Signs(places, unseen map[string]int) { f.signs, f.unseen = places, unseen }

// Add counts some hosts that believe keys in the same way. next are the fingerprints of keys
// that take over from others, as Successors tells.
func (f *Fleet) Add(uses []Use, hosts int, next map[string]string) {
	if f.keys == nil {
		f.keys, f.with = map[string]*FleetKey{}, map[string]map[string]int{}
	}
	for i := range uses {
		u := &uses[i]
		x := f.keys[u.Key.Fingerprint]
		if x == nil {
			x = &FleetKey{Fingerprint: u.Key.Fingerprint, For: []string{}}
			f.keys[u.Key.Fingerprint] = x
			x.describe(u.Key)
		}
		if newer(u.Key, x) { // a certificate that was brought up to date tells a later end
			x.describe(u.Key)
		}
		switch {
		case !u.Used:
			x.Idle += hosts
			continue
		case u.Key.Scope == source.ScopeAny:
			x.Wide += hosts
		}
		x.Hosts += hosts
		successor := next[u.Key.Fingerprint]
		if successor != "" && slices.ContainsFunc(uses, func(o Use) bool { return o.Used && o.Key.Fingerprint == successor }) {
			if f.with[u.Key.Fingerprint] == nil {
				f.with[u.Key.Fingerprint] = map[string]int{}
			}
			f.with[u.Key.Fingerprint][successor] += hosts
		}
	}
}

func newer(k *source.Key, than *FleetKey) bool {
	return than.Expires != nil && (k.Expires == nil || k.Expires.After(*than.Expires)) || k.Revoked && !than.Revoked
}

func (x *FleetKey) describe(k *source.Key) {
	x.UserIDs, x.Algorithm, x.Created, x.Expires = slices.Clone(k.UserIDs), k.Algorithm, k.Created, k.Expires
	x.Revoked = x.Revoked || k.Revoked
	if x.UserIDs == nil {
		x.UserIDs = []string{}
	}
}

// Named is what a policy says of a key.
type Named struct {
	Name         string
	Succeeds     string   // the name of the key that it takes over from
	Weakness     string   // why it is weaker than it should be today
	Withdrawn    string   // why it is believed no more
	Repositories []string // that are believed by it
	Describe     source.Key
}

// Successors tells by fingerprint which key of a policy takes over from which.
func Successors(list []Named) map[string]string {
	out, fprs := map[string]string{}, map[string]string{}
	for i := range list {
		fprs[list[i].Name] = list[i].Describe.Fingerprint
	}
	for i := range list {
		if old := fprs[list[i].Succeeds]; list[i].Succeeds != "" && old != "" {
			out[old] = list[i].Describe.Fingerprint
		}
	}
	return out
}

// List is every key that a host has or that the policy names. notice is how long before its end
// a key is spoken of.
func (f *Fleet) List(named []Named, notice time.Duration, now time.Time) []FleetKey {
	if f.keys == nil {
		f.keys = map[string]*FleetKey{}
	}
	f.named(named)
	out := make([]FleetKey, 0, len(f.keys))
	for _, x := range f.keys {
		x.Signs = f.signs[x.Fingerprint]
		x.State, x.BelievedFor = x.state(now, notice), x.believedFor()
		out = append(out, *x)
	}
	slices.SortFunc(out, func(a, b FleetKey) int {
		return cmp.Or(Rank(a.State)-Rank(b.State), b.Hosts-a.Hosts, strings.Compare(a.Fingerprint, b.Fingerprint))
	})
	return out
}

// Rank orders states, the worst first.
func Rank(state string) int { return slices.Index(States, state) }

// named adds what the policy says of keys.
func (f *Fleet) named(list []Named) {
	names := map[string]string{}
	for i := range list {
		n := &list[i]
		fpr := n.Describe.Fingerprint
		names[fpr] = n.Name
		x := f.keys[fpr]
		if x == nil {
			x = &FleetKey{Fingerprint: fpr}
			x.describe(&n.Describe)
			f.keys[fpr] = x
		}
		x.Policy, x.Weakness, x.Withdrawn, x.For = n.Name, n.Weakness, n.Withdrawn, append([]string{}, n.Repositories...)
	}
	for old, next := range Successors(list) {
		x := f.keys[old]
		x.SucceededBy = names[next]
		x.Replacement, x.MayGo = f.replacement(x, f.keys[next], f.with[old][next])
	}
}

// believedFor says for which sources hosts believe a key.
func (x *FleetKey) believedFor() string {
	switch {
	case x.Hosts == 0:
		return ""
	case x.Wide == x.Hosts:
		return "every source"
	case x.Wide > 0:
		return fmt.Sprintf("every source on %d", x.Wide)
	}
	return "named sources"
}

func (x *FleetKey) state(now time.Time, notice time.Duration) string {
	switch {
	case x.Revoked:
		return Revoked
	case x.Withdrawn != "" && x.Hosts > 0:
		return Withdrawn
	case x.Expires != nil && !x.Expires.After(now):
		return Ended
	case x.Expires != nil && x.Expires.Before(now.Add(notice)):
		return Ends
	case x.Weakness != "" || weak(x.Algorithm):
		return Weak
	case x.Policy == "" && x.Withdrawn == "":
		return Unknown
	}
	return Good
}

// weak reports whether an algorithm is weaker than it should be today, by its name.
func weak(algorithm string) bool {
	for _, bad := range []string{"dsa", "rsa512", "rsa768", "rsa1024", "elg"} {
		if algorithm == bad || strings.HasPrefix(algorithm, bad) && (bad == "dsa" || bad == "elg") {
			return true
		}
	}
	return false
}

// Name is what people call a key: its name in the policy, or who it says that it is of.
func (x *FleetKey) Name() string {
	switch {
	case x.Policy != "":
		return x.Policy
	case len(x.UserIDs) > 0:
		return x.UserIDs[0]
	}
	return x.Fingerprint
}
