package change

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/lines"
	"patientlantern.example/lantern/core/verdict"
)

// inPlace edits the files that do not belong to the policy.
func (c *computer) inPlace() {
	missing := c.missing(c.Texts)
	paths := map[string]bool{}
	for p := range c.Texts {
		paths[p] = true
	}
	if len(missing) > 0 {
		for p := range c.Kept {
			paths[p] = true
		}
	}
	for p := range c.strayed {
		paths[p] = true
	}
	for p := range paths {
		if c.owned[p] || c.lists[p] || !strings.HasSuffix(p, ".list") && !strings.HasSuffix(p, ".sources") || c.foreign(p) {
			continue
		}
		c.one(p, missing)
	}
	after := map[string][]byte{}
	for p, t := range c.Texts {
		after[p] = t
	}
	for p := range c.spoilt { // is put back whole
		after[p] = c.Stood[p]
	}
	for _, e := range c.out.Edits {
		after[e.Path] = e.New
		if e.Action == Remove {
			delete(after, e.Path)
		}
	}
	for _, m := range c.missing(after) {
		c.out.Impossible = append(
			c.out.Impossible,
			fmt.Sprintf("%s: no entry for %s stands on the host, and none stood there before%s",
				m.repository, m.suite, family.BroughtBy(c.Sheet.Family, m.comesBy)),
		)
	}
}

// edit applies the rules to a text. It returns the new text, the reasons, and
// the lines (from 1) of the entries that had to change.
func (c *computer) edit(path string, text []byte) (out []byte, why []string, touched map[int]bool) {
	doc := deb.ParseDoc(path, text, c.Survey.Traits.Architectures)
	touched = map[int]bool{}
	verdicts := c.over(path, text, doc.Sources)
	on := map[int]bool{}
	for i := range verdicts {
		for _, d := range verdicts[i].Demands {
			if touched[doc.Sources[i].Line] {
				continue
			}
			touched[doc.Sources[i].Line] = true
			if d.On {
				doc.SwitchOn(i)
				on[i] = true
			}
			if d.Off {
				doc.SwitchOff(i)
				c.leave(&doc.Sources[i])
			}
			if d.Components != nil {
				doc.SetComponents(i, d.Components)
			}
			if d.URLs != nil {
				doc.PutURIs(i, c.court.Places)
			}
			if w := "repository " + d.Rule.Repository + ", in place"; !slices.Contains(why, w) {
				why = append(why, w)
			}
		}
	}
	for i := range doc.Sources {
		if s := &doc.Sources[i]; (s.Enabled || on[i]) && weak(s, &verdicts[i]) {
			doc.Harden(i)
			touched[s.Line] = true
			why = append(why, fmt.Sprintf("line %d is not checked, and the policy does not say so", s.Line))
		}
	}
	for _, line := range doc.Broken { // nothing but the kept copy can say what it was
		touched[line] = true
	}
	why = append(why, c.others(doc, verdicts, touched)...)
	return doc.Bytes(), why, touched
}

// over decides about the sources of one file as they stand in a text. The rules are held
// against all files, in apt's order.
func (c *computer) over(path string, text []byte, its []source.Source) []verdict.Verdict {
	if now, there := c.Texts[path]; there && len(c.Sheet.InPlace) > 0 && string(now) == string(text) {
		if list, read := c.asTheyStand()[path]; read {
			return list
		}
	}
	var all []source.Source
	offset := 0
	for _, p := range c.order(path) {
		if p == path {
			offset = len(all)
			all = append(all, its...)
		} else if len(c.Sheet.InPlace) > 0 {
			all = append(all, c.sources(p)...)
		}
	}
	return c.court.Over(all, offset, offset+len(its))
}

// asTheyStand is what over says of each file that apt reads as it stands: they are many at times, and all are decided about
// together.
func (c *computer) asTheyStand() map[string][]verdict.Verdict {
	if c.standing != nil {
		return c.standing
	}
	var all []source.Source
	files := c.order("")
	for _, p := range files {
		all = append(all, c.sources(p)...)
	}
	verdicts := c.court.Over(all, 0, len(all))
	c.standing = make(map[string][]verdict.Verdict, len(files))
	for _, p := range files {
		n := len(c.sources(p))
		c.standing[p], verdicts = verdicts[:n], verdicts[n:]
	}
	return c.standing
}

// others treats the entries of which no rule speaks.
func (c *computer) others(doc *deb.Doc, verdicts []verdict.Verdict, touched map[int]bool) (why []string) {
	for i := range doc.Sources {
		s, v := &doc.Sources[i], &verdicts[i]
		if !s.Enabled || touched[s.Line] {
			continue
		}
		switch v.Act {
		case verdict.SwitchOff:
			doc.SwitchOff(i)
		case verdict.Remove:
			doc.Remove(i)
		default:
			continue
		}
		if v.Of == nil || v.Kind == verdict.Licensed {
			c.leave(s)
		}
		touched[s.Line] = true
		why = append(why, reason(s, v))
	}
	return why
}

// reason says why a source goes, or goes off.
func reason(s *source.Source, v *verdict.Verdict) string {
	return fmt.Sprintf("line %d %s", s.Line, v.Why())
}

// order lists the files that are edited in place, and path where one is given, as apt reads them.
func (c *computer) order(path string) []string {
	var out []string
	for p := range c.Texts {
		if !c.owned[p] && !c.lists[p] && p != path && (p == deb.MainList || deb.IsRead(lastPart(p))) {
			out = append(out, p)
		}
	}
	if path != "" {
		out = append(out, path)
	}
	slices.Sort(out)
	return out
}

// sources returns the entries of a file as it stands.
func (c *computer) sources(path string) []source.Source {
	if s, ok := c.parsed[path]; ok {
		return s
	}
	s := deb.ParseDoc(path, c.Texts[path], c.Survey.Traits.Architectures).Sources
	c.parsed[path] = s
	return s
}

// wanted are the lines of a kept text that hold an entry which is missing.
func (c *computer) wanted(path string, before *deb.Doc, missing []gap) map[int]bool {
	wanted := map[int]bool{}
	for _, rule := range c.Sheet.InPlace {
		for i := range before.Sources {
			s := &before.Sources[i]
			if !s.Enabled || !deb.Speaks(rule, s) {
				continue
			}
			for _, m := range missing {
				if m.repository == rule.Repository && slices.Contains(s.EffSuites, m.suite) {
					wanted[s.Line] = true
				}
			}
		}
	}
	for _, f := range c.strayed[path] {
		for i := range before.Sources {
			if s := &before.Sources[i]; f.Class == drift.MissingSource && s.Enabled && drift.Describe(s) == f.Want {
				wanted[s.Line] = true
			}
		}
	}
	return wanted
}

// putBack takes back those differences between the text that was kept and the
// present one that touch an entry which must change or which is missing. It
// reports false where that would not give what the sheet wants.
func (c *computer) putBack(path string, now, kept []byte, touched map[int]bool, missing []gap) ([]byte, bool) {
	if len(touched) == 0 && len(missing) == 0 && len(c.strayed[path]) == 0 {
		return nil, false // there is nothing to take back
	}
	a, b := lines.Split(string(now)), lines.Split(string(kept))
	before := deb.ParseDoc(path, kept, c.Survey.Traits.Architectures)
	wanted := c.wanted(path, before, missing)
	ends := func(doc *deb.Doc, i, total int) int { // the last line of source i, from 1
		if i+1 < len(doc.Sources) {
			return doc.Sources[i+1].Line - 1
		}
		return total
	}
	current := deb.ParseDoc(path, now, c.Survey.Traits.Architectures)
	type span struct{ first, last int } // lines of now that must change
	var spans []span
	for i, s := range current.Sources {
		if touched[s.Line] {
			spans = append(spans, span{s.Line, ends(current, i, len(a))})
		}
	}
	for _, line := range current.Broken {
		spans = append(spans, span{line, line})
	}
	var out strings.Builder
	at := 0
	used := false
	for _, h := range lines.Compare(a, b) {
		take := false
		for _, s := range spans {
			ends := h.OldFrom == h.OldTo && h.OldFrom == s.last // what stood at the end of the entry has gone
			if ends || h.OldFrom < s.last && max(h.OldTo, h.OldFrom+1) >= s.first {
				take = true
			}
		}
		for i, s := range before.Sources {
			if wanted[s.Line] && h.NewFrom < ends(before, i, len(b)) && h.NewTo >= s.Line {
				take = true
			}
		}
		out.WriteString(strings.Join(a[at:h.OldFrom], ""))
		if take {
			used = true
			out.WriteString(strings.Join(b[h.NewFrom:h.NewTo], ""))
		} else {
			out.WriteString(strings.Join(a[h.OldFrom:h.OldTo], ""))
		}
		at = h.OldTo
	}
	out.WriteString(strings.Join(a[at:], ""))
	if !used {
		return nil, false
	}
	text := []byte(out.String())
	again, _, _ := c.edit(path, text)
	if string(again) == string(text) {
		return text, true
	}
	// What was put back is itself not as the policy says. That helps only where
	// apt refuses what stands there now, which no edit can mend: then the rules
	// are applied to what was put back.
	if len(current.Broken) == 0 {
		return nil, false
	}
	settled, _, _ := c.edit(path, again)
	return again, string(settled) == string(again)
}
