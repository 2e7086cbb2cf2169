package learn

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/ProtonMail/go-crypto/openpgp"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
)

type keyEntity = openpgp.Entity

// baseName is the repository of the distributions' own entries.
const baseName = "base"

// unit is one thing that a host gets packages from.
type unit struct {
	host       int
	family     string
	own        bool // the distribution's own
	full       bool // everything of it can be said in the policy
	url        string
	suites     []string
	components []string
	kinds      []string
	section    string
	priority   int      // 0 where it is the usual one
	keys       []string // fingerprints
	hint       string   // what people called it
	mixed      bool     // its entries have different components
}

// units takes a host's enabled sources apart: what comes from one URL is one.
func (l *learner) units(n int) (out []unit) {
	h := &l.hosts[n]
	debs := map[string]*place{}
	var order []string
	for i := range h.Sources {
		s := &h.Sources[i]
		if !s.Enabled || s.Family != h.Traits.Family && s.Family != flatpak.Family {
			continue
		}
		if s.Family != deb.Family {
			out = append(out, l.section(n, h, s))
			continue
		}
		own := slices.Contains(deb.OwnFiles(h.Traits.OS.ID), s.File)
		for _, u := range s.EffURLs {
			k := strings.TrimRight(u, "/")
			if own {
				k = "own " + strings.Join(sorted(s.Components), " ")
			}
			p := debs[k]
			if p == nil {
				p = &place{
					unit:   unit{host: n, family: s.Family, own: own, url: strings.TrimRight(u, "/"), hint: base(s.File), full: !own},
					pieces: map[[3]string]bool{},
				}
				debs[k], order = p, append(order, k)
			}
			l.entry(p, h, s)
		}
	}
	for _, k := range order {
		u := debs[k].settle()
		if !u.full { // in place, a suite must have an entry for binary packages
			u.suites = slices.DeleteFunc(u.suites, func(s string) bool {
				for p := range debs[k].pieces {
					if p[0] == s && p[2] == "binary" {
						return false
					}
				}
				return true
			})
		}
		if len(u.suites) > 0 {
			out = append(out, u)
		}
	}
	return out
}

// place is what a host gets from one URL by way of apt, from one entry or several.
type place struct {
	unit
	pieces map[[3]string]bool // suite, component, kind
	seen   bool
}

func (l *learner) entry(p *place, h *saved.Snapshot, s *source.Source) {
	fprs, known := l.fingerprints(h, s)
	plain := len(s.Options) == 0
	for k := range s.Options {
		plain = plain || len(s.Options) == 1 && strings.EqualFold(k, "signed-by")
	}
	p.full = p.full && known && plain && len(s.Archs) == 0 && s.Checks.Metadata == source.CheckRequired &&
		!strings.HasPrefix(p.url, "cdrom:") && !holdsAccess(p.url) &&
		(!p.seen || slices.Equal(p.keys, fprs))
	p.seen, p.keys = true, fprs
	components := s.Components
	if len(components) == 0 {
		components = []string{""}
	}
	for _, suite := range s.EffSuites {
		if !slices.Contains(p.suites, suite) {
			p.suites = append(p.suites, suite)
		}
		for _, c := range components {
			for _, kind := range s.Kinds {
				p.pieces[[3]string{suite, c, kind}] = true
			}
		}
	}
	p.mixed = p.mixed || len(p.pieces) > 0 && p.components != nil && !slices.Equal(p.components, sorted(s.Components))
	p.components, p.kinds = union(p.components, s.Components), union(p.kinds, s.Kinds)
}

// settle says whether one definition comes to just what the entries come to.
func (p *place) settle() unit {
	whole := len(p.pieces) == len(p.suites)*max(len(p.components), 1)*len(p.kinds)
	if !whole && !p.own {
		p.full = false
	}
	if p.mixed && !p.full {
		p.components = nil
	}
	return p.unit
}

// section is a source of a package manager whose files have sections.
func (l *learner) section(n int, h *saved.Snapshot, s *source.Source) unit {
	fprs, known := l.fingerprints(h, s)
	u := unit{
		host:    n,
		family:  s.Family,
		section: s.ID,
		keys:    fprs,
		hint:    s.ID,
		url:     strings.TrimRight(strings.Join(s.EffURLs, " "), "/"),
	}
	id := h.Traits.OS.ID
	u.own = s.Family != flatpak.Family && id != "" &&
		(strings.HasPrefix(s.ID, id) || strings.HasPrefix(base(s.File), id) ||
			s.Family == arch.Family && strings.HasSuffix(s.File, "/pacman.conf") && s.ID == "core")
	strict := s.Checks.Packages == source.CheckRequired && s.Checks.Metadata == source.CheckRequired
	if s.Family == flatpak.Family {
		u.url = strings.Join(s.EffURLs, " ") // nothing is taken off it
	}
	if s.Priority != nil && *s.Priority != map[bool]int{true: 1, false: 99}[s.Family == flatpak.Family] {
		u.priority = *s.Priority
	}
	u.full = known && strict && !holdsAccess(u.url) && len(s.EffURLs) == 1 && s.Mirrorlist == "" && s.Metalink == "" && !u.own &&
		s.Family != arch.Family
	return u
}

// holdsAccess reports whether a login or a token stands in a URL, which was hidden when it was read.
func holdsAccess(url string) bool { return strings.Contains(url, family.Hidden) }

func sorted(list []string) []string {
	out := slices.Clone(list)
	slices.Sort(out)
	return out
}

// base is the name of a file without its endings.
func base(p string) string {
	name := path.Base(p)
	for {
		ext := path.Ext(name)
		if ext == "" || ext == name ||
			!slices.Contains([]string{".list", ".sources", ".repo", ".asc", ".gpg", ".pgp", ".conf", ".key", ".trustedkeys"}, ext) {
			return name
		}
		name = strings.TrimSuffix(name, ext)
	}
}

var notInWord = regexp.MustCompile(`[^a-z0-9]+`)

// word makes a name that a policy takes of what people called something.
func word(hint string) string {
	w := strings.Trim(notInWord.ReplaceAllString(strings.ToLower(hint), "-"), "-")
	if w == "" {
		w = "source"
	}
	return w[:min(len(w), 50)]
}

// unique returns a name that is not taken, and takes it.
func unique(name string, taken map[string]bool) string {
	out := name
	for n := 2; taken[out]; n++ {
		out = name + "-" + strconv.Itoa(n)
	}
	taken[out] = true
	return out
}
