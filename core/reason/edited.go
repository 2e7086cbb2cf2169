package reason

import (
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// Edit tells of a file that is not the policy's own which entries stand in it, and which
// repositories of the policy say what must hold of them; nil where the host has no such file.
func (e *Explanation) Edit(s *source.Survey, file string) *EditedFile {
	out := &EditedFile{Path: file, Entries: []EditedEntry{}}
	for i := range s.Sources {
		x := &s.Sources[i]
		if x.File != file && path.Base(x.File) != file {
			continue
		}
		out.Path = x.File
		entry := EditedEntry{Line: x.Line, Enabled: x.Enabled, Repositories: []string{}}
		entry.Text = strings.Join(slices.DeleteFunc([]string{
			x.ID, strings.Join(x.EffURLs, " "), strings.Join(x.Suites, " "), strings.Join(x.Components, " "),
		}, func(s string) bool { return s == "" }), " ")
		for _, r := range e.Rules {
			about := slices.Contains(r.Sections, x.ID) || len(r.Sections) == 0 && slices.Contains(r.Stands, x.File)
			if about && !slices.Contains(entry.Repositories, r.Repository) {
				entry.Repositories = append(entry.Repositories, r.Repository)
			}
		}
		out.Entries = append(out.Entries, entry)
	}
	if len(out.Entries) == 0 {
		return nil
	}
	return out
}
