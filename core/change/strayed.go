package change

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// mends are the classes of finding for which an entry is put back as it stood.
var mends = []string{
	drift.ChangedSource,
	drift.ChecksWeakened,
	drift.SwitchedOff,
	drift.MissingSource,
	drift.MissingFile,
	drift.UnlistedSource,
}

// differs finds what stands in files that are not the policy's and is not as it was when
// the policy came.
func (c *computer) differs() {
	c.strayed = map[string][]drift.Finding{}
	if c.Base == nil {
		return
	}
	owned := c.court.Owned()
	stood := map[string]bool{} // was found then, too
	for _, f := range drift.CompareAfter(c.Sheet, c.Before, c.Base.Survey) {
		stood[f.Key()] = true
	}
	found := drift.Judge(drift.Input{Sheet: c.Sheet, Before: c.Before, Survey: c.Survey, Base: c.Base, All: true})
	for _, f := range found {
		fresh := !f.Beside && (f.Class == drift.SettingWeakened || f.Class == drift.ServiceChanged) && !stood[f.Key()]
		if (f.Beside && f.Severity != drift.Note || fresh) && !owned[f.File] && !c.onlyCalled(f.File) { // what became stricter stays so
			c.strayed[f.File] = append(c.strayed[f.File], f)
		}
	}
	c.keysBeside(owned)
	c.keysGone(found, owned)
	c.spoil(found)
}

// keysGone looks for files of keys that are not there any more and that a source was believed by: where a package
// manager knows them by their names alone, as flatpak does, the source names none then.
func (c *computer) keysGone(found []drift.Finding, owned map[string]bool) {
	for _, f := range found {
		went := f.Class == drift.MissingSource || f.Class == drift.MissingFile // and comes back
		if !f.Beside || !went && (f.Class != drift.ChangedSource || !strings.Contains(f.Field, "signing keys")) {
			continue
		}
		for i := range c.Base.Survey.Sources {
			was := &c.Base.Survey.Sources[i]
			if was.File != f.File {
				continue
			}
			for _, by := range was.SignedBy {
				file, local := source.LocalFile(was.Family, by)
				if _, stood := c.Stood[file]; local && stood && c.Texts[file] == nil && len(c.strayed[file]) == 0 && !owned[file] {
					c.strayed[file] = []drift.Finding{{Class: drift.MissingKey, File: file, Message: f.Message}}
				}
			}
		}
	}
}

// keysBeside looks for what keeps a key from being believed whose own file is as it was: apt's programs read the
// files of the folder of keys for every source as one, and do not read on behind one that they do not understand. What
// the policy wrote there is none of those.
func (c *computer) keysBeside(owned map[string]bool) {
	for file, list := range maps.Clone(c.strayed) {
		i := slices.IndexFunc(list, func(f drift.Finding) bool { return f.Class == drift.MissingKey })
		was, stood := c.Stood[file]
		if i < 0 || !stood || string(was) != string(c.Texts[file]) || c.modes[file] != c.stoodMode(file) || !c.stoodForAll(file) {
			continue
		}
		for other, now := range c.Texts {
			before, there := c.Stood[other]
			if path.Dir(other) == path.Dir(file) && (!there || string(before) != string(now)) && len(c.strayed[other]) == 0 && !owned[other] {
				c.strayed[other] = []drift.Finding{list[i]}
			}
		}
	}
}

// stoodForAll reports whether a key that was believed for every source stood in a file when the policy came.
func (c *computer) stoodForAll(file string) bool {
	return slices.ContainsFunc(c.Base.Survey.Keys, func(k source.Key) bool {
		return k.Where == file && k.Used && k.Scope == source.ScopeAny
	})
}

// files are the classes of finding for which a whole file is put back as it stood.
var files = []string{
	drift.PinChanged, drift.SettingChanged, drift.SettingWeakened, drift.HoldChanged, drift.ServiceChanged, drift.KeyAdded, drift.KeyWider,
	drift.MissingKey,
}

// restore puts files back of which something beside the sources differs: settings, pins,
// holds, services, keys. What was not there is set aside, where nothing reads it. What stands
// below /usr is a package's, which may have brought it up to date.
func (c *computer) restore() {
	for path, list := range c.strayed {
		var why []string
		for _, f := range list {
			if slices.Contains(files, f.Class) || c.lists[path] {
				why = append(why, f.Message)
			}
		}
		now, there := c.Texts[path]
		was, stood := c.Stood[path]
		if len(why) == 0 || strings.HasPrefix(path, "/usr/") || c.wouldWeaken(path) ||
			slices.ContainsFunc(c.out.Edits, func(e FileEdit) bool {
				return e.Path == path && path != arch.Config && path != flatpak.Config
			}) {
			continue
		}
		switch {
		case path == arch.Config || path == flatpak.Config:
			c.options(path, was, why)
		case stood && there && string(was) != string(now):
			c.out.Edits = append(c.out.Edits, FileEdit{Path: path, Action: Edit, Mode: c.stoodMode(path), Old: now, New: was, Why: why})
		case stood && !there:
			c.out.Edits = append(c.out.Edits, FileEdit{Path: path, Action: Create, Mode: c.stoodMode(path), New: was, Why: why})
		case !stood && there:
			c.out.Edits = append(c.out.Edits,
				FileEdit{Path: path, Action: Remove, Mode: c.modes[path], Old: now, Why: why},
				FileEdit{Path: c.aside(path), Action: Create, Mode: c.modes[path], New: now, Why: why})
		}
	}
}

// onlyCalled reports whether a file is a list of mirrors only because a source calls it so: any file on the host may
// be one, and is not put back or away for that. Of one that came it counts what stands there.
func (c *computer) onlyCalled(path string) bool {
	text, stood := c.Stood[path]
	if !stood {
		text = c.Texts[path]
	}
	return c.lists[path] && source.Strangers(text) > 0
}

// wouldWeaken reports whether putting a file back would bring back a setting that takes a
// check away, and that somebody has taken out since.
func (c *computer) wouldWeaken(path string) bool {
	beside := func(s *source.Survey) bool {
		return slices.ContainsFunc(s.Deciding, func(d source.Deciding) bool { return d.File == path && len(d.Weakening()) > 0 })
	}
	service := func(s *source.Survey) bool {
		return slices.ContainsFunc(s.Services, func(v source.Service) bool { return v.File == path && len(v.Weakened()) > 0 })
	}
	if beside(c.Base.Survey) && !beside(c.Survey) || service(c.Base.Survey) && !service(c.Survey) {
		return true
	}
	return slices.ContainsFunc(c.Base.Survey.Settings, func(was source.Setting) bool {
		return was.File == path && was.Weakens() != "" && !slices.ContainsFunc(c.Survey.Settings, func(is source.Setting) bool {
			return is.Family == was.Family && is.Name == was.Name && is.Weakens() != ""
		})
	})
}

// options puts the general section of a file that holds sources too back as it stood: pacman's
// and flatpak's.
func (c *computer) options(path string, was []byte, why []string) {
	general := func(text []byte) (string, bool) { return arch.Section(text, "options") }
	if path == flatpak.Config {
		general = flatpak.Core
	}
	old := c.Texts[path]
	text, at := old, slices.IndexFunc(c.out.Edits, func(e FileEdit) bool { return e.Path == path })
	if at >= 0 {
		text = c.out.Edits[at].New
	}
	before, stood := general(was)
	now, stands := general(text)
	if !stood || !stands || before == now {
		return
	}
	ed := editor{section: func(text []byte, _ string) (string, bool) { return general(text) }}
	next := ed.putBack(text, was, "", before)
	if at >= 0 {
		c.out.Edits[at].New, c.out.Edits[at].Why = next, append(c.out.Edits[at].Why, why...)
		return
	}
	c.out.Edits = append(c.out.Edits, FileEdit{Path: path, Action: Edit, Mode: c.modes[path], Old: old, New: next, Why: why})
}

// touch marks the lines of a file that are not as they were, and says why.
func (c *computer) touch(path string, touched map[int]bool) (why []string) {
	for _, f := range c.strayed[path] {
		if !slices.Contains(mends, f.Class) {
			continue
		}
		if f.Line > 0 {
			touched[f.Line] = true
		}
		why = append(why, f.Message)
	}
	return why
}

// vanished returns the text of a file that is gone and stood there when the policy came.
func (c *computer) vanished(path string) (text []byte, why []string, ok bool) {
	for _, f := range c.strayed[path] {
		if f.Class != drift.MissingFile || c.Texts[path] != nil {
			continue
		}
		if copied := c.copies(path, nil); len(copied) > 0 {
			return copied[0], []string{f.Message}, true
		}
	}
	return nil, nil, false
}

// stoodMode are the permissions that a file had when the policy came.
func (c *computer) stoodMode(path string) string {
	for _, f := range c.Base.Survey.Files {
		if f.Path == path {
			return f.Mode
		}
	}
	return "0644"
}

// copies are the texts of a file of which something may be put back: as it was after the
// last change first, then as it was when the policy came.
func (c *computer) copies(path string, now []byte) (out [][]byte) {
	for _, from := range []map[string][]byte{c.Kept, c.Stood} {
		if text, ok := from[path]; ok && string(text) != string(now) &&
			!slices.ContainsFunc(out, func(x []byte) bool { return string(x) == string(text) }) {
			out = append(out, text)
		}
	}
	if len(c.strayed[path]) > 0 { // what differs from the base is as in the base
		slices.Reverse(out)
	}
	return out
}

// weak reports whether an entry of the distribution's own, which a rule speaks of, takes a
// check away that the policy does not give up.
func weak(s *source.Source, v *verdict.Verdict) bool {
	return v.Kind == verdict.Ruled && !v.Unchecked && (s.OwnTrust() || len(s.Weakened(nil)) > 0)
}

// putBackSections puts sections of files that are not the policy's back as they stood, and
// says which it did, by file and name.
func (c *computer) putBackSections(ed editor, texts map[string][]byte, why map[string][]string) map[string]bool {
	done := map[string]bool{}
	for path, list := range c.strayed {
		if c.owned[path] || !ed.has(path) {
			continue
		}
		for _, f := range list {
			if !c.afford(path, len(texts[path])) {
				break
			}
			id := c.sectionOf(f)
			now, stands := ed.section(texts[path], id)
			if id == "" || !slices.Contains(mends, f.Class) || stands == (f.Class == drift.MissingSource) {
				continue
			}
			for _, copied := range c.copies(path, c.Texts[path]) {
				was, ok := ed.section(copied, id)
				if !ok || stands && was == now {
					continue
				}
				texts[path] = ed.putBack(texts[path], copied, id, was)
				why[path] = append(why[path], f.Message)
				done[path+" "+id] = true
				break
			}
		}
	}
	return done
}

// included puts back files of which other files read what they give: lists of mirrors.
func (c *computer) included() {
	for _, f := range c.strayed[arch.Config] {
		if f.Class != drift.ChangedSource && f.Class != drift.ChecksWeakened || !strings.Contains(f.Field, "URL") {
			continue
		}
		for path := range c.Stood { // the section may say the same and include something else
			if strings.HasPrefix(path, arch.Dir+"/") && len(c.strayed[path]) == 0 {
				c.strayed[path] = []drift.Finding{{Class: drift.ChangedSource, File: path, Message: f.Message}}
			}
		}
	}
	for path, list := range c.strayed {
		old, there := c.Texts[path]
		if c.owned[path] || !there || slices.ContainsFunc(c.Base.Survey.Sources, func(s source.Source) bool { return s.File == path }) ||
			slices.ContainsFunc(c.out.Edits, func(e FileEdit) bool { return e.Path == path }) {
			continue
		}
		for _, f := range list {
			was := c.copies(path, old)
			if f.Class != drift.ChangedSource && f.Class != drift.ChecksWeakened || len(was) == 0 {
				continue
			}
			c.out.Edits = append(
				c.out.Edits,
				FileEdit{Path: path, Action: Edit, Mode: c.modes[path], Old: old, New: was[0], Why: []string{f.Message}},
			)
			break
		}
	}
}

// mendSections makes those sections of the distribution's own checked of which the policy does not say that nobody checks them, but
// for those that were put back.
func (c *computer) mendSections(ed editor, texts map[string][]byte, done map[string]bool, apply applies) {
	for i := range c.verdicts {
		s, v := &c.Survey.Sources[i], &c.verdicts[i]
		wanted := slices.ContainsFunc(v.Rules, func(r *source.InPlace) bool { return r.Enabled })
		if _, ours := texts[s.File]; !ours || !wanted || v.Unchecked || c.elsewhere(s) || c.byAll(ed, s) || !s.Enabled && len(v.Demands) == 0 ||
			done[s.File+" "+s.ID] || len(drift.Unchecked(s, c.Survey.Settings)) == 0 {
			continue
		}
		done[s.File+" "+s.ID] = true
		apply(s.File, s.Line, s.ID, fmt.Sprintf("line %d is not checked, and the policy does not say so", s.Line), ed.harden)
	}
}

// elsewhere reports whether what weakens a section stands in a file that it includes, which is
// put back.
func (c *computer) elsewhere(s *source.Source) bool {
	for path, list := range c.strayed {
		for _, f := range list {
			if f.Class == drift.SettingChanged && f.Field == arch.LevelSetting && path == s.File && s.Options["SigLevel"] == "" {
				return true // what holds for all is put back
			}
			if f.Class == drift.ChecksWeakened && path != s.File && strings.HasPrefix(f.Message, s.ID+" ") &&
				len(c.copies(path, c.Texts[path])) > 0 {
				return true
			}
		}
	}
	return false
}

// byAll reports whether a section says what it said when it was checked, so that a setting for all is what weakens it, and the files
// of those are put back.
func (c *computer) byAll(ed editor, s *source.Source) bool {
	if c.Base == nil {
		return false
	}
	was, stood := ed.section(c.Stood[s.File], s.ID)
	now, stands := ed.section(c.Texts[s.File], s.ID)
	checked := func(x source.Source) bool {
		return x.Family == s.Family && x.File == s.File && x.ID == s.ID && len(drift.Unchecked(&x, c.Base.Survey.Settings)) == 0
	}
	if !stood || !stands || was != now || !slices.ContainsFunc(c.Base.Survey.Sources, checked) {
		return false
	}
	for path, text := range c.Stood {
		_, spoilt := c.spoilt[path]
		back := spoilt || slices.ContainsFunc(c.strayed[path], func(f drift.Finding) bool {
			return f.Class == drift.SettingChanged || f.Class == drift.SettingWeakened
		})
		if back && path != s.File && string(text) != string(c.Texts[path]) && !strings.HasPrefix(path, "/usr/") && !c.wouldWeaken(path) {
			return true
		}
	}
	return false
}

// sectionOf is the name of the section that a finding is about.
func (c *computer) sectionOf(f drift.Finding) string {
	if f.Class == drift.MissingSource && c.Base != nil {
		for i := range c.Base.Survey.Sources {
			if s := &c.Base.Survey.Sources[i]; s.File == f.File && drift.Describe(s) == f.Want {
				return s.ID
			}
		}
		return ""
	}
	for i := range c.Survey.Sources {
		if s := &c.Survey.Sources[i]; s.File == f.File && s.Line == f.Line {
			return s.ID
		}
	}
	return ""
}

// appended puts a section behind a text.
func appended(text []byte, section string) []byte {
	out := string(text)
	if out != "" && !strings.HasSuffix(out, "\n") {
		out += "\n"
	}
	if out != "" && !strings.HasSuffix(out, "\n\n") {
		out += "\n"
	}
	return []byte(out + section)
}

// permissions puts back who may read and write a file: its mode, and that it is root's where it was.
func (c *computer) permissions() {
	for path, list := range c.strayed {
		for _, f := range list {
			var set func(e *FileEdit)
			why := ""
			switch {
			case f.Class != drift.ChangedMode:
			case f.Field == "mode":
				set, why = func(e *FileEdit) { e.Mode = f.Want }, fmt.Sprintf("mode %s instead of %s", f.Want, f.Have)
			case f.Field == "owner" && f.Want == drift.Root:
				set, why = func(e *FileEdit) { e.From = f.Have }, "root's instead of the user "+f.Have
			}
			if set == nil {
				continue
			}
			if i := slices.IndexFunc(c.out.Edits, func(e FileEdit) bool { return e.Path == path }); i >= 0 {
				set(&c.out.Edits[i])
				c.out.Edits[i].Why = append(c.out.Edits[i].Why, why)
			} else if text, there := c.Texts[path]; there {
				e := FileEdit{Path: path, Action: Edit, Mode: c.modes[path], Old: text, New: text, Why: []string{why}}
				set(&e)
				c.out.Edits = append(c.out.Edits, e)
			}
		}
	}
}
