package resolve

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/policy"
)

// fill fills names in. A text that comes to nothing or holds blanks is an error.
func (w *writing) fill(list []policy.Text) []string {
	out := []string{}
	for _, t := range list {
		v, ok := w.interpolate(&t)
		if !ok {
			continue
		}
		if v == "" || policy.Unseen(v) != "" {
			w.fail(
				"value",
				t.Pos,
				fmt.Sprintf("%q comes to %q for the host %s, which cannot stand in a source",
					family.MaskURL(t.Value), family.MaskURL(v), w.host.Name),
				"use a fact that the host has, or a case",
			)
		} else {
			out = append(out, v)
		}
	}
	return out
}

const seeRelease = "see what its /etc/os-release says"

// unheard is what a condition asks of the system of a host that says nothing of its system at all: whether it holds is not known then.
// Of a host that says which system it is, what it leaves out is none.
func unheard(c *condition.Condition, f *condition.Facts) string {
	if os := f.Traits.OS; os.ID+os.Version+os.Codename != "" {
		return ""
	}
	if at := slices.IndexFunc(c.Reads, func(name string) bool { return strings.HasPrefix(name, "os.") }); at >= 0 {
		return c.Reads[at]
	}
	return ""
}

// interpolate fills the names in a text in. Where one is neither a setting nor a fact, or a fact that the host does not tell of itself,
// it fails and reports false.
func (w *writing) interpolate(t *policy.Text) (v string, ok bool) {
	silent := ""
	v, err := policy.Interpolate(t.Value, func(name string) (string, bool) {
		v, ok := w.lookup(name)
		if condition.IsFact(name) {
			w.told[t.Pos] = true
			if v == "" {
				silent = name
			}
		}
		return v, ok
	})
	switch {
	case silent != "":
		w.fail(HostFact, t.Pos, fmt.Sprintf("%q needs %s, which the host %s does not tell", t.Value, silent, w.host.Name),
			seeRelease+", use a fact that the host has, or a case")
	case err != nil:
		w.fail("unknown-fact", t.Pos, fmt.Sprintf("%v, for the host %s", err, w.host.Name), "give the setting, or use a fact that the host has")
	}
	return v, silent == "" && err == nil
}
