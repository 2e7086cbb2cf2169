package change

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
	"patientlantern.example/lantern/core/text/lines"
	"patientlantern.example/lantern/core/verdict"
)

// editor is how sections of a family's files are switched.
type editor struct {
	has     func(path string) bool // whether a file holds sections
	on, off func(text []byte, id string) ([]byte, error)
	remove  func(text []byte, id string) ([]byte, error)
	section func(text []byte, id string) (string, bool) // its text
	harden  func(text []byte, id string) ([]byte, error)
	hide    func(text []byte, id string) ([]byte, error) // so that its name is free; nil where off does so
	// place gives a section other URLs; nil where they stand in files of their own.
	place func(text []byte, id string, to verdict.Places) ([]byte, error)
	// relist makes a section stand under another key, and come from there; nil where sections have no such keys.
	relist func(text []byte, id, key, url string) ([]byte, error)
	proxy  func(text []byte, id, proxy string) ([]byte, error) // nil where sections have none
	list   func(text []byte) []source.Source                   // the sections: where each comes from, and through what
}

// editors are those of the families whose files have sections.
var editors = map[string]editor{
	rpm.Family:  repoEditor(rpm.Family, ini.ParseRPM),
	zypp.Family: repoEditor(zypp.Family, zypp.Parse),
	arch.Family: {
		has: func(string) bool { return true }, on: arch.SwitchOn, off: arch.SwitchOff, remove: arch.Remove, section: arch.Section,
		harden: arch.Harden, place: arch.PutServers,
		list: func(text []byte) []source.Source { return listed(arch.Family, ini.ParsePacman(text)) },
	},
}

func repoEditor(of string, parse func([]byte) *ini.File) editor {
	flag := func(value string) func([]byte, string) ([]byte, error) {
		return func(text []byte, id string) ([]byte, error) {
			f := parse(text)
			last := lastSection(f, id)
			if last == nil {
				return nil, fmt.Errorf("its section is not written [%s]", id)
			}
			if err := f.Set(last, "enabled", value); err != nil {
				return nil, err
			}
			return f.Bytes(), nil
		}
	}
	return editor{
		has: func(path string) bool {
			return strings.HasSuffix(path, ".repo") || path == rpm.Config || path == rpm.OldConfig
		},
		on: flag("1"), off: flag("0"),
		remove: func(text []byte, id string) ([]byte, error) {
			f := parse(text)
			if lastSection(f, id) == nil {
				return nil, fmt.Errorf("its section is not written [%s]", id)
			}
			for i := range f.Sections {
				if f.Name(&f.Sections[i]) == id {
					f.DeleteSection(&f.Sections[i])
				}
			}
			return f.Bytes(), nil
		},
		section: func(text []byte, id string) (string, bool) {
			f := parse(text)
			last := lastSection(f, id)
			if last == nil {
				return "", false
			}
			return f.Text(last), true
		},
		harden: func(text []byte, id string) ([]byte, error) { return hardened(of, parse(text), id) },
		hide:   func(text []byte, id string) ([]byte, error) { return hidden(parse(text), id) },
		place: func(text []byte, id string, to verdict.Places) ([]byte, error) {
			f := parse(text)
			if lastSection(f, id) == nil {
				return nil, fmt.Errorf("its section is not written [%s]", id)
			}
			for i := range f.Sections {
				if s := &f.Sections[i]; f.Name(s) == id {
					f.PutWords(s, "baseurl", to)
				}
			}
			return f.Bytes(), nil
		},
		relist: func(text []byte, id, key, url string) ([]byte, error) { return relisted(parse(text), id, key, url) },
		proxy:  func(text []byte, id, proxy string) ([]byte, error) { return proxied(parse(text), id, proxy) },
		list:   func(text []byte) []source.Source { return listed(of, parse(text)) },
	}
}

// proxied makes the section of a name go through a proxy, or through none of its own.
func proxied(f *ini.File, id, proxy string) ([]byte, error) {
	last := lastSection(f, id)
	if last == nil {
		return nil, fmt.Errorf("its section is not written [%s]", id)
	}
	if proxy != "" {
		err := f.Set(last, "proxy", proxy)
		return f.Bytes(), err
	}
	for i := range f.Sections {
		if s := &f.Sections[i]; f.Name(s) == id {
			f.Delete(s, "proxy")
		}
	}
	return f.Bytes(), nil
}

// relisted makes a section of dnf's or zypper's come from one base URL where it went by a list of mirrors, or the other way
// round: the line says that in its place.
func relisted(f *ini.File, id, key, url string) ([]byte, error) {
	last, was, lines := lastSection(f, id), "", 0
	if last == nil {
		return nil, fmt.Errorf("its section is not written [%s]", id)
	}
	for i := range f.Sections {
		if s := &f.Sections[i]; f.Name(s) == id {
			for n := range f.Entries(s) {
				if k := f.Key(&f.Entries(s)[n]); slices.Contains([]string{"baseurl", "metalink", "mirrorlist"}, k) {
					was = k
					lines++
				}
			}
		}
	}
	if _, there := f.Get(last, was); lines != 1 || !there {
		return nil, fmt.Errorf("its section does not say in one line where [%s] comes from", id)
	}
	if err := f.Set(last, was, url); err != nil {
		return nil, err
	}
	f.Rename(last, was, key)
	return f.Bytes(), nil
}

// listed are the sections of a file: where each comes from, and through what.
func listed(of string, f *ini.File) (out []source.Source) {
	for i := range f.Sections {
		last := lastSection(f, f.Name(&f.Sections[i]))
		if last != &f.Sections[i] {
			continue
		}
		get := func(key string) string {
			v, _ := f.Get(last, key)
			return v
		}
		enabled, said := f.Get(last, "enabled")
		on := !said || !source.IsOff(of, enabled)
		if of == zypp.Family {
			on = !said || source.IsOn(of, enabled)
		}
		out = append(out, source.Source{
			ID: f.Name(last), Enabled: on,
			URLs:       strings.FieldsFunc(get("baseurl"), func(r rune) bool { return r == ',' || unicode.IsSpace(r) }),
			Mirrorlist: get("mirrorlist"), Metalink: get("metalink"), Options: map[string]string{"proxy": get("proxy")},
		})
	}
	return out
}

// hidden makes comments of the sections of a name. One that is only off would still be the first
// of its name, and the policy's would be passed over.
func hidden(f *ini.File, id string) ([]byte, error) {
	if lastSection(f, id) == nil {
		return nil, fmt.Errorf("its section is not written [%s]", id)
	}
	list := slices.Collect(strings.Lines(string(f.Bytes())))
	for i := range f.Sections {
		s := &f.Sections[i]
		if f.Name(s) != id {
			continue
		}
		end := len(list)
		if i+1 < len(f.Sections) {
			end = int(f.Sections[i+1].Line) - 1
		}
		for n := int(s.Line) - 1; n < end; n++ {
			if line := strings.TrimSpace(list[n]); line != "" && line[0] != '#' && line[0] != ';' {
				list[n] = "#" + list[n]
			}
		}
	}
	return []byte(strings.Join(list, "")), nil
}

// hardened makes the section of a name check what comes: what takes a check away is turned
// round where it stands, and gpgcheck is said where nothing was.
func hardened(of string, f *ini.File, id string) ([]byte, error) {
	last := lastSection(f, id)
	if last == nil {
		return nil, fmt.Errorf("its section is not written [%s]", id)
	}
	found := false
	for _, key := range []string{"gpgcheck", "repo_gpgcheck", "pkg_gpgcheck", "sslverify", "proxy_sslverify"} {
		value, there := f.Get(last, key)
		if !there || source.IsOn(of, value) {
			continue
		}
		found = true
		if err := f.Set(last, key, "1"); err != nil {
			return nil, err
		}
	}
	if !found {
		if err := f.Set(last, "gpgcheck", "1"); err != nil {
			return nil, err
		}
	}
	return f.Bytes(), nil
}

// lastSection returns the last section of a name: dnf merges sections of one name in a
// file, and the last word counts.
func lastSection(f *ini.File, id string) (out *ini.Section) {
	for i := range f.Sections {
		if f.Name(&f.Sections[i]) == id {
			out = &f.Sections[i]
		}
	}
	return out
}

// sections edits files with sections that do not belong to the policy: the
// distribution's own as the policy says of them, what defines a source of the sheet
// again is switched off, and what the policy does not list is treated as it says.
func (c *computer) sections(ed editor) {
	texts, why := map[string][]byte{}, map[string][]string{}
	for _, path := range sorted(c.Texts) {
		if !c.owned[path] && ed.has(path) {
			texts[path] = c.Texts[path]
			if reason, spoilt := c.spoilt[path]; spoilt {
				texts[path], why[path] = c.Stood[path], []string{reason}
			}
		}
	}
	for _, path := range sorted(c.Stood) {
		if back, reason, gone := c.vanished(path); gone && !c.owned[path] && ed.has(path) {
			texts[path], why[path] = back, reason
		}
	}
	apply := func(path string, line int, id, reason string, do func([]byte, string) ([]byte, error)) {
		if !c.afford(path, len(texts[path])) {
			return
		}
		_, stood := ed.section(c.Texts[path], id)
		if _, stands := ed.section(texts[path], id); stood && !stands {
			return // it had taken the place of one that was put back
		}
		next, err := do(texts[path], id)
		if err != nil {
			c.out.Impossible = append(c.out.Impossible, fmt.Sprintf("%s:%d: %s cannot be edited: %v", path, line, id, err))
			return
		}
		texts[path] = next
		if !slices.Contains(why[path], reason) {
			why[path] = append(why[path], reason)
		}
	}
	for _, g := range c.gaps {
		if g.Section != "" {
			c.putSectionBack(texts, why, *g.Rule, g.Section, ed)
		}
	}
	done := c.putBackSections(ed, texts, why) // before the policy's own is written: what goes to a section may be another one's
	c.demands(ed, texts, why, apply)
	c.mendSections(ed, texts, done, apply)
	for i := range c.verdicts {
		s, v := &c.Survey.Sources[i], &c.verdicts[i]
		if _, ours := texts[s.File]; !ours || s.Family != c.Sheet.Family || v.Act == verdict.Stay || !s.Enabled && !v.Hides {
			continue
		}
		do := ed.off
		switch {
		case v.Act == verdict.Remove:
			do = ed.remove
		case v.Hides && ed.hide != nil:
			do = ed.hide
		}
		if v.Of == nil || v.Kind == verdict.Licensed {
			c.leave(s)
		}
		apply(s.File, s.Line, s.ID, reason(s, v), do)
	}
	c.rewrite(texts, why)
}

// applies edits a section of a text, and says why; a section that is not there any more it leaves.
type applies func(path string, line int, id, reason string, do func([]byte, string) ([]byte, error))

// demands makes sections be as the policy says of them.
func (c *computer) demands(ed editor, texts map[string][]byte, why map[string][]string, apply applies) {
	for i := range c.verdicts {
		s := &c.Survey.Sources[i]
		if _, ours := texts[s.File]; !ours {
			continue
		}
		for _, d := range c.verdicts[i].Demands {
			reason := "repository " + d.Rule.Repository + ", in place"
			switch {
			case d.On:
				apply(s.File, s.Line, s.ID, reason, ed.on)
			case d.Off:
				c.leave(s)
				apply(s.File, s.Line, s.ID, reason, ed.off)
			}
			switch {
			case d.Key != "" && ed.relist != nil:
				apply(s.File, s.Line, s.ID, reason, func(text []byte, id string) ([]byte, error) { return ed.relist(text, id, d.Key, d.URLs[0]) })
			case d.URLs != nil && ed.place != nil:
				apply(s.File, s.Line, s.ID, reason, func(text []byte, id string) ([]byte, error) { return ed.place(text, id, c.court.Places) })
				c.placeIncluded(texts, why, s, reason)
			}
			if d.Proxy != nil && ed.proxy != nil {
				apply(s.File, s.Line, s.ID, reason, func(text []byte, id string) ([]byte, error) { return ed.proxy(text, id, *d.Proxy) })
			}
		}
	}
}

// mostRead is how many bytes are gone over again for edits of single sections. A file with thousands of them is nobody's work.
const mostRead = 32 << 20

// afford reports whether one more section of a file can be edited, and says once of a file where it cannot.
func (c *computer) afford(file string, size int) bool {
	c.read += size
	if c.read <= mostRead {
		return true
	}
	why := file + ": more of its sections would be edited than a change edits; take out by hand what does not belong there"
	if !slices.Contains(c.out.Impossible, why) {
		c.out.Impossible = append(c.out.Impossible, why)
	}
	return false
}

// rewrite edits files so that they say other texts.
func (c *computer) rewrite(texts map[string][]byte, why map[string][]string) {
	for _, path := range sorted(texts) {
		old, there := c.Texts[path]
		if string(texts[path]) == string(old) {
			continue
		}
		e := FileEdit{Path: path, Action: Edit, Mode: c.modes[path], Old: old, New: texts[path], Why: why[path]}
		switch {
		case !there:
			e.Action, e.Mode = Create, "0644"
			if c.Base != nil {
				e.Mode = c.stoodMode(path)
			}
		case c.emptied(path, old, texts[path]):
			e.Action, e.New = Remove, nil
		}
		c.out.Edits = append(c.out.Edits, e)
	}
}

// putSectionBack puts a section of the distribution's own back as it was kept.
func (c *computer) putSectionBack(texts map[string][]byte, why map[string][]string, rule source.InPlace, name string, ed editor) {
	for _, path := range sorted(c.Kept) {
		if c.owned[path] || !ed.has(path) {
			continue
		}
		if _, back := ed.section(texts[path], name); back {
			return
		}
		section, ok := ed.section(c.Kept[path], name)
		if !ok {
			continue
		}
		texts[path] = ed.putBack(texts[path], c.Kept[path], name, section)
		why[path] = append(why[path], "a section that stood here has gone")
		return
	}
	c.out.Impossible = append(
		c.out.Impossible,
		fmt.Sprintf("%s: no section [%s] stands on the host, and none stood there before%s",
			rule.Repository, name, family.BroughtBy(c.Sheet.Family, rule.ComesBy)),
	)
}

// putBack makes a section of a text say what it said in one that was kept, where it stood: at the end where its place is not known.
func (ed *editor) putBack(text, kept []byte, id, was string) []byte {
	back, ok := whereItStood(text, kept, was, func(text []byte) (string, bool) { return ed.section(text, id) })
	now, stands := ed.section(text, id)
	switch {
	case ok:
		return back
	case stands:
		return bytes.Replace(text, []byte(now), []byte(was), 1)
	}
	return appended(text, was)
}

// includes makes pacman.conf include the files of the policy that will stand there,
// and no others of ours: a file that is included and not there stops pacman.
func (c *computer) includes() {
	old, there := c.Texts[arch.Config]
	if !there && !slices.ContainsFunc(c.out.Edits, func(e FileEdit) bool { return e.Path == arch.Config }) {
		c.out.Impossible = append(c.out.Impossible, arch.Config+" is not there, so no repository of the policy can be included")
		return
	}
	text, at := old, -1
	gone, after := map[string]bool{}, map[string]bool{}
	for p := range c.Texts {
		after[p] = true
	}
	for i, e := range c.out.Edits {
		after[e.Path], gone[e.Path] = e.Action != Remove, e.Action == Remove
		if e.Path == arch.Config {
			text, at = e.New, i
		}
	}
	sources := slices.Clone(c.Sheet.Sources)
	slices.SortStableFunc(sources, func(a, b source.SheetSource) int {
		if a.Level != b.Level {
			return b.Level - a.Level
		}
		return strings.Compare(a.File, b.File)
	})
	var upper, lower []string
	for i := range sources {
		switch p := sources[i].File; {
		case !after[p] || sources[i].Family != "":
		case sources[i].Level > 0:
			upper = append(upper, p)
		default:
			lower = append(lower, p)
		}
	}
	ours := func(p string) bool {
		return gone[p] || slices.Contains(upper, p) || slices.Contains(lower, p)
	}
	if kept := c.Kept[arch.Config]; kept != nil { // where it stood
		text = takenBack(text, kept, func(_ lines.Hunk, is, was []string) bool {
			named := func(line string) bool { return ours(arch.Included(line)) }
			return !slices.ContainsFunc(is, named) && slices.ContainsFunc(was, named) && len(headings(is)) == len(headings(was))
		})
	}
	next := arch.Unfollow(text, ours, c.Base != nil)
	next = arch.Arrange(next, upper, lower, ours)
	const reason = "includes the repositories of the policy"
	switch {
	case string(next) == string(old) && at < 0, at >= 0 && string(next) == string(c.out.Edits[at].New):
	case at >= 0:
		c.out.Edits[at].New = next
		c.out.Edits[at].Why = append(c.out.Edits[at].Why, reason)
	default:
		c.out.Edits = append(
			c.out.Edits,
			FileEdit{Path: arch.Config, Action: Edit, Mode: c.modes[arch.Config], Old: old, New: next, Why: []string{reason}},
		)
	}
}

func lastPart(p string) string { return p[strings.LastIndexByte(p, '/')+1:] }
