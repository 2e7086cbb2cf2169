package change

import (
	"fmt"
	"slices"
	"sort"

	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// Gone is a source that is in use, and that a change takes away: nothing of what it offers
// comes from anywhere that the host would still have.
type Gone struct {
	Key  string // under which agents are asked what came from it; see package origin
	File string
	Line int
}

// leave notes that a source that is in use would not be any more.
func (c *computer) leave(s *source.Source) {
	c.leaving = append(c.leaving, *s)
}

// gone settles which of the sources that leave take their packages' origin with them: not
// those that the policy or another entry names as well.
func (c *computer) gone() {
	for i := range c.Survey.Sources {
		if s := &c.Survey.Sources[i]; s.Enabled && c.withdrawn(s) {
			c.leave(s)
		}
	}
	if len(c.leaving) == 0 {
		return
	}
	var before map[string]*source.SheetSource
	if c.Before != nil {
		before = verdict.Releases(c.Before)
	}
	c.leaving = slices.DeleteFunc(c.leaving, func(s source.Source) bool { return c.moved(&s, before) })
	type place struct {
		file string
		line int
		id   string
	}
	leaves, stays := map[place]bool{}, map[string]bool{}
	for i := range c.leaving {
		s := &c.leaving[i]
		leaves[place{s.File, s.Line, s.ID}] = true
	}
	for i := range c.Survey.Sources {
		s := &c.Survey.Sources[i]
		if s.Enabled && !leaves[place{s.File, s.Line, s.ID}] && (s.Family != c.Sheet.Family || verdict.Doubles(s, c.court.Releases()) == nil) {
			for _, k := range origin.Keys(s) {
				stays[k] = true
			}
		}
	}
	for i := range c.Sheet.Sources {
		if s := &c.Sheet.Sources[i]; s.Enabled && !s.IfThere {
			for _, k := range origin.KeysOfSheet(c.Sheet.Family, s) {
				stays[k] = true
			}
		}
	}
	for i := range c.leaving {
		s := &c.leaving[i]
		for _, k := range origin.Keys(s) {
			if !stays[k] {
				stays[k] = true
				c.out.Gone = append(c.out.Gone, Gone{Key: k, File: s.File, Line: s.Line})
			}
		}
	}
	sort.SliceStable(c.out.Gone, func(i, j int) bool { return c.out.Gone[i].Key < c.out.Gone[j].Key })
}

// withdrawn reports whether a source stands in a file of the policy's own that goes, or that
// switches everything off which stands in it.
func (c *computer) withdrawn(s *source.Source) bool {
	listed, on := false, false
	for i := range c.Sheet.Sources {
		x := &c.Sheet.Sources[i]
		if x.File == s.File && (x.ID == "" || x.ID == s.ID) {
			listed, on = true, on || x.Enabled
		}
	}
	if listed {
		return !on
	}
	return slices.ContainsFunc(c.out.Edits, func(e FileEdit) bool { return e.Path == s.File && e.Action == Remove && !c.listed(e.Path) })
}

// moved reports whether a source stood for a repository that the policy has elsewhere now, or
// under another name. before are the releases of the sheet that was carried last.
func (c *computer) moved(s *source.Source, before map[string]*source.SheetSource) bool {
	if of := verdict.Doubles(s, c.court.Releases()); of != nil && of.Enabled && !of.IfThere {
		return true
	}
	of := verdict.Doubles(s, before)
	return of != nil && slices.ContainsFunc(c.Sheet.Sources, func(x source.SheetSource) bool {
		return x.Repository == of.Repository && x.Enabled && !x.IfThere
	})
}

// listed reports whether a file is the sheet's: one that waits for its media goes and comes.
func (c *computer) listed(path string) bool {
	return slices.ContainsFunc(c.Sheet.Files, func(f source.SheetFile) bool { return f.Path == path })
}

// String is the place of the source.
func (g Gone) String() string {
	return fmt.Sprintf("%s:%d", g.File, g.Line)
}
