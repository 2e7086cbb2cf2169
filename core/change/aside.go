package change

import (
	"fmt"
	"path"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
)

// Aside ends the names of files that were set aside: no package manager reads a file of
// such a name, and apt says nothing about it. apt.conf(5), Dir::Ignore-Files-Silently.
const Aside = ".disabled"

// setAside renames files that stop the package manager and that are mended by nothing
// else.
func (c *computer) setAside() {
	edited := map[string]bool{}
	for _, e := range c.out.Edits {
		edited[e.Path] = true
	}
	for _, p := range c.Survey.Problems {
		text, there := c.Texts[p.File]
		if !p.Fatal || p.Family != c.Sheet.Family || !there || c.owned[p.File] || edited[p.File] {
			continue
		}
		edited[p.File] = true
		if p.File == arch.Config {
			c.out.Impossible = append(
				c.out.Impossible,
				p.File+" cannot be set aside: pacman does not work without it; mend it by hand: "+p.Message,
			)
			continue
		}
		to := c.aside(p.File)
		why := []string{"set aside as asked: it stops the package manager: " + p.Message}
		c.out.Edits = append(c.out.Edits,
			FileEdit{Path: p.File, Action: Remove, Mode: c.modes[p.File], Old: text, Why: why},
			FileEdit{Path: to, Action: Create, Mode: c.modes[p.File], New: text, Why: why})
	}
}

// aside is a name under which a file can be kept that nothing reads.
func (c *computer) aside(file string) string {
	dir, base := path.Split(file)
	if dir == "/etc/zypp/services.d/" || path.Base(dir) == "vendors.d" || dir == "/etc/rpm/" && strings.HasPrefix(base, "macros.") {
		// Whatever stands there is read, whatever its name ends in.
		file = path.Join(path.Dir(path.Dir(file)), path.Base(file))
	}
	to := file + Aside
	for n := 1; ; n++ {
		if _, taken := c.Texts[to]; !taken {
			return to
		}
		to = fmt.Sprintf("%s.%d%s", file, n, Aside)
	}
}
