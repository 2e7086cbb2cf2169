package choice

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
)

// The options of a remote that decide which application is meant by a name.
const (
	filterOption   = "xa.filter"
	branchOption   = "xa.default-branch"
	unlistedOption = "xa.noenumerate"
)

// usualRemote is the priority of a remote that says none.
const usualRemote = 1

// flatpakArch is flatpak's word for what the kernel calls a machine.
func flatpakArch(machine string) string {
	switch machine {
	case "i386", "i486", "i586", "i686":
		return "i386"
	case "armv7l":
		return "arm"
	}
	return machine
}

// byRemote tells what flatpak installs by a bare name, as it was seen to: of what the listed remotes let through
// for this machine it takes what one of them alone offers, in the branch that is the remote's own where there are
// several, and asks else. Priorities say in which order it asks.
func (h *Host) byRemote(c *Choice) {
	var left []*Offered
	remotes := map[int]bool{}
	doubt := ""
	for i := range c.Offers {
		o := &c.Offers[i]
		s := h.sourceOf(o)
		p := usualRemote
		if s.Priority != nil {
			p = *s.Priority
		}
		o.Priority = &p
		out, unsure := h.through(s, &o.Package)
		if doubt == "" {
			doubt = unsure
		}
		if o.Out = out; out == "" {
			left = append(left, o)
			remotes[o.Use] = true
		}
	}
	if len(left) == 0 {
		h.settle(c, "", nil, "")
		return
	}
	slices.SortStableFunc(left, func(a, b *Offered) int { return *b.Priority - *a.Priority })
	best, why := left[0], "the only remote that offers it"
	if len(left) > 1 {
		own := slices.IndexFunc(left, func(o *Offered) bool { return o.Version == h.sourceOf(o).Options[branchOption] })
		switch {
		case len(remotes) > 1:
			best, why = nil, fmt.Sprintf("flatpak asks: %d remotes offer it", len(remotes))
		case own < 0:
			best, why = nil, fmt.Sprintf("flatpak asks: %d branches of it are offered", len(left))
		default:
			best, why = left[own], "the branch that its remote has as its own"
		}
	}
	if doubt != "" {
		why += "; " + doubt
	}
	if best == nil {
		c.Why = why
		return
	}
	h.settle(c, "", best, why)
	if by := h.masked(&best.Package); by != "" {
		c.Why += "; it is not updated: masked by " + by
	}
}

// through says why a remote does not offer a package by its bare name, and what of that is not known; both
// empty where it does.
func (h *Host) through(s *source.Source, p *index.Package) (out, unsure string) {
	if arch := flatpakArch(h.Survey.Traits.Arch); arch != "" && p.Arch != arch {
		return "for another architecture", ""
	}
	if yes, err := strconv.ParseBool(s.Options[unlistedOption]); err == nil && yes {
		return "its remote is not listed (" + unlistedOption + ")", ""
	}
	name := s.Options[filterOption]
	if name == "" {
		return "", ""
	}
	i := slices.IndexFunc(h.Survey.Deciding, func(d source.Deciding) bool { return d.File == name })
	if i < 0 {
		return "", "what the filter " + name + " says is not known"
	}
	f, ok := parseFilter(h.Survey.Deciding[i].Lines)
	if !ok {
		return "", "what the filter " + name + " lets through is not known"
	}
	if f.denies(p) {
		return "denied by " + name, ""
	}
	return "", ""
}

// masked names the file that keeps flatpak from updating a package; empty where none does.
func (h *Host) masked(p *index.Package) string {
	for i := range h.Survey.Holds {
		k := &h.Survey.Holds[i]
		if k.Family != flatpak.Family || k.Kind != source.HoldExclude {
			continue
		}
		if g, ok := parseGlob(k.What); ok && g.fits(p) {
			return k.File
		}
	}
	return ""
}

// filter is what a remote's filter lets through: what is denied and not allowed is not.
type filter struct{ deny, allow []refGlob }

func (f *filter) denies(p *index.Package) bool {
	fits := func(g refGlob) bool { return g.fits(p) }
	return slices.ContainsFunc(f.deny, fits) && !slices.ContainsFunc(f.allow, fits)
}

// parseFilter reads the lines of a filter; ok is false where they are none that flatpak takes.
func parseFilter(lines []string) (f filter, ok bool) {
	for _, l := range lines {
		l, _, _ = strings.Cut(l, "#")
		words := strings.Fields(l)
		if len(words) == 0 {
			continue
		}
		if len(words) != 2 {
			return f, false
		}
		g, ok := parseGlob(words[1])
		switch {
		case !ok:
			return f, false
		case words[0] == "deny":
			f.deny = append(f.deny, g)
		case words[0] == "allow":
			f.allow = append(f.allow, g)
		default:
			return f, false
		}
	}
	return f, true
}

// refGlob is a pattern of refs: KIND/NAME/ARCHITECTURE/BRANCH, of which all but the name may be missing.
type refGlob struct{ kind, name, arch, branch string }

func parseGlob(text string) (g refGlob, ok bool) {
	g = refGlob{arch: "*", branch: "*"}
	if kind, rest, cut := strings.Cut(text, "/"); cut && (kind == "app" || kind == index.Runtime) {
		g.kind, text = kind, rest
	}
	parts := strings.Split(text, "/")
	if text == "" || len(parts) > 3 || !onlyGlob(text) {
		return g, false
	}
	for i, into := range []*string{&g.name, &g.arch, &g.branch} {
		if i >= len(parts) {
			break
		}
		if *into = parts[i]; parts[i] == "" && i < len(parts)-1 {
			*into = "*"
		}
	}
	return g, true
}

const globLetters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.*/"

func onlyGlob(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool { return !strings.ContainsRune(globLetters, r) })
}

func (g *refGlob) fits(p *index.Package) bool {
	kind := "app"
	if p.Source == index.Runtime {
		kind = index.Runtime
	}
	return (g.kind == "" || g.kind == kind) &&
		pattern.Fnmatch(g.name, p.Name) && pattern.Fnmatch(g.arch, p.Arch) && pattern.Fnmatch(g.branch, p.Version)
}

// filtersOf are what the filters of a survey's remotes say.
func filtersOf(s *source.Survey) (out []source.Deciding) {
	for i := range s.Deciding {
		d := &s.Deciding[i]
		if slices.ContainsFunc(s.Sources, func(x source.Source) bool { return x.Family == flatpak.Family && x.Options[filterOption] == d.File }) {
			out = append(out, source.Deciding{Family: d.Family, File: d.File, Lines: d.Lines})
		}
	}
	return out
}
