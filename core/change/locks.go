package change

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/zypp"
)

// locks gives zypper's list of locks those of the policy, and takes out what an earlier policy has put there.
func (c *computer) locks() {
	file := zypp.LockFile(c.Survey.Settings)
	old, there := c.Texts[file]
	text, at := old, slices.IndexFunc(c.out.Edits, func(e FileEdit) bool { return e.Path == file })
	if at >= 0 {
		text = c.out.Edits[at].New
	}
	next := zypp.Arrange(text, c.Sheet.Locks)
	if string(next) == string(text) {
		return
	}
	if len(c.Sheet.Locks) > 0 && !zypp.Locked(c.Survey.Settings) {
		c.out.Impossible = append(c.out.Impossible, "zypper goes by no locks here (main.locksfile.apply), so nothing can be held")
		return
	}
	if file != zypp.Locks {
		c.out.Impossible = append(c.out.Impossible, "zypper's locks stand in "+file+" (main.locksfile.path), where the policy writes nothing")
		return
	}
	why := "locks of the policy that are not wanted any more"
	if len(c.Sheet.Locks) > 0 {
		names := make([]string, len(c.Sheet.Locks))
		for i, l := range c.Sheet.Locks {
			names[i] = l.Package
		}
		why = "holds " + strings.Join(names, ", ")
	}
	edit := FileEdit{Path: file, Action: Edit, Mode: c.modes[file], Old: old, New: next, Why: []string{why}}
	switch {
	case !there:
		edit.Action, edit.Mode = Create, "0644"
	case strings.TrimSpace(string(next)) == "":
		edit.Action, edit.New = Remove, nil
	}
	if at >= 0 {
		edit.Why = append(c.out.Edits[at].Why, why)
		c.out.Edits[at] = edit
		return
	}
	c.out.Edits = append(c.out.Edits, edit)
}
