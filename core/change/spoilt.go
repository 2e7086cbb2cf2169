package change

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
)

// spoil notes the files that the package manager gives up at, or passes over, and that it took
// when the policy came. What stands in them cannot be mended entry by entry.
func (c *computer) spoil(found []drift.Finding) {
	c.spoilt = map[string]string{}
	note := func(path, why string) {
		was, stood := c.Stood[path]
		now, there := c.Texts[path]
		if stood && there && string(was) != string(now) && !strings.HasPrefix(path, "/usr/") && !c.court.Owned()[path] &&
			!c.wouldWeaken(path) {
			c.spoilt[path] = why
		}
	}
	for _, f := range found {
		if f.Class == drift.Refused && f.File != "" {
			note(f.File, f.Message)
			for path := range c.Stood {
				if drift.NamesFile(f.Message, path) {
					c.wanting(path, f.Message)
				}
			}
		}
	}
	for i := range c.Survey.Sources {
		if s := &c.Survey.Sources[i]; s.DisabledBy == source.OffAsInvalid {
			c.passedOver(s.File, note)
		}
	}
	for path, list := range c.strayed {
		for _, f := range list {
			if f.Class == drift.MissingSource {
				c.passedOver(path, note)
			}
		}
	}
	for _, g := range c.gaps {
		for path := range c.Stood {
			if g.Section != "" && c.stood(path, g.Section) {
				c.passedOver(path, note)
			}
		}
	}
	if c.Sheet.Family == arch.Family { // pacman says what it misses first alone
		for path := range c.Stood {
			if strings.HasPrefix(path, arch.Dir+"/") && strings.Contains(string(c.Texts[arch.Config]), path) {
				c.wanting(path, "what pacman.conf includes is not there: "+path)
			}
		}
	}
	c.found = found
	for _, p := range c.Base.Survey.Problems { // it was so then, too
		if p.Fatal || c.spoilt[p.File] == p.Message {
			delete(c.spoilt, p.File)
		}
	}
}

// wanting notes a file that stood when the policy came, is there no more, and for want of which a package manager does not work.
func (c *computer) wanting(path, why string) {
	if _, there := c.Texts[path]; !there && !c.court.Owned()[path] && !c.wouldWeaken(path) {
		c.spoilt[path] = why
	}
}

// byHand says of what differs and no edit mends, where nothing else is left to be done: what no byte of its
// file makes another, but a variable, and what stands in those is kept nowhere, since it may be a secret; and
// what is a package's.
func (c *computer) byHand() {
	if c.Base == nil || c.out.Any() {
		return
	}
	c.packaged()
	told := map[string]bool{}
	for _, p := range c.Base.Survey.Problems { // it was so then, too
		told[p.File] = told[p.File] || p.Fatal
	}
	for _, f := range c.found {
		now, there := c.Texts[f.File]
		if f.Beside && c.onlyCalled(f.File) && !told[f.File] {
			told[f.File] = true
			c.out.Impossible = append(c.out.Impossible,
				f.File+" is called a list of mirrors and has other lines, so it may be any file: look there by hand")
			continue
		}
		_, stood := c.Stood[f.File]
		if f.Class == drift.Refused && !there && !stood && f.File != "" && !told[f.File] {
			told[f.File] = true
			c.out.Impossible = append(c.out.Impossible, fmt.Sprintf("%s: %s; nothing of it is kept: look there by hand", f.File, f.Message))
			continue
		}
		unchanged := there && string(c.Stood[f.File]) == string(now)
		ofSource := f.Class == drift.Refused || f.Class == drift.ChangedSource && strings.Contains(f.Field, "URL")
		if unchanged && ofSource && !told[f.File] {
			told[f.File] = true
			c.out.Impossible = append(c.out.Impossible, fmt.Sprintf(
				"%s:%d says what it said when the policy came; what makes it come to something else stands elsewhere, as in a variable of the "+
					"package manager: look there by hand", f.File, f.Line))
		}
	}
}

// packaged says of files of packages that something beside the sources differs in them, and how they come back.
func (c *computer) packaged() {
	told := map[string]bool{}
	for _, f := range c.found {
		if !f.Beside || f.Severity == drift.Note || !strings.HasPrefix(f.File, "/usr/") || !slices.Contains(files, f.Class) || told[f.File] {
			continue
		}
		told[f.File] = true
		how := "whatever put it there puts it right"
		if f.Package != "" {
			how = "the package brings it back: " + family.Bring(c.Sheet.Family, f.Package)
		}
		c.out.Impossible = append(c.out.Impossible, f.File+" is not the policy's, which writes nothing below /usr; "+how)
	}
}

// passedOver notes a file of which the package manager takes nothing, and says so.
func (c *computer) passedOver(path string, note func(path, why string)) {
	for i := range c.Survey.Sources {
		if s := &c.Survey.Sources[i]; s.File == path && s.Enabled {
			return
		}
	}
	for _, p := range c.Survey.Problems {
		if p.File == path {
			note(path, p.Message)
		}
	}
}

// stood reports whether a section stood in a file when the policy came.
func (c *computer) stood(path, id string) bool {
	for i := range c.Base.Survey.Sources {
		if s := &c.Base.Survey.Sources[i]; s.File == path && s.ID == id {
			return true
		}
	}
	return false
}

// unspoil puts back whole what nothing else has mended. What was not there is set aside where
// somebody asks for it.
func (c *computer) unspoil() {
	edited := map[string]bool{}
	for _, e := range c.out.Edits {
		edited[e.Path] = true
	}
	for path, why := range c.spoilt {
		if edited[path] || c.owned[path] {
			continue
		}
		e := FileEdit{Path: path, Action: Edit, Mode: c.stoodMode(path), Old: c.Texts[path], New: c.Stood[path], Why: []string{why}}
		if _, there := c.Texts[path]; !there {
			e.Action = Create
		}
		c.out.Edits = append(c.out.Edits, e)
	}
}
