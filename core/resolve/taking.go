package resolve

import (
	"fmt"
	"maps"
	"slices"

	"patientlantern.example/lantern/core/reason"
)

// Taking is from where a host that has not got a package would take it.
type Taking struct {
	From    string // a repository, or an address that the policy says nothing of; empty for nowhere
	Version string
	Unknown string // why it cannot be told; empty where it can
}

// askService says who knows what places offer.
const askService = "what places offer is known to the service alone: try it with --fleet"

// Asks names the packages of which expectations want to know from where a host takes them.
func (f *Fleet) Asks(h Host, res *Result) []string {
	var out []string
	for _, t := range f.taking(h, res) {
		out = slices.AppendSeq(out, maps.Keys(t.From))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Took says from where a host takes packages, by their names. It is said once for each host that
// was added, and of all names that are asked.
func (f *Fleet) Took(h Host, res *Result, from map[string]Taking) {
	for _, t := range f.taking(h, res) {
		wrong, unknown := t.elsewhere(from)
		switch {
		case len(wrong) > 0:
			t.untold--
			t.failed++
			t.note(h, wrong)
		case unknown != "":
			if t.why == "" {
				t.why = fmt.Sprintf("%s: %s", h.Name, unknown)
			}
		default:
			t.untold--
			t.held++
		}
	}
}

// taking are the expectations that ask from where a host takes packages, and of which nothing
// else is otherwise.
func (f *Fleet) taking(h Host, res *Result) (out []*trial) {
	for _, t := range f.trials {
		if len(t.From) == 0 {
			continue
		}
		if m := t.means(f.resolver, h); m.fails == nil && m.holds && len(t.otherwise(f.resolver, res)) == 0 {
			out = append(out, t)
		}
	}
	return out
}

// elsewhere tells packages that come from elsewhere, and why that cannot be told of others.
func (t *trial) elsewhere(from map[string]Taking) (wrong []string, unknown string) {
	for _, name := range slices.Sorted(maps.Keys(t.From)) {
		want := t.From[name].Value
		got, told := from[name]
		switch {
		case !told:
			unknown = askService
		case got.Unknown != "":
			unknown = got.Unknown
		case got.From == "":
			wrong = append(wrong, fmt.Sprintf("%s comes from nowhere, and not from %s", name, want))
		case got.From != want:
			wrong = append(wrong, fmt.Sprintf("%s %s comes from %s, and not from %s", name, got.Version, got.From, want))
		}
	}
	return wrong, unknown
}

// idleRemedy says what helps an expectation that was not tried.
func idleRemedy(x reason.Expected) string {
	if x.Untold > 0 {
		return "lantern repository probe looks at places again; those that no host uses yet are looked at once " +
			"lantern policy preview has shown the policy that is published"
	}
	return "say to or where otherwise, or describe a host with host:"
}
