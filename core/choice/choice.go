// Package choice tells which package a host's package manager would take, in which version and
// from which source, out of what its sources offer; and why. Each family weighs in a way of
// its own: apt by pins and versions, dnf and zypper by priorities and versions, pacman by the
// order of its sections. The real programs are asked in the tests.
package choice

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/core/version"
)

// Offered is a package that a source of a host offers, and how it is weighed.
type Offered struct {
	index.Package
	Use      int    `json:"-"` // index into Host.Uses
	From     string `json:"from" doc:"Address of the source"`
	Suite    string `json:"suite,omitempty"`
	Priority *int   `json:"priority,omitempty" doc:"As the package manager weighs it; absent for pacman, which goes by order"`
	Out      string `json:"out,omitempty" doc:"Why it is not taken into account"`
}

// Choice is what a package manager would take.
type Choice struct {
	Family    string    `json:"family"`
	Offers    []Offered `json:"offers" doc:"What the sources offer, the one that is taken first"`
	Taken     *Offered  `json:"takes,omitempty" doc:"absent: none, or the one that is installed"`
	Installed string    `json:"installed,omitempty"`
	Stays     bool      `json:"stays,omitempty" doc:"What is installed is not replaced"`
	Why       string    `json:"why" doc:"In words"`
	Untold    string    `json:"-"` // what may decide otherwise, and is not known; Why says it too
}

// Host is what decides on a host which package is taken.
type Host struct {
	Survey   *source.Survey
	Uses     []*upstream.Use                  // its places; others may share them
	Releases map[string]*upstream.ReleaseFile // apt: by the key of a place
}

// Of is what of a survey decides which packages are taken, and nothing beside: hosts that
// differ in other things share it.
func Of(s *source.Survey) *Host {
	h := decides(s)
	uses := upstream.Uses(s)
	for i := range uses {
		h.Uses = append(h.Uses, &uses[i])
	}
	return h
}

// decides is Of without the places.
func decides(s *source.Survey) *Host {
	out := &source.Survey{
		Traits: source.Traits{
			Family: s.Traits.Family, Arch: s.Traits.Arch, Architectures: s.Traits.Architectures, Tools: aptOf(s.Traits.Tools),
		},
		Deciding: filtersOf(s),
		Pins:     append([]source.Pin{}, s.Pins...), Holds: append([]source.Hold{}, s.Holds...),
	}
	for i := range s.Sources {
		x := &s.Sources[i]
		out.Sources = append(
			out.Sources,
			source.Source{Family: x.Family, Priority: x.Priority, Position: x.Position, Enabled: x.Enabled, Options: deciding(x)},
		)
	}
	for _, x := range s.Settings {
		if x.Family == deb.Family && x.Name == defaultRelease || namesFiles(&x) || zypp.NoLocks(x) || withoutPlugins(x) {
			out.Settings = append(out.Settings, x)
		}
	}
	return &Host{Survey: out}
}

// decidingOptions are the options of a source that have a part in what is taken from it, by its family.
var decidingOptions = map[string][]string{
	deb.Family:     {include, exclude},
	flatpak.Family: {filterOption, branchOption, unlistedOption},
}

// deciding are the options of a source that have a part in what is taken from it.
func deciding(s *source.Source) (out map[string]string) {
	for _, name := range decidingOptions[s.Family] {
		if v, said := s.Options[name]; said {
			if out == nil {
				out = map[string]string{}
			}
			out[name] = v
		}
	}
	return out
}

// With is the host with what the Release files of its places say.
func (h *Host) With(releases map[string]*upstream.ReleaseFile) *Host {
	with := *h
	with.Releases = releases
	return &with
}

// Offered gathers what the places of the host offer under one name; named tells it by the key
// of a place.
func (h *Host) Offered(named func(key string) iter.Seq[index.Package]) (out []Offered) {
	for i := range h.Uses {
		for p := range named(h.Uses[i].Key) {
			out = append(out, Offered{Package: p, Use: i})
		}
	}
	return out
}

// Choose tells what is taken of what is offered under one name. offers bear the indexes of
// their places; installed is the version that the host has, empty for none.
func (h *Host) Choose(family, name string, offers []Offered, installed string) Choice {
	c := Choice{Family: family, Installed: installed}
	for _, o := range offers {
		u := h.Uses[o.Use]
		if u.Family == family && h.fits(family, o.Arch) {
			o.From, o.Suite = u.Address(), u.Suite
			c.Offers = append(c.Offers, o)
		}
	}
	if family != flatpak.Family { // its masks keep nothing away that somebody asks for
		h.leaveOut(&c, name)
	}
	switch family {
	case deb.Family:
		h.apt(&c, name)
	case rpm.Family:
		h.byPriority(&c, name)
	case zypp.Family:
		h.byPriority(&c, name)
	case arch.Family:
		h.byOrder(&c, name)
	case flatpak.Family:
		h.byRemote(&c)
	}
	c.tellBuilds()
	h.doubt(&c)
	slices.SortStableFunc(c.Offers, func(a, b Offered) int {
		taken := func(o *Offered) int {
			if c.Taken != nil && o.Use == c.Taken.Use && o.Version == c.Taken.Version && o.Arch == c.Taken.Arch {
				return 0
			}
			return 1
		}
		return taken(&a) - taken(&b)
	})
	return c
}

// tellBuilds says that something else is offered under the version that is taken.
func (c *Choice) tellBuilds() {
	if c.Taken == nil {
		return
	}
	for i := range c.Offers {
		if o := &c.Offers[i]; o.Out == "" && o.Version == c.Taken.Version && o.Arch == c.Taken.Arch && !same(o, c.Taken, true) {
			c.Why += fmt.Sprintf("; another build of %s is offered by %s", o.Version, strings.TrimSpace(o.From+" "+o.Suite))
			return
		}
	}
}

// doubt says what may decide otherwise on what is taken, and is not known.
func (h *Host) doubt(c *Choice) {
	if c.Taken == nil || c.Stays {
		return
	}
	for i := range h.Survey.Holds {
		k := &h.Survey.Holds[i]
		if k.Family != c.Family || k.Source != "" && k.Source != h.Uses[c.Taken.Use].ID {
			continue
		}
		if k.Criteria == source.Group && c.Installed == "" { // pacman asks, and takes what is asked for
			continue
		}
		if c.Untold = h.untold(k, c); c.Untold != "" {
			c.Why += "; " + c.Untold
			return
		}
	}
}

// untold says of a hold why it is not known whether it is for a package that is taken, or, of no choice, for which packages it is;
// empty where that is known.
func (h *Host) untold(k *source.Hold, c *Choice) string {
	if k.Criteria == source.Group {
		return fmt.Sprintf("whether it stays as one of the group %s, which %s has pacman ignore, is not known", k.What, k.File)
	}
	if k.Family == zypp.Family && k.Kind == source.HoldLock && zypp.Locked(h.Survey.Settings) {
		if attribute := untoldOf(k); attribute != "" && mayLock(k, c) {
			return "whether " + k.File + " locks it is not known: no list of packages tells " + attribute
		}
	}
	return ""
}

// Untold says why it is not known of some packages whether they stay as they are; empty where it is known of all.
func (h *Host) Untold() string {
	for i := range h.Survey.Holds {
		if why := h.untold(&h.Survey.Holds[i], nil); why != "" {
			return "of some packages it is not known whether they stay: " + h.Survey.Holds[i].File + " keeps them by what no list of packages tells"
		}
	}
	return ""
}

// same reports whether two packages of one version are the same by what their lists say of them, and by their
// sums where those count. What a list does not say is no difference.
func same(a, b *Offered, bySum bool) bool {
	x, y := a.Build, b.Build
	none := [len(x.Sum)]byte{}
	return (x.Says == y.Says || x.Says == 0 || y.Says == 0) && (x.Sum == y.Sum || x.Sum == none || y.Sum == none || !bySum)
}

// sourceOf is the source that offers a package.
func (h *Host) sourceOf(o *Offered) *source.Source { return &h.Survey.Sources[h.Uses[o.Use].At] }

// fits reports whether a host takes packages of an architecture under a bare name.
func (h *Host) fits(family, a string) bool {
	native := h.Survey.Traits.Architectures
	switch family {
	case deb.Family:
		return a == "all" || len(native) > 0 && a == native[0]
	case rpm.Family, zypp.Family:
		return a == "noarch" || a == "" || len(native) == 0 || slices.Contains(compatible(native[0]), a)
	case arch.Family:
		return a == "any" || a == "" || len(native) == 0 || slices.Contains(native, a) || strings.HasPrefix(a, native[0])
	}
	return true
}

// compatible are the architectures whose packages rpm takes on a machine without saying so by
// hand, the best first.
func compatible(native string) []string {
	base, _, _ := strings.Cut(native, "_v")
	switch base {
	case "x86_64":
		return []string{native, base, "i686", "i586", "i486", "i386"}
	}
	return []string{native}
}

// leaveOut marks what excludes and locks keep away.
func (h *Host) leaveOut(c *Choice, name string) {
	included := map[string]bool{} // sources that say what alone is taken from them
	for i := range h.Survey.Holds {
		if k := &h.Survey.Holds[i]; k.Family == c.Family && k.Kind == source.HoldInclude {
			included[k.Source] = true
		}
	}
	for i := range c.Offers {
		o := &c.Offers[i]
		o.Out = h.limited(o.Use, name)
		id := h.Uses[o.Use].ID
		in := !included[id] && !included[""]
		for j := range h.Survey.Holds {
			k := &h.Survey.Holds[j]
			if k.Family != c.Family || k.Source != "" && k.Source != id || !covers(k, &o.Package) {
				continue
			}
			switch k.Kind {
			case source.HoldExclude:
				o.Out = "excluded by " + k.File
			case source.HoldInclude:
				in = true
			}
		}
		if !in && o.Out == "" {
			o.Out = "not among what is included from there"
		}
	}
	switch c.Family {
	case rpm.Family:
		h.lockVersions(c, name)
	case zypp.Family:
		h.lockAway(c)
	}
}

// covers reports whether a hold is for a package: by its name, or with its version and
// architecture as programs write them.
func covers(k *source.Hold, p *index.Package) bool {
	what := strings.TrimPrefix(k.What, "!")
	full := p.Name + "-" + p.Version
	_, noEpoch, has := strings.Cut(p.Version, ":")
	names := []string{p.Name, p.Name + "." + p.Arch, full, full + "." + p.Arch}
	if has {
		names = append(names, p.Name+"-"+noEpoch, p.Name+"-"+noEpoch+"."+p.Arch)
	} else { // programs may write the epoch that is none
		names = append(names, p.Name+"-0:"+p.Version, p.Name+"-0:"+p.Version+"."+p.Arch)
	}
	return slices.ContainsFunc(names, func(n string) bool { return pattern.Fnmatch(what, n) })
}

// kept reports whether something keeps an installed package as it is.
func (h *Host) kept(family, name, installed string) (by string) {
	for i := range h.Survey.Holds {
		k := &h.Survey.Holds[i]
		if k.Family != family || k.Kind != source.HoldHold && k.Kind != source.HoldIgnore && (k.Kind != source.HoldLock || family == rpm.Family) {
			continue
		}
		if family == zypp.Family {
			if k.Source == "" && zypp.Locked(h.Survey.Settings) && locked(k, name, installed, "", true) {
				return k.File
			}
			continue
		}
		if k.Criteria == source.Group { // doubt tells of it
			continue
		}
		bare, _, _ := strings.Cut(k.What, ":") // apt's holds may name the architecture
		if k.What == name || bare == name || pattern.Fnmatch(k.What, name) {
			return k.File
		}
	}
	return ""
}

// newest is the highest of some versions.
func newest(family string, list []*Offered) (best *Offered) {
	for _, o := range list {
		if best == nil || version.Compare(family, o.Version, best.Version) > 0 {
			best = o
		}
	}
	return best
}

// Doubt takes out of an answer what is not known where some sources were not read: nobody has
// looked whether they offer it.
func (c *Choice) Doubt() {
	if c.Taken != nil || len(c.Offers) > 0 {
		return
	}
	c.Why = "no source that was looked at offers it"
	if c.Installed != "" {
		c.Why += ", and whether the installed one gets updates is not known"
	}
}

// lockedBy says by which lock all that is offered is kept away; empty where another reason has a part in it.
func (c *Choice) lockedBy() (by string) {
	for i := range c.Offers {
		out := c.Offers[i].Out
		if !strings.HasPrefix(out, "locked") || by != "" && by != out {
			return ""
		}
		by = out
	}
	return by
}

// settle says what becomes of what is installed.
func (h *Host) settle(c *Choice, name string, best *Offered, why string) {
	if best == nil {
		c.Why = "no source that counts offers it"
		if by := c.lockedBy(); by != "" {
			c.Why = "every version that is offered is " + by
		}
		if c.Installed != "" {
			c.Stays, c.Why = true, c.Why+", and the installed one gets no more updates"
		}
		return
	}
	taken := *best
	c.Taken, c.Why = &taken, why
	if c.Installed == "" {
		return
	}
	if by := h.kept(c.Family, name, c.Installed); by != "" {
		c.Stays, c.Why = true, "it is held where it is by "+by+"; else: "+why
	}
}
