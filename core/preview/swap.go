package preview

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/family/deb"
)

// What becomes of an installed package.
const (
	Replaced = "replaced" // another version, or one from elsewhere, would be taken
	Lower    = "lower"    // the version that would be taken is below the installed one
	Stranded = "stranded" // nothing offers it any more
)

// Swap is an installed package of which a change decides otherwise.
type Swap struct {
	Package   string   `json:"package"`
	What      string   `json:"what" enum:"replaced,lower,stranded"`
	Family    string   `json:"family"`
	Installed string   `json:"installed"`
	From      string   `json:"from,omitempty" doc:"What offers the installed version today"`
	Becomes   string   `json:"becomes,omitempty" doc:"The version that would be taken with the next upgrade"`
	By        string   `json:"by,omitempty" doc:"From where"`
	Hosts     int      `json:"hosts"`
	Names     []string `json:"names" doc:"The first of the hosts"`
	Says      string   `json:"says" doc:"All of it as a sentence"`
}

// Swaps gathers what a change would swap, and of what that is not known.
type Swaps struct {
	all     map[string]*Swap
	unknown map[string]int // why → hosts
}

// Unforeseen are hosts of which it is not known what a change would swap.
type Unforeseen struct {
	Hosts int    `json:"hosts"`
	Why   string `json:"why"`
}

// Unknown counts hosts of which it is not known.
func (s *Swaps) Unknown(why string, hosts int) {
	if s.unknown == nil {
		s.unknown = map[string]int{}
	}
	s.unknown[why] += hosts
}

// Side is what hosts choose before or after a change.
type Side struct {
	*choice.Choice
	Stands func(*choice.Offered) string // where what is offered is, for machines
	Name   func(*choice.Offered) string // and for people
}

// Add holds what hosts would take before and after a change against each other.
func (s *Swaps) Add(pkg string, hosts []string, before, after *Side, lower bool) {
	x := Swap{Package: pkg, Family: after.Family, Installed: after.Installed}
	offered := func(c *Side) *choice.Offered {
		for i := range c.Offers {
			if c.Offers[i].Version == c.Installed {
				return &c.Offers[i]
			}
		}
		return nil
	}
	if o := offered(before); o != nil {
		x.From = before.Name(o)
	}
	had, gets := upgrade(before.Choice), upgrade(after.Choice)
	switch {
	case len(before.Offers) > 0 && len(after.Offers) == 0:
		x.What = Stranded
		if x.From == "" {
			x.From = before.Name(&before.Offers[0])
		}
	case gets != nil && (had == nil || had.Version != gets.Version || before.Stands(had) != after.Stands(gets)):
		x.What, x.Becomes, x.By = Replaced, gets.Version, after.Name(gets)
		if lower {
			x.What = Lower
		}
	default:
		return
	}
	key := strings.Join([]string{x.What, x.Family, pkg, x.Installed, x.From, x.Becomes, x.By}, "\x00")
	have := s.all[key]
	if have == nil {
		if s.all == nil {
			s.all = map[string]*Swap{}
		}
		x.Names = []string{}
		have = &x
		s.all[key] = have
	}
	have.Hosts += len(hosts)
	have.Names = append(have.Names, hosts[:min(len(hosts), mostNames-len(have.Names))]...)
}

// upgrade is what an upgrade would put in the place of what is installed; nil for nothing.
func upgrade(c *choice.Choice) *choice.Offered {
	if c.Taken == nil || c.Stays || c.Taken.Version == c.Installed && c.Family != deb.Family { // apt puts one build in the place of another
		return nil
	}
	return c.Taken
}

// List is all that would be swapped, what goes down first, then what gets no more updates.
func (s *Swaps) List() ([]Swap, []Unforeseen) {
	out := make([]Swap, 0, len(s.all))
	for _, x := range s.all {
		x.Says = x.says()
		slices.Sort(x.Names)
		out = append(out, *x)
	}
	rank := map[string]int{Lower: 0, Stranded: 1, Replaced: 2}
	slices.SortFunc(out, func(a, b Swap) int {
		return cmp.Or(
			rank[a.What]-rank[b.What],
			b.Hosts-a.Hosts,
			strings.Compare(a.Package, b.Package),
			strings.Compare(a.Becomes, b.Becomes),
			strings.Compare(a.Installed, b.Installed),
			strings.Compare(a.Family, b.Family),
		)
	})
	unknown := make([]Unforeseen, 0, len(s.unknown))
	for why, n := range s.unknown {
		unknown = append(unknown, Unforeseen{Hosts: n, Why: why})
	}
	slices.SortFunc(unknown, func(a, b Unforeseen) int { return cmp.Or(b.Hosts-a.Hosts, strings.Compare(a.Why, b.Why)) })
	return out, unknown
}

func (x *Swap) says() string {
	from := ""
	if x.From != "" {
		from = " from " + x.From
	}
	on := " on " + count(x.Hosts, "host")
	switch x.What {
	case Stranded:
		return fmt.Sprintf("%s %s%s would get no more updates%s", x.Package, x.Installed, from, on)
	case Lower:
		return fmt.Sprintf("%s %s%s goes down to %s from %s%s", x.Package, x.Installed, from, x.Becomes, x.By, on)
	}
	if x.Becomes == x.Installed {
		return fmt.Sprintf("%s %s%s may become another build of this version, from %s%s", x.Package, x.Installed, from, x.By, on)
	}
	return fmt.Sprintf("%s %s%s becomes %s from %s%s", x.Package, x.Installed, from, x.Becomes, x.By, on)
}
