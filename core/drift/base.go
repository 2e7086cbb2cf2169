package drift

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/source"
)

// Base is what a host was like when the policy was first carried to it, or when somebody
// said that it is right as it stands. What the policy says nothing of is held against it.
type Base struct {
	Sheet  *source.Sheet  // that had been carried then
	Survey *source.Survey // of the host after that
}

// Input is what findings follow from.
type Input struct {
	Sheet  *source.Sheet
	Before *source.Sheet // that was carried out last; nil where none was
	Survey *source.Survey
	All    bool  // tell every finding, however many there are, and those too that follow from another one
	Base   *Base // nil where nothing was carried yet: what the policy says nothing of is not known to be right
}

// Judge returns the differences, ordered by file and line.
func Judge(in Input) []Finding {
	c := compare(in.Sheet, in.Before, in.Survey)
	c.weakened(in.Base)
	c.weakenedBeside(in.Base)
	c.open(in.Base)
	c.weakServices()
	c.stood(in.Base)
	c.absolute()
	c.reach()
	if in.All {
		return c.sorted()
	}
	c.out = c.consequences(c.out, in.Base)
	return atMost(c.sorted())
}

// mostFindings is how many findings of one class are told one by one of a host.
const mostFindings = 200

// atMost tells of each class as many findings as anybody reads, the worst ones, and counts
// the rest in one.
func atMost(list []Finding) []Finding {
	count := map[string]int{}
	for i := range list {
		count[list[i].Class]++
	}
	for _, class := range Classes {
		if count[class] <= mostFindings {
			delete(count, class)
		}
	}
	if len(count) == 0 {
		return list
	}
	var out []Finding
	told, worst := map[string]int{}, map[string]string{}
	for _, severity := range []string{Danger, Fault, Note} {
		for _, f := range list {
			if f.Severity != severity {
				continue
			}
			if count[f.Class] == 0 || told[f.Class] < mostFindings {
				told[f.Class]++
				out = append(out, f)
			} else if worst[f.Class] == "" {
				worst[f.Class] = severity
			}
		}
	}
	for _, class := range Classes {
		if n := count[class] - mostFindings; n > 0 {
			out = append(out, Finding{Class: class, Severity: worst[class], Have: fmt.Sprint(n), Beside: true,
				Message: fmt.Sprintf("%d more findings of this class are not told one by one", n)})
		}
	}
	return out
}

// stood holds what the policy says nothing of against what it was.
func (c *comparer) stood(b *Base) {
	if b == nil || b.Survey == nil {
		return
	}
	s := &standing{
		comparer: c, was: c.court.Placed(b.Survey, b.Sheet), came: b.Sheet,
		theirs: map[string]bool{}, then: make(map[string]source.File, len(b.Survey.Files)),
	}
	for _, f := range b.Survey.Files {
		s.then[f.Path] = f
	}
	if b.Sheet != nil {
		maps.Copy(s.theirs, b.Sheet.Paths())
	}
	maps.Copy(s.theirs, c.owned)
	// What an older agent did not read is not known, which is no difference.
	if s.was.Settings != nil && c.survey.Settings != nil {
		s.settings()
	}
	if s.was.Pins != nil && c.survey.Pins != nil {
		s.pins()
	}
	if s.was.Holds != nil && c.survey.Holds != nil {
		s.holds()
	}
	if s.was.Services != nil && c.survey.Services != nil {
		s.services()
	}
	s.system()
	s.architectures()
	s.keys()
	s.sources()
	s.remotes()
	s.places()
	s.doubles()
	s.wholeFiles()
	s.modes()
	s.lists()
	s.programs()
	s.deciding()
	s.unread()
}

// standing compares a survey with the one of the base.
type standing struct {
	*comparer
	was    *source.Survey
	came   *source.Sheet          // that had been carried when it was so
	then   map[string]source.File // the files of that, by path
	theirs map[string]bool        // files that are the policy's, now or then; one of then that stands there now is somebody's

	packages map[string]string // that files belong to, or did; nil before somebody asks
}

// add adds a finding of which the policy says nothing.
func (s *standing) add(f Finding) {
	f.Beside = true
	if f.Package = s.packageOf(f.File); f.Package != "" {
		f.Message += "; the file belongs to the package " + f.Package
	}
	s.comparer.add(f)
}

// sinceThen ends the sentence of a finding that follows from the base.
const sinceThen = ", which was not so when the policy came"

// settings compares the settings for all sources.
func (s *standing) settings() {
	type value struct {
		all []string
		at  source.Setting
	}
	collect := func(list []source.Setting, policys map[string]bool) (order []string, by map[string]*value) {
		by = map[string]*value{}
		for _, t := range list {
			newer := t.Since > min(s.was.Reach, s.survey.Reach)
			if newer || !s.court.Concerns(t.Family) || policys[t.File] || source.OptionKeeps(t.Name) || s.usual(&t) {
				continue
			}
			key := t.Family + " " + strings.ToLower(t.Name)
			if by[key] == nil {
				by[key] = &value{}
				order = append(order, key)
			}
			by[key].all, by[key].at = append(by[key].all, plainSetting(&t)), t
		}
		return order, by
	}
	before, was := collect(s.was.Settings, s.theirs)
	now, is := collect(s.survey.Settings, s.owned)
	for _, key := range now {
		h, w := is[key], was[key]
		if w == nil {
			w = &value{}
		}
		same := func(a, b string) bool { return source.SameSwitch(h.at.Family, a, b) }
		if !slices.EqualFunc(w.all, h.all, same) {
			s.setting(h.at, strings.Join(w.all, ", "), strings.Join(h.all, ", "))
		}
	}
	for _, key := range before {
		if w := was[key]; is[key] == nil && !s.saidByThePolicys(&w.at, w.all) {
			w.at.Line = 0 // it stands nowhere now
			s.setting(w.at, strings.Join(w.all, ", "), "")
		}
	}
}

// saidByThePolicys reports whether a setting that stands nowhere else any more is said, just as it was, by a file of the policy's: to
// pacman what has no heading of its own goes on with what is above it.
func (s *standing) saidByThePolicys(t *source.Setting, was []string) bool {
	return slices.ContainsFunc(s.survey.Settings, func(x source.Setting) bool {
		return s.owned[x.File] && x.Family == t.Family && strings.EqualFold(x.Name, t.Name) && len(was) == 1 &&
			source.SameSwitch(t.Family, was[0], plainSetting(&x))
	})
}

// usual reports whether a setting says nothing but what holds anyway.
func (s *standing) usual(t *source.Setting) bool {
	native := ""
	if was, is := s.was.Traits.Architectures, s.survey.Traits.Architectures; len(was) > 0 && len(is) > 0 && was[0] == is[0] {
		native = is[0]
	}
	idle := t.Family == rpm.Family && t.Name == rpm.FlagsSetting && rpm.Flags(t.Value) == ""
	return idle || t.Usual() || t.Family == deb.Family && deb.Idle(t, native)
}

// plainSetting is the value of a setting as today's reader has it: earlier ones had spans of dnf as they were written.
func plainSetting(t *source.Setting) string {
	if n, ok := rpm.Seconds(t.Value); ok && t.Family == rpm.Family && t.Name == "main.metadata_expire" {
		return strconv.FormatInt(n, 10)
	}
	if t.Family == rpm.Family && t.Name == rpm.FlagsSetting {
		return rpm.Flags(t.Value)
	}
	return t.Value
}

func (s *standing) setting(t source.Setting, was, is string) {
	touches := func(what string) bool { return slices.Contains(t.Touches, what) }
	if touches(source.TouchesTrust) {
		s.easy[t.Family] = true
	}
	t.Value = is
	if is != "" && t.Weakens() != "" {
		return // is told whatever stood there before
	}
	f := Finding{Class: SettingChanged, Severity: Fault, Field: t.Name, File: t.File, Line: t.Line, Want: was, Have: is,
		Message: fmt.Sprintf("%s: %s; it was %s when the policy came", strings.TrimSuffix(t.Name, "::"), orDefault(is), orDefault(was))}
	name := strings.ToLower(t.Name[strings.LastIndexAny(t.Name, ".:")+1:])
	switch {
	case source.Stricter(t.Family, t.Name, was, is):
		f.Severity, f.Message = Note, f.Message+"; it lets less pass"
	case t.Family == rpm.Family && t.Name == rpm.FlagsSetting && rpm.SameBelief(was, is):
		// what becomes of packages that were checked
	case t.Family == rpm.Family && name == "plugins" && source.IsOff(t.Family, is):
		// what ran on the way does so no more
	case touches(source.TouchesProgram), touches(source.TouchesTrust), strings.Contains(name, "cacert"), strings.Contains(name, "cainfo"):
		f.Severity = Danger
		if is == "" && touches(source.TouchesProgram) {
			f.Severity = Fault // what ran on the way does so no more
		}
	}
	s.add(f)
}

// orDefault says of a setting that a survey does not have what that means: it is not set, or to what holds anyway.
func orDefault(v string) string {
	if v == "" {
		return "at its default"
	}
	return v
}

// pins compares apt's preferences but for those that the policy writes.
func (s *standing) pins() {
	if !s.court.Concerns(deb.Family) {
		return
	}
	says := func(p source.Pin) string {
		out := fmt.Sprintf("Package: %s, Pin: %s, Pin-Priority: %d", strings.Join(p.Packages, " "), p.Pin, p.Priority)
		if !p.Valid {
			out += ", which apt does not understand"
		}
		return out
	}
	kinds := entries[source.Pin]{
		says: says,
		near: func(a, b source.Pin) bool {
			return a.File == b.File && (a.Pin == b.Pin || slices.Equal(a.Packages, b.Packages))
		},
		tells: func(f *Finding, p source.Pin) { f.Class, f.File, f.Line, f.Field = PinChanged, p.File, p.Line, "pin" },
		what:  "a pin",
	}
	kinds.compare(s, kinds.once(kept(s.was.Pins, func(p source.Pin) bool { return !s.theirs[p.File] })),
		kinds.once(kept(s.survey.Pins, func(p source.Pin) bool { return !s.owned[p.File] })))
}

// services compares zypper's services.
func (s *standing) services() {
	says := func(v source.Service) string {
		out := v.ID + " at " + v.URL
		if !v.Enabled {
			out += ", off"
		}
		return out
	}
	own := func(v source.Service) bool { return s.court.Concerns(source.FamilyZypp) && !s.theirs[v.File] }
	kinds := entries[source.Service]{
		says: says,
		near: func(a, b source.Service) bool { return a.ID == b.ID },
		eases: func(was, is source.Service) bool {
			plain := func(u string) string { u, _, _ = strings.Cut(u, "?"); return u }
			return len(was.Weakened()) > 0 && was.Enabled == is.Enabled && plain(was.URL) == plain(is.URL)
		},
		tells: func(f *Finding, v source.Service) {
			f.Class, f.File, f.Line, f.Field = ServiceChanged, v.File, v.Line, "service"
		},
		what: "a service",
	}
	weak := map[string]bool{} // of those is told what they are, and one edit is one finding
	for i := range s.survey.Services {
		if v := &s.survey.Services[i]; len(v.Weakened()) > 0 {
			weak[v.ID] = true
		}
	}
	checked := func(v source.Service) bool { return own(v) && !weak[v.ID] }
	kinds.compare(s, kept(s.was.Services, checked), kept(s.survey.Services, checked))
}

func kept[T any](list []T, keep func(T) bool) []T {
	return slices.DeleteFunc(slices.Clone(list), func(x T) bool { return !keep(x) })
}

// modes compares the permissions of the files that are not the policy's.
func (s *standing) modes() {
	for _, f := range s.survey.Files {
		old, there := s.then[f.Path]
		if !there || s.theirs[f.Path] {
			continue
		}
		s.access(f, old.Mode, old.Owner, old.Link)
	}
}

// programs compares the programs that run by themselves, by their digests. What says which
// run is compared by what it says.
func (s *standing) programs() {
	told := map[string]bool{}
	if s.was.Deciding != nil && s.survey.Deciding != nil {
		for _, d := range slices.Concat(s.was.Deciding, s.survey.Deciding) {
			told[d.File] = true
		}
	}
	was := map[string]source.File{}
	for _, f := range s.was.Files {
		if f.Program && !s.theirs[f.Path] && !told[f.Path] {
			was[f.Path] = f
		}
	}
	tell := func(path, says, want, have, severity string) {
		s.add(Finding{Class: SettingChanged, Severity: severity, Field: "program", File: path, Line: 1, Want: want, Have: have,
			Message: "a file that says which program runs " + says})
	}
	for _, f := range s.survey.Files {
		old, stood := was[f.Path]
		delete(was, f.Path)
		switch {
		case !f.Program || s.theirs[f.Path] || told[f.Path]:
		case !stood:
			tell(f.Path, "was not there when the policy came", "", short(f.Digest), Danger)
		case old.Digest != f.Digest:
			tell(f.Path, "says something else than when the policy came", short(old.Digest), short(f.Digest), Danger)
		}
	}
	for path, old := range was {
		tell(path, "is gone that was there when the policy came", short(old.Digest), "", Fault)
	}
}

// short is as much of a digest as tells two texts apart.
func short(digest string) string { return digest[:min(12, len(digest))] }

// access compares who may read and write a file, and whether it is one.
func (c *standing) access(f source.File, mode, owner, link string) {
	tell := func(field, was, is, severity string) {
		c.add(Finding{Class: ChangedMode, Severity: severity, Field: field, File: f.Path, Line: 1, Want: was, Have: is,
			Message: fmt.Sprintf("the %s of the file is %s; it was %s when the policy came", field, orNone(is), orNone(was))})
	}
	if f.Mode != mode {
		severity := Fault
		if writable(f.Mode) && !writable(mode) {
			severity = Danger
		}
		tell("mode", mode, f.Mode, severity)
	}
	if f.Owner != owner {
		tell("owner", rootWhere(owner), rootWhere(f.Owner), Danger)
	}
	if f.Link != link {
		tell("link", link, f.Link, Fault)
	}
}

// writable reports whether others than the owner may write a file of a mode in octal.
func writable(mode string) bool {
	return len(mode) >= 2 && (strings.ContainsAny(mode[len(mode)-1:], "2367") || strings.ContainsAny(mode[len(mode)-2:len(mode)-1], "2367"))
}

// Root is the number of the user root.
const Root = "0"

func rootWhere(owner string) string { return cmp.Or(owner, Root) }

// place says for whom a key counts that is believed for every source: all keys of one place
// count together.
func place(k *source.Key) string {
	if strings.HasPrefix(k.Where, "/etc/apt/") {
		return "/etc/apt"
	}
	return path.Dir(k.Where)
}
