package drift

import (
	"slices"

	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
)

// holds compares what is kept where it is, or away.
func (s *standing) holds() {
	says := func(h source.Hold) string {
		out := h.Kind + " " + h.What
		if h.Source != "" {
			out += " of " + h.Source
		}
		if h.Criteria != "" {
			out += " (" + h.Criteria + ")"
		}
		return out
	}
	own := func(h source.Hold) bool { // what one source says of itself is told of the source
		if h.File == rpm.LocksTOML { // its lines are told
			return false
		}
		return s.court.Concerns(h.Family) && !s.theirs[h.File] && (h.Source == "" || h.Kind == source.HoldLock)
	}
	kinds := entries[source.Hold]{
		says: says,
		near: func(a, b source.Hold) bool {
			return a.Family == b.Family && a.File == b.File && a.Line == b.Line && a.Line > 0
		},
		tells: func(f *Finding, h source.Hold) {
			f.Class, f.File, f.Line, f.Field, f.Repository = HoldChanged, h.File, h.Line, h.Kind, h.Source
		},
		what: "a hold",
	}
	was, is := kept(s.policysLocks(), own), kept(s.survey.Holds, own)
	if s.was.Reach < locksWhole {
		was, is = asNamed(was), asNamed(is)
	}
	if min(s.was.Reach, s.survey.Reach) < groupsApart {
		was, is = withoutGroups(was), withoutGroups(is)
	}
	if s.was.Reach < locksOfFive && slices.ContainsFunc(was, listed) && !slices.ContainsFunc(is, listed) {
		was = slices.DeleteFunc(was, listed)
		s.add(Finding{Class: HoldChanged, Severity: Note, Field: source.HoldLock, File: rpm.LockList, Message: listNotRead})
	}
	kinds.compare(s, kinds.once(was), kinds.once(is))
}

// policysLocks are the holds that stood when the policy came, with the locks that it has now in the place of those
// that it had then.
func (s *standing) policysLocks() (out []source.Hold) {
	if s.came == nil || len(s.came.Locks)+len(s.sheet.Locks) == 0 {
		return s.was.Holds
	}
	lines := map[source.SheetLock]int{}
	for _, h := range s.was.Holds {
		at := slices.IndexFunc(s.came.Locks, func(l source.SheetLock) bool {
			return h.Family == source.FamilyZypp && h.Kind == source.HoldLock && h.Source == "" && h.What == l.Package && h.Criteria == l.Criteria
		})
		if at < 0 {
			out = append(out, h)
			continue
		}
		lines[s.came.Locks[at]] = h.Line
	}
	for _, l := range s.sheet.Locks {
		out = append(out, source.Hold{Family: source.FamilyZypp, Kind: source.HoldLock, What: l.Package, Criteria: l.Criteria,
			File: zypp.LockFile(s.survey.Settings), Line: lines[l]})
	}
	return out
}

// groupsApart is the reach from which on groups of packages that pacman ignores are told from packages.
const groupsApart = 12

// withoutGroups are holds as readers before that told them.
func withoutGroups(list []source.Hold) []source.Hold {
	out := slices.Clone(list)
	for i := range out {
		if out[i].Criteria == source.Group {
			out[i].Criteria = ""
		}
	}
	return out
}

// locksOfFive is the reach from which on the list of dnf's older version locks is not read where dnf 5 is, which takes no
// notice of it.
const locksOfFive = 4

// listNotRead is told where such a list is read no more, and nothing says whether it is gone or has no say.
const listNotRead = "its locks are not there any more: they were taken out, or dnf 5 came, which takes no notice of them; " +
	"accept the host as it stands once you have looked at it"

// listed reports whether a lock stands in that list.
func listed(h source.Hold) bool { return h.Family == source.FamilyRpm && h.File == rpm.LockList }

// locksWhole is the reach from which on zypper's locks are read with all that they ask for.
const locksWhole = 2

// asNamed are holds as readers before that told them: locks by name alone, and those that name nothing not at all.
func asNamed(list []source.Hold) (out []source.Hold) {
	for _, h := range list {
		if h.Criteria = ""; h.What != zypp.All || h.Kind != source.HoldLock {
			out = append(out, h)
		}
	}
	return out
}
