// Package change finds the exact edits that take a host from what it has to
// what it should have.
package change

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/lines"
	"patientlantern.example/lantern/core/verdict"
)

// Actions of an edit.
const (
	Create = "create"
	Edit   = "edit"
	Remove = "remove"
)

// FileEdit is what happens to one file.
type FileEdit struct {
	Path   string
	Action string
	Mode   string // octal; of the file afterwards
	Was    string // its mode before, where a file that stands there is edited and gets another
	From   string // number of the user that it is taken from, to be root's; empty where it stays whose it is
	Old    []byte
	New    []byte
	Why    []string
}

// Change is the edits for one host, in the order of their paths.
type Change struct {
	Edits []FileEdit
	// Impossible says what the sheet wants and no edit can bring about.
	Impossible []string
	Gone       []Gone // sources in use that would not be any more, by their keys
	// Distrusts are keys that go out of keyrings which their package managers alone write.
	Distrusts []Distrusted
}

// Input is what a change is computed from.
type Input struct {
	Sheet  *source.Sheet
	Survey *source.Survey    // with Files
	Texts  map[string][]byte // the text of each of Survey.Files
	// Before is the sheet that was carried out last, or nil: files of it that the
	// new one does not have are removed.
	Before *source.Sheet
	// Kept holds the files as they stood after that, or nil: an entry that has
	// gone since is put back as it was.
	Kept map[string][]byte
	// Base is what the host was when the policy came, and Stood the texts of its files then.
	// With them, what differs from it is put back: that is what healing does.
	Base  *drift.Base
	Stood map[string][]byte
	// SetAside says that files which stop the package manager, and which no rule mends,
	// are renamed: they are kept and not read any more.
	SetAside bool
	// Added are the keys that changes have put into keyrings which package managers alone write, by
	// their fingerprints: what the policy goes by no more goes out of there again.
	Added []string
	// Masked says that Texts have their passwords masked.
	Masked bool
}

// Compute returns the edits. With equal inputs it gives equal results.
func Compute(in Input) Change {
	c := &computer{
		Input:  in,
		owned:  map[string]bool{},
		modes:  map[string]string{},
		owners: map[string]string{},
		parsed: map[string][]source.Source{},
		court:  verdict.New(in.Sheet, in.Before, in.Survey),
		lists:  map[string]bool{},
	}
	for i := range in.Survey.Sources {
		for _, p := range in.Survey.Sources[i].MirrorFiles() {
			c.lists[p] = true
		}
	}
	for _, f := range in.Survey.Files {
		c.modes[f.Path], c.owners[f.Path] = f.Mode, f.Owner
	}
	c.placeCopies()
	c.verdicts, c.gaps = c.court.Survey()
	c.differs()
	for _, f := range in.Sheet.Files {
		c.owned[f.Path] = true
		c.whole(f)
	}
	if in.Before != nil {
		for _, f := range in.Before.Files {
			if old, there := in.Texts[f.Path]; there && !c.owned[f.Path] && !c.named(f) {
				c.out.Edits = append(
					c.out.Edits,
					FileEdit{
						Path:   f.Path,
						Action: Remove,
						Mode:   c.modes[f.Path],
						Old:    old,
						Why:    []string{"the policy does not list " + orKey(f.Repository) + " for this host any more"},
					},
				)
				c.owned[f.Path] = true
			}
		}
	}
	if ed, ok := editors[in.Sheet.Family]; ok {
		c.sections(ed)
	} else {
		c.inPlace()
	}
	if in.Sheet.Family == arch.Family {
		c.includes()
	}
	c.remotes()
	c.restore()
	if in.Sheet.Family == zypp.Family {
		c.locks()
	}
	c.included()
	c.unspoil()
	c.permissions()
	c.distrust()
	c.release()
	if in.SetAside {
		c.setAside()
	}
	c.byHand()
	c.needs()
	c.gone()
	for i := range c.out.Edits {
		if e := &c.out.Edits[i]; e.Action == Edit && c.modes[e.Path] != e.Mode {
			e.Was = c.modes[e.Path]
		}
	}
	slices.SortStableFunc(c.out.Edits, func(a, b FileEdit) int { return cmp.Compare(a.Path, b.Path) })
	return c.out
}

// named reports whether a key of the sheet before is named by a source that stays and is
// not the policy's: without it, that source could not be refreshed any more.
func (c *computer) named(f source.SheetFile) bool {
	if f.Repository != "" {
		return false
	}
	leaves := func(path string) bool {
		return c.owned[path] || slices.ContainsFunc(c.Before.Files, func(x source.SheetFile) bool { return x.Path == path })
	}
	ours := func(s *source.Source) bool { // where it stands in a file that holds others too
		return slices.ContainsFunc(c.Before.Sources, func(x source.SheetSource) bool { return x.File == s.File && x.ID == s.ID })
	}
	return slices.ContainsFunc(c.Survey.Sources, func(s source.Source) bool {
		return s.Enabled && !leaves(s.File) && !ours(&s) && slices.Contains(s.Reads(), f.Path)
	})
}

func orKey(repository string) string {
	if repository == "" {
		return "this key"
	}
	return repository
}

type computer struct {
	Input
	owned    map[string]bool
	modes    map[string]string
	owners   map[string]string // of files that are not root's
	parsed   map[string][]source.Source
	standing map[string][]verdict.Verdict // by file, as they stand
	read     int                          // bytes, for edits of sections
	court    *verdict.Court
	verdicts []verdict.Verdict // what becomes of each source of the survey
	gaps     []verdict.Gap
	lists    map[string]bool            // lists of mirrors, which hold no sources
	strayed  map[string][]drift.Finding // by file: what is not as it was when the policy came
	found    []drift.Finding            // on a host with a base, all of them
	spoilt   map[string]string          // files that are not taken any more, and why
	leaving  []source.Source            // in use, and not any more afterwards
	out      Change
}

// whole compares a file that the policy owns.
func (c *computer) whole(f source.SheetFile) {
	old, there := c.Texts[f.Path]
	why := "repository " + f.Repository
	switch {
	case f.Path == deb.ProxyPath:
		why = "the proxy of the host's site"
	case f.Repository == "":
		why = "a signing key or certificate"
	case f.IfThere:
		why += ", kept off: the host follows another choice of its channel"
	case strings.HasPrefix(f.Path, deb.PreferencesDir):
		why += ", its place in the order"
	case !slices.ContainsFunc(c.Sheet.Sources, func(s source.SheetSource) bool { return s.File == f.Path }):
		why += ", its mirrors"
	}
	if f.While != "" && !slices.Contains(c.Survey.Media, f.While) {
		if idle, kept := Idle(f); kept {
			f.Text = idle
		} else if there {
			c.out.Edits = append(
				c.out.Edits,
				FileEdit{
					Path:   f.Path,
					Action: Remove,
					Mode:   c.modes[f.Path],
					Old:    old,
					Why:    []string{"nothing stands in " + f.While + ", where its media is found"},
				},
			)
			return
		} else {
			return
		}
	}
	same := string(old) == f.Text || c.Masked && there && family.MasksTo([]byte(f.Text), old)
	switch {
	case !there && (f.IfThere || c.court.Adopted.Spares(f.Path)):
	case !there:
		c.out.Edits = append(c.out.Edits, FileEdit{Path: f.Path, Action: Create, Mode: f.Mode, New: []byte(f.Text), Why: []string{why}})
	case !same || c.modes[f.Path] != f.Mode || c.owners[f.Path] != "":
		if c.modes[f.Path] != f.Mode {
			why += fmt.Sprintf(", mode %s instead of %s", f.Mode, c.modes[f.Path])
		}
		if c.owners[f.Path] != "" {
			why += ", root's instead of the user " + c.owners[f.Path]
		}
		c.out.Edits = append(c.out.Edits, FileEdit{
			Path: f.Path, Action: Edit, Mode: f.Mode, From: c.owners[f.Path], Old: old, New: []byte(f.Text), Why: []string{why},
		})
	}
}

// Idle is what stands in a file of media while the media is not there; kept is false
// where the file goes. pacman refuses to work when a file that it includes is missing.
func Idle(f source.SheetFile) (text string, kept bool) {
	if !strings.HasPrefix(f.Path, arch.Dir+"/") {
		return "", false
	}
	return family.Head + "#\n# Nothing stands in " + f.While + ", where its media is found.\n", true
}

// foreign reports whether a file is another package manager's: pacman may include
// a file of any name.
func (c *computer) foreign(path string) bool {
	if strings.HasPrefix(path, "/etc/apt/") {
		return false
	}
	for i := range c.Survey.Sources {
		if s := &c.Survey.Sources[i]; s.File == path && s.Family == deb.Family {
			return false
		}
	}
	return true
}

// Diff writes the change as one unified diff. Paths are those of the host.
func (c *Change) Diff() string { return c.DiffBy((*FileEdit).Diff) }

// DiffBy is Diff for somebody who remembers how an edit is written.
func (c *Change) DiffBy(write func(*FileEdit) string) string {
	var out strings.Builder
	for i := range c.Edits {
		out.WriteString(write(&c.Edits[i]))
	}
	for _, d := range c.Distrusts {
		out.WriteString(d.diff())
	}
	return out.String()
}

// Diff writes one edit as a unified diff, passwords masked. Modes and users stand behind the names, where diff(1) has times:
// there is a diff also where nothing else changes.
func (e *FileEdit) Diff() string {
	from, to := e.Path, e.Path
	switch e.Action {
	case Create:
		from = ""
	case Remove:
		to = ""
	}
	sign := "\t"
	if e.Was != "" {
		from, to, sign = from+"\tmode "+e.Was, to+"\tmode "+e.Mode, ", "
	}
	if e.From != "" {
		from, to, sign = from+sign+"user "+e.From, to+sign+"user root", ", "
	}
	text := lines.Unified(from, to, lines.Shown(string(family.MaskText(e.Old))), lines.Shown(string(family.MaskText(e.New))))
	if text == "" && sign == ", " {
		return lines.Names(from, to)
	}
	return text
}

// Locate gives findings the line of the text at which the change begins, where
// that is more exact than the first line of the definition.
func (c *Change) Locate(findings []drift.Finding) []drift.Finding {
	out := slices.Clone(findings)
	for i := range out {
		f := &out[i]
		n := slices.IndexFunc(c.Edits, func(e FileEdit) bool { return e.Path == f.File && e.Action == Edit })
		if n < 0 || f.Line == 0 {
			continue
		}
		for _, h := range lines.Compare(lines.Split(string(c.Edits[n].Old)), lines.Split(string(c.Edits[n].New))) {
			if h.OldTo >= f.Line {
				f.Line = max(f.Line, h.OldFrom+1)
				break
			}
		}
	}
	return out
}
