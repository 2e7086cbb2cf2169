package change

import (
	"fmt"
	"maps"
	"slices"

	"patientlantern.example/lantern/core/version"
)

// needs holds what must be there before anything is changed against what the survey
// can tell. Installed packages are the agent's to look for.
func (c *computer) needs() {
	if len(c.out.Edits) == 0 {
		return
	}
	t := &c.Survey.Traits
	for _, n := range c.Sheet.Needs {
		for _, tool := range slices.Sorted(maps.Keys(n.Tools)) {
			least, have := n.Tools[tool], t.Tools[tool]
			switch {
			case have == "" && len(t.Tools) == 0: // not told
			case have == "":
				c.out.Impossible = append(
					c.out.Impossible,
					fmt.Sprintf("%s needs %s %s or newer, and this host has none", n.Repository, tool, least),
				)
			case version.Compare(t.Family, have, least) < 0:
				c.out.Impossible = append(
					c.out.Impossible,
					fmt.Sprintf("%s needs %s %s or newer, and this host has %s", n.Repository, tool, least, have),
				)
			}
		}
		for _, folder := range slices.Sorted(maps.Keys(n.Free)) {
			if have, known := t.Free[folder]; known && have < n.Free[folder] {
				c.out.Impossible = append(
					c.out.Impossible,
					fmt.Sprintf("%s needs %d MiB free in %s, and there are %d", n.Repository, n.Free[folder]>>20, folder, have>>20),
				)
			}
		}
	}
}
