package agent

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/core/verdict"
)

// manager is how the agent asks a family's package manager.
type manager interface {
	// try asks on the side, in an empty folder, whether the package manager would take
	// source files: our own reading of them first, then the program's.
	try(ctx context.Context, dir string, texts map[string][]byte, now *survey.Result, s stuck) error
	// refresh brings the metadata up to date, and says what did it and how it went.
	refresh(ctx context.Context, q asked) (how string, out []api.SourceOutcome, err error)
	// visible lists the versions of a package that the sources of a repository offer.
	visible(ctx context.Context, q asked, w source.SheetWitness) ([]string, error)
}

// asked is what a package manager is asked about.
type asked struct {
	sheet   *source.Sheet  // whose sources are to be refreshed
	survey  *survey.Result // as the host stands, or stood
	stuck   stuck          // is left out of what the package manager is shown
	scratch string         // a folder for metadata that is not to be kept; empty: the host's own place
	at      time.Time      // by the agent's clock
	only    []string       // apt: the files of sources that are asked about, beside no others; nil: all
}

// texts are the source files that the package manager is shown.
func (q asked) texts() map[string][]byte {
	all := q.stuck.without(q.survey.Texts)
	if q.only == nil {
		return all
	}
	out := map[string][]byte{}
	for p, t := range all {
		if slices.Contains(q.only, p) {
			out[p] = t
		}
	}
	return out
}

// limit is how long the package manager may take.
func (q asked) limit() time.Duration {
	if q.scratch != "" {
		return asideTime
	}
	return refreshTime
}

// asideTime bounds a refresh on the side.
const asideTime = 2 * time.Minute

// plain reports whether the package manager can be asked as it is.
func (h *Host) plain(q asked) bool {
	return h.Root == "/" && len(q.stuck.files) == 0 && q.scratch == ""
}

func (h *Host) manager(family string) (manager, error) {
	switch family {
	case deb.Family:
		return roomy{apt{h}, h, []string{"var/lib/apt/lists"}}, nil
	case rpm.Family:
		return roomy{dnf{h}, h, []string{"var/cache/dnf", "var/cache/libdnf5", "var/cache/yum"}}, nil
	case zypp.Family:
		return roomy{zypper{h}, h, []string{"var/cache/zypp"}}, nil
	case arch.Family:
		return roomy{pacman{h}, h, []string{"var/lib/pacman/sync"}}, nil
	}
	return nil, fmt.Errorf("this agent cannot change hosts of the family %q", family)
}

// firstRefusal returns what a package manager would refuse, or an error that says so.
// What stood there before the change is not held against it.
func firstRefusal(program string, problems []source.Problem, s stuck) error {
	for _, p := range problems {
		if p.Fatal && !s.tolerates(p) {
			return fmt.Errorf(
				"%s would refuse the new configuration, so nothing was changed: %s:%d: %s",
				program,
				p.File,
				p.Line,
				p.Message,
			)
		}
	}
	return nil
}

// refresh brings the metadata up to date and looks at every source of the sheet. It
// fails for what the change has brought about; what could not be refreshed before
// either, or is not touched, is noted.
func (a *attempt) refresh(ctx context.Context, after *survey.Result) error {
	c := a.carrier
	m, err := c.host.manager(a.sheet.Family)
	if err != nil {
		return err
	}
	if len(a.stuck.problems) > 0 {
		p := a.stuck.problems[0]
		c.report.Around = append(
			c.report.Around,
			fmt.Sprintf("%s:%d: %s; until that is mended nothing can be refreshed", p.File, p.Line, p.Message),
		)
		return nil
	}
	for _, f := range a.stuck.files {
		c.report.Around = append(c.report.Around, f+" stops the package manager altogether; lantern heal HOST --set-aside puts it aside")
	}
	a.forgetKeys()
	q := asked{sheet: a.sheet, survey: after, stuck: a.stuck, at: c.now()}
	if c.report.Refresh, c.report.Sources, err = m.refresh(ctx, q); err != nil {
		return err
	}
	if hasRemotes(a.sheet) {
		more, err := flatpakTool{c.host}.ask(ctx, after.Texts[flatpak.Config], a.sheet, true)
		c.report.Sources = append(c.report.Sources, more...)
		if err != nil {
			return err
		}
	}
	return a.blame(ctx, m, after)
}

// refreshed asks for the metadata of the sources of a sheet: of all at once, and where that fails
// of one after another, which tells whose it cannot have, and why.
func refreshed(q asked, family string, errorsOf func(string) string, ask func(ids []string) (string, error)) []api.SourceOutcome {
	var out []api.SourceOutcome
	var ids []string
	for i := range q.survey.Survey.Sources {
		s := &q.survey.Survey.Sources[i]
		if s.Enabled && s.Family == family && listed(q.sheet, s) {
			out = append(out, api.SourceOutcome{File: s.File, Line: s.Line, URL: strings.Join(s.EffURLs, " "), OK: true})
			ids = append(ids, s.ID)
		}
	}
	if len(ids) > 1 {
		text, err := ask(ids)
		if err == nil {
			return out
		}
		if c, known := cause.Of(text); known && c.Kind == cause.Locked { // for each of them alike, and it was waited for
			for i := range out {
				out[i].OK, out[i].Message = false, orError(errorsOf(text), err)
			}
			return out
		}
	}
	for i, id := range ids {
		if text, err := ask([]string{id}); err != nil {
			out[i].OK, out[i].Message = false, orError(errorsOf(text), err)
		}
	}
	return out
}

// blame returns an error for the first source that cannot be refreshed because of the
// change.
func (a *attempt) blame(ctx context.Context, m manager, after *survey.Result) error {
	c := a.carrier
	spoken := a.spoken(after)
	for i := range c.report.Sources {
		o := &c.report.Sources[i]
		if o.OK || !spoken(o) {
			continue
		}
		o.Message = explainRefusal(*o, a.sheet)
		if !a.touched(o, after) {
			continue
		}
		switch {
		case a.worksAlone(ctx, m, after, o):
			o.Message = "it can be refreshed alone, and not beside the others: " + o.Message
			continue
		case a.askable(o, after) && a.failedBefore(ctx, m, o.File):
			o.Message = "not since this change: " + o.Message
			continue
		}
		return fmt.Errorf("%s cannot be refreshed: %s", strings.TrimSpace(o.URL+" "+o.Suite), o.Message)
	}
	return nil
}

// spoken tells outcomes of sources that the sheet speaks of.
func (a *attempt) spoken(after *survey.Result) func(*api.SourceOutcome) bool {
	at := func(file string, line int) string { return fmt.Sprintf("%s:%d", file, line) }
	spoken := map[string]bool{}
	verdicts, _ := verdict.New(a.sheet, a.sheet, &after.Survey).Survey()
	for i := range verdicts {
		if s := &after.Survey.Sources[i]; verdicts[i].Kind == verdict.Ruled {
			spoken[at(s.File, s.Line)] = true
		}
	}
	ours := a.sheet.Paths()
	ours[flatpak.Config] = true
	return func(o *api.SourceOutcome) bool { return ours[o.File] || spoken[at(o.File, o.Line)] }
}

// touched reports whether the change has to do with how a source is fetched and checked:
// it was not on before, or from elsewhere, or with other keys or access.
func (a *attempt) touched(o *api.SourceOutcome, after *survey.Result) bool {
	edited := a.edited()
	i := slices.IndexFunc(after.Survey.Sources, func(s source.Source) bool {
		return s.File == o.File && (s.Line == o.Line && o.Line != 0 || o.Line == 0 && strings.Join(s.EffURLs, " ") == o.URL)
	})
	if i < 0 {
		return edited[o.File]
	}
	now := &after.Survey.Sources[i]
	contract := slices.ContainsFunc(a.sheet.Sources, func(s source.SheetSource) bool { return s.File == now.File && s.Contract != "" })
	if contract && a.accessChanged {
		return true
	}
	if slices.ContainsFunc(read(now), func(p string) bool { return edited[p] }) || a.accessNew(now.File) {
		return true
	}
	if !slices.Equal(fetching(&a.before.Survey, now.Family), fetching(&after.Survey, now.Family)) {
		return true
	}
	return !slices.ContainsFunc(a.before.Survey.Sources, func(was source.Source) bool {
		return was.Enabled && was.Family == now.Family && source.SameSet(was.EffURLs, now.EffURLs) &&
			subsetOf(o.Suite, now.EffSuites, was.EffSuites) &&
			was.Mirrorlist == now.Mirrorlist && was.Metalink == now.Metalink &&
			source.SameSet(was.SignedBy, now.SignedBy) && source.SameWay(&was, now, after.Survey.Settings)
	})
}

// read are the files that a source reads beside its own: keys, lists of mirrors, certificates.
func read(s *source.Source) []string {
	out := s.Reads()
	for _, value := range s.Options {
		if p := strings.TrimPrefix(value, "file://"); strings.HasPrefix(p, "/") {
			out = append(out, p)
		}
	}
	return out
}

// askable reports whether it can be asked on the side if a source could be refreshed before. The
// package manager is shown the sources as they stood, and not the files that those read: what
// depends on one that the change has edited would be answered by what it says now. A connection
// does not depend on keys and certificates.
func (a *attempt) askable(o *api.SourceOutcome, after *survey.Result) bool {
	why, _ := cause.Of(o.Message)
	connects := slices.Contains(connecting, why.Kind)
	edited := a.edited()
	for _, list := range [][]source.Source{a.before.Survey.Sources, after.Survey.Sources} {
		for i := range list {
			s := &list[i]
			if s.File != o.File {
				continue
			}
			lists := s.MirrorFiles()
			for _, p := range read(s) {
				if edited[p] && (!connects || slices.Contains(lists, p)) {
					return false
				}
			}
		}
	}
	return true
}

// connecting are causes that no key and no certificate brings about.
var connecting = []cause.Kind{cause.Unreachable, cause.Unresolved, cause.Slow, cause.Cut, cause.Server}

// fetching are the settings of a package manager that decide how all of its sources are fetched
// and checked.
func fetching(s *source.Survey, family string) (out []string) {
	for _, x := range s.Settings {
		decides := slices.ContainsFunc(x.Touches, func(t string) bool {
			return t == source.TouchesTransport || t == source.TouchesTrust || t == source.TouchesProgram
		})
		if x.Family == family && decides {
			out = append(out, x.Name+"="+x.Value)
		}
	}
	slices.Sort(out)
	return out
}

// edited are the files that the change edits.
func (a *attempt) edited() map[string]bool {
	out := map[string]bool{}
	for _, e := range a.plan.Edits {
		out[e.Path] = true
	}
	return out
}

// accessNew reports whether a pacman file includes a server list that access writes.
func (a *attempt) accessNew(file string) bool {
	return a.accessChanged && a.sheet.Family == arch.Family && slices.ContainsFunc(a.sheet.Access, func(x source.SheetAccess) bool {
		return slices.ContainsFunc(x.Files, func(f source.AccessFile) bool {
			return strings.HasPrefix(f.Path, strings.TrimSuffix(file, ".conf")+".")
		})
	})
}

// subsetOf reports whether a suite, or all of now where it is empty, stood there before.
func subsetOf(suite string, now, was []string) bool {
	if suite != "" {
		return slices.Contains(was, suite)
	}
	return source.SameSet(now, was)
}

// worksAlone asks whether a source can be refreshed on the side, with no others: apt
// lets one that does not answer spoil others on the same machine.
func (a *attempt) worksAlone(ctx context.Context, m manager, after *survey.Result, o *api.SourceOutcome) bool {
	if a.sheet.Family != deb.Family || o.File == flatpak.Config {
		return false
	}
	out := a.aside(ctx, m, "after "+o.File, asked{sheet: a.sheet, survey: after, at: a.now(), only: []string{o.File}})
	return len(out) > 0 && !slices.ContainsFunc(out, func(x api.SourceOutcome) bool { return !x.OK })
}

// failedBefore asks whether none of the sources of a file could be refreshed as they stood
// before the change either.
func (a *attempt) failedBefore(ctx context.Context, m manager, file string) bool {
	sheet := a.host.lastSheet()
	if sheet == nil || file == flatpak.Config {
		return false
	}
	q, name := asked{sheet: sheet, survey: a.before, stuck: stuckOn(sheet, a.before, a.plan), at: a.now()}, "before"
	if a.sheet.Family == deb.Family {
		q.only, name = []string{file}, "before "+file
	}
	failed := false
	for _, o := range a.aside(ctx, m, name, q) {
		if o.File != file {
			continue
		}
		if o.OK {
			return false
		}
		failed = true
	}
	return failed
}

// aside refreshes in a folder of its own, which is removed. What cannot be asked is
// nothing. A question is asked once; name tells it from others.
func (a *attempt) aside(ctx context.Context, m manager, name string, q asked) []api.SourceOutcome {
	if out, known := a.told[name]; known {
		return out
	}
	q.scratch = a.host.statePath("aside")
	removeAll(q.scratch)
	defer removeAll(q.scratch)
	_, out, err := m.refresh(ctx, q)
	if err != nil {
		out = nil
	}
	out = slices.DeleteFunc(out, func(o api.SourceOutcome) bool { return q.only != nil && !slices.Contains(q.only, o.File) })
	if a.told == nil {
		a.told = map[string][]api.SourceOutcome{}
	}
	a.told[name] = out
	return out
}
