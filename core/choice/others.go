package choice

import (
	"fmt"
	"slices"
	"strconv"

	"patientlantern.example/lantern/core/version"
)

// usual is the priority of dnf and zypper where a source says none.
const usual = 99

// byPriority weighs as libsolv does: the sources of the lowest number that offer a package
// count alone, and of what they offer the highest version is taken.
func (h *Host) byPriority(c *Choice, name string) {
	var best []*Offered
	for i := range c.Offers {
		o := &c.Offers[i]
		p := usual
		if n := h.sourceOf(o).Priority; n != nil {
			p = *n
		}
		o.Priority = &p
		switch {
		case o.Out != "":
			continue
		case len(best) > 0 && p > *best[0].Priority:
			continue
		case len(best) > 0 && p < *best[0].Priority:
			best = nil
		}
		best = append(best, o)
	}
	if len(best) == 0 {
		h.settle(c, name, nil, "")
		return
	}
	best = h.bestArch(best)
	top := newest(c.Family, best)
	equal := slices.DeleteFunc(best, func(o *Offered) bool { return version.Compare(c.Family, o.Version, top.Version) != 0 })
	first := slices.MinFunc(equal, func(a, b *Offered) int {
		return h.sourceOf(a).Position - h.sourceOf(b).Position
	})
	h.settle(c, name, first, "the highest version of the sources of priority "+strconv.Itoa(*first.Priority))
	if c.Installed != "" && version.Compare(c.Family, first.Version, c.Installed) <= 0 {
		c.Stays = true
		c.Why = "what is installed is as new, or newer"
		if version.Compare(c.Family, first.Version, c.Installed) < 0 {
			c.Why = fmt.Sprintf(
				"what is installed is newer than what the sources of priority %d offer, and is not put back by an upgrade",
				*first.Priority,
			)
		}
	}
}

// bestArch leaves out packages for lesser processors where there is one for the machine's own.
func (h *Host) bestArch(list []*Offered) []*Offered {
	native := h.Survey.Traits.Architectures
	if len(native) == 0 {
		return list
	}
	for _, a := range compatible(native[0]) {
		own := func(o *Offered) bool { return o.Arch == a }
		if slices.ContainsFunc(list, own) {
			return slices.DeleteFunc(slices.Clone(list), func(o *Offered) bool { return !own(o) && o.Arch != "noarch" && o.Arch != "" })
		}
	}
	return list
}

// byOrder weighs as pacman does: the first section that has a package counts.
func (h *Host) byOrder(c *Choice, name string) {
	var first *Offered
	for i := range c.Offers {
		o := &c.Offers[i]
		if first == nil || h.sourceOf(o).Position < h.sourceOf(first).Position {
			first = o
		}
	}
	if first == nil {
		h.settle(c, name, nil, "")
		return
	}
	h.settle(c, name, first, "it is in the first section that has it, "+h.Uses[first.Use].ID)
	if c.Installed != "" && version.Compare(c.Family, first.Version, c.Installed) <= 0 {
		c.Stays, c.Why = true, "what is installed is as new, or newer than in the first section that has it, "+h.Uses[first.Use].ID
	}
}
