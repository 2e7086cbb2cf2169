package change

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

type gap struct{ repository, suite, comesBy string }

// missing lists the suites that no entry covers.
func (c *computer) missing(texts map[string][]byte) []gap {
	if len(c.Sheet.InPlace) == 0 {
		return nil // no rule asks for anything
	}
	var all []source.Source
	for _, p := range sorted(texts) {
		if !c.owned[p] && !c.lists[p] && (p == deb.MainList || deb.IsRead(p[strings.LastIndexByte(p, '/')+1:])) {
			all = append(all, deb.ParseDoc(p, texts[p], c.Survey.Traits.Architectures).Sources...)
		}
	}
	var out []gap
	for _, g := range c.court.Gaps(all) {
		if g.Suite != "" {
			out = append(out, gap{g.Rule.Repository, g.Suite, g.Rule.ComesBy})
		}
	}
	return out
}

// opened lists the suites that would be covered no more if a file read so.
func (c *computer) opened(path string, text []byte, already []gap) []gap {
	texts := make(map[string][]byte, len(c.Texts)+1)
	for p, t := range c.Texts {
		texts[p] = t
	}
	texts[path] = text
	return slices.DeleteFunc(c.missing(texts), func(g gap) bool { return slices.Contains(already, g) })
}

func sorted(m map[string][]byte) []string {
	out := make([]string, 0, len(m))
	for p := range m {
		out = append(out, p)
	}
	slices.Sort(out)
	return out
}

// one edits one file in place.
func (c *computer) one(path string, missing []gap) {
	old, there := c.Texts[path]
	if back, why, ok := c.vanished(path); ok {
		text, more, _ := c.edit(path, back)
		c.out.Edits = append(c.out.Edits, FileEdit{Path: path, Action: Create, Mode: c.stoodMode(path), New: text, Why: append(why, more...)})
		return
	}
	text, why, touched := c.edit(path, old)
	why = append(why, c.touch(path, touched)...)
	for _, kept := range c.copies(path, old) {
		back, ok := c.putBack(path, old, kept, touched, missing)
		if ok {
			// Taking an entry out again may uncover one that it stood in for.
			if more := c.opened(path, back, missing); len(more) > 0 {
				back, ok = c.putBack(path, old, kept, touched, slices.Concat(missing, more))
				ok = ok && len(c.opened(path, back, missing)) == 0
			}
		}
		if ok {
			text = back
			if len(why) == 0 {
				why = []string{"an entry that stood here has gone, or apt refuses what stands there now"}
			}
			break
		}
	}
	if string(text) == string(old) {
		return
	}
	e := FileEdit{Path: path, Action: Edit, Mode: c.modes[path], Old: old, New: text, Why: why}
	switch {
	case !there:
		e.Action, e.Mode = Create, "0644"
	case c.emptied(path, old, text):
		e.Action, e.New = Remove, nil
	}
	c.out.Edits = append(c.out.Edits, e)
}

// emptied reports whether a file of sources holds nothing any more but blanks, since what
// stood in it was taken out. apt's own first list stays: its maker may look for it.
func (c *computer) emptied(path string, old, text []byte) bool {
	return c.Sheet.Unlisted == source.UnlistedRemove && path != deb.MainList && path != arch.Config &&
		len(strings.TrimSpace(string(old))) > 0 &&
		len(strings.TrimSpace(string(text))) == 0
}
