package change

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/text/ini"
)

// includesHead tells people what the lines below it are.
const includesHead = "# Patient Lantern's repositories, each in a file of its own."

// includes makes pacman.conf include the files of the policy that will stand there,
// and no others of ours: a file that is included and not there stops pacman.
func (c *computer) includes() {
	old, there := c.Texts[arch.Config]
	if !there {
		c.out.Impossible = append(c.out.Impossible, arch.Config+" is not there, so no repository of the policy can be included")
		return
	}
	gone := map[string]bool{}
	after := map[string]bool{}
	for p := range c.Texts {
		after[p] = true
	}
	for _, e := range c.out.Edits {
		after[e.Path] = e.Action != Remove
		gone[e.Path] = e.Action == Remove
	}
	var want []string
	for _, f := range c.Sheet.Files {
		if after[f.Path] && strings.HasPrefix(f.Path, arch.Dir+"/lantern-") && strings.HasSuffix(f.Path, ".conf") {
			want = append(want, f.Path)
		}
	}
	have := map[string]bool{}
	f := ini.ParsePacman(old)
	drop := map[int]bool{} // lines, from 1
	for i := range f.Sections {
		entries := f.Entries(&f.Sections[i])
		for j := range entries {
			e := &entries[j]
			if value := f.Value(e); f.Key(e) == "Include" && !e.Bare() {
				have[value] = true
				if gone[value] {
					drop[int(e.Line)] = true
				}
			}
		}
	}
	var out strings.Builder
	n := 0
	for line := range strings.Lines(string(old)) {
		if n++; !drop[n] {
			out.WriteString(line)
		}
	}
	text := out.String()
	for _, p := range want {
		if have[p] {
			continue
		}
		if text != "" && !strings.HasSuffix(text, "\n") {
			text += "\n"
		}
		if !strings.Contains(text, includesHead) {
			text += "\n" + includesHead + "\n"
		}
		text += "Include = " + p + "\n"
	}
	if text != string(old) {
		c.out.Edits = append(c.out.Edits, FileEdit{Path: arch.Config, Action: Edit, Mode: c.modes[arch.Config], Old: old, New: []byte(text), Why: []string{"includes the repositories of the policy"}})
	}
	for i := range c.Survey.Sources {
		s := &c.Survey.Sources[i]
		if s.Family != arch.Family || !s.Enabled || c.owned[s.File] {
			continue
		}
		if slices.ContainsFunc(want, func(p string) bool { return p == arch.Path(s.ID) }) {
			c.out.Impossible = append(c.out.Impossible, fmt.Sprintf("%s:%d: [%s] stands there already, and pacman takes no two of one name; comment it out", s.File, s.Line, s.ID))
		}
	}
}
