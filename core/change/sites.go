package change

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// placeCopies makes of the copies of earlier what they would be at the site of today, so that
// what is put back from them comes from there.
func (c *computer) placeCopies() {
	c.Kept = c.placedTexts(c.Kept, c.Before)
	if c.Base == nil || c.Base.Survey == nil {
		return
	}
	stood := c.Stood
	c.Stood = c.placedTexts(stood, c.Base.Sheet)
	was := c.court.Placed(c.Base.Survey, c.Base.Sheet)
	if was == c.Base.Survey {
		return
	}
	was.Files = slices.Clone(was.Files)
	for i := range was.Files {
		f := &was.Files[i]
		if text, there := c.Stood[f.Path]; there && string(text) != string(stood[f.Path]) {
			f.Digest = source.Digest(family.MaskText(text)) // as a survey has it
		}
	}
	c.Base = &drift.Base{Sheet: c.Base.Sheet, Survey: was}
}

// placedTexts are the texts of files of the distribution's own, written under another sheet, with
// the URLs of today.
func (c *computer) placedTexts(texts map[string][]byte, under *source.Sheet) map[string][]byte {
	if len(texts) == 0 || !c.court.Moved(under) {
		return texts
	}
	out, to := maps.Clone(texts), c.court.PlacesUnder(under)
	ed, sections := editors[c.Sheet.Family]
	theirs, included := c.Sheet.Paths(), c.includedByRuled()
	for path, text := range texts {
		switch {
		case theirs[path]:
		case included[path]:
			out[path] = arch.PutAllServers(text, to)
		case sections && ed.place != nil && ed.has(path):
			out[path] = c.placedSections(text, to, under, ed)
		case c.Sheet.Family == deb.Family && (strings.HasSuffix(path, ".list") || strings.HasSuffix(path, ".sources")):
			doc := deb.ParseDoc(path, text, c.Survey.Traits.Architectures)
			for i, moves := range c.court.Moves(doc.Sources) {
				if moves {
					doc.PutURIs(i, to)
				}
			}
			out[path] = doc.Bytes()
		}
	}
	return out
}

// placedSections makes sections of a copy that are on come from where they would today, and
// through what they would go through.
func (c *computer) placedSections(text []byte, to verdict.Places, under *source.Sheet, ed editor) []byte {
	for _, s := range ed.list(text) {
		if !s.Enabled {
			continue
		}
		if c.ruledSection(s.ID) {
			if next, err := ed.place(text, s.ID, to); err == nil {
				text = next
			}
			if key, url := c.court.ListedUnder(under, &s); url != "" && ed.relist != nil {
				if next, err := ed.relist(text, s.ID, key, url); err == nil {
					text = next
				}
			}
		}
		if ed.proxy == nil {
			continue
		}
		if proxy, ours := c.court.Through(&s, under); ours && proxy != s.Options["proxy"] {
			if next, err := ed.proxy(text, s.ID, proxy); err == nil {
				text = next
			}
		}
	}
	return text
}

// ruledSection reports whether the policy says that a section is on, or took it to a site's mirror.
func (c *computer) ruledSection(name string) bool {
	return c.Sheet.Rules(name) || c.Before != nil && slices.ContainsFunc(c.Before.InPlace, func(r source.InPlace) bool {
		return len(r.Mirrors) > 0 && r.Rules(name)
	})
}

// includedByRuled are the files that pacman's sections include, of which each is one that the
// policy says is on.
func (c *computer) includedByRuled() map[string]bool {
	out := map[string]bool{}
	for _, ruled := range []bool{true, false} {
		for i := range c.Survey.Sources {
			s := &c.Survey.Sources[i]
			if s.Family != arch.Family || !s.Enabled || c.ruledSection(s.ID) != ruled {
				continue
			}
			for _, file := range c.includedBy(s) {
				if ruled {
					out[file] = true
				} else {
					delete(out, file)
				}
			}
		}
	}
	return out
}

// includedBy are the files that a section of pacman's includes, and that the policy has not written.
func (c *computer) includedBy(s *source.Source) (out []string) {
	for _, pattern := range strings.Fields(s.Options["Include"]) {
		for _, file := range sorted(c.Texts) {
			if fits, err := path.Match(pattern, file); err == nil && fits && !c.owned[file] && !slices.Contains(out, file) {
				out = append(out, file)
			}
		}
	}
	return out
}

// placeIncluded gives the servers that a section of pacman's includes other places.
func (c *computer) placeIncluded(texts map[string][]byte, why map[string][]string, s *source.Source, reason string) {
	all := c.includedByRuled()
	for _, file := range c.includedBy(s) {
		next := arch.PutAllServers(texts[file], c.court.Places)
		switch {
		case string(next) == string(texts[file]):
		case !all[file]:
			c.out.Impossible = append(c.out.Impossible, fmt.Sprintf("%s: its servers are those of a section too of which the policy says nothing, "+
				"so [%s] does not come from the site's mirror", file, s.ID))
		default:
			texts[file] = next
			if !slices.Contains(why[file], reason) {
				why[file] = append(why[file], reason)
			}
		}
	}
}
