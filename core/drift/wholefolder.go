package drift

import (
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// folders makes one finding of all that is gone with a folder, or not read because something else stands in its place.
func (c *comparer) folders(list []Finding, base *Base) []Finding {
	if len(list) < 2 || len(list) > mostElsewhere || base == nil || base.Survey == nil || c.survey.Files == nil {
		return list
	}
	for i := range list {
		f := list[i]
		of := func(x *Finding) bool { return (x.vanished() || x.Class == NotRead) && below(x.File, f.File) }
		if f.Class == NotRead && count(list, of) > 0 {
			return c.folders(gathered(list, f, of), base)
		}
	}
	var files map[string]bool // → it stands there
	for i := range list {
		if !list[i].vanished() || !strings.HasPrefix(list[i].File, "/") {
			continue
		}
		if files == nil {
			files = c.stand(base.Survey)
		}
		dir := common(list, emptied(list[i].File, files))
		of := func(x *Finding) bool { return x.vanished() && below(x.File, dir) }
		if dir == "" || slices.IndexFunc(list, func(x Finding) bool { return of(&x) }) != i || count(list, of) < 2 {
			continue
		}
		one := list[i]
		one.Class, one.Field, one.File, one.Line, one.Want, one.Have = MissingFile, "files", dir, 0, "", ""
		one.Message = "nothing is left of what stood in this folder, or is to stand there"
		return c.folders(gathered(list, one, of), base)
	}
	return list
}

// gathered puts one finding in the place of those that are of it: it weighs as much as the worst, and names their files.
func gathered(list []Finding, one Finding, of func(*Finding) bool) []Finding {
	var names, worse []string
	stops := ""
	for i := range list {
		f := &list[i]
		if !of(f) {
			continue
		}
		if at := strings.LastIndex(f.Message, ", which "); at >= 0 && strings.HasSuffix(f.Message, stopsAll) {
			stops = f.Message[at:]
		}
		if names = append(names, strings.TrimPrefix(f.File, one.File+"/")); f.Severity == Danger {
			worse = append(worse, names[len(names)-1]+": "+f.Message)
		}
		if Rank(f.Severity) < Rank(one.Severity) {
			one.Severity = f.Severity
		}
		if f.Repository != one.Repository {
			one.Repository = ""
		}
		one.Beside, one.Stays = one.Beside && f.Beside, one.Stays && f.Stays
	}
	slices.Sort(names)
	one.Want = strings.Join(slices.Compact(names), " ")
	one.Message += ": " + some(slices.Compact(names)) + stops
	if len(worse) > 0 {
		one.Message += "; " + some(worse)
	}
	return append(slices.DeleteFunc(list, func(x Finding) bool { return of(&x) || x.Class == one.Class && x.File == one.File }), one)
}

// common is the folder below one in which all stood of which findings tell that it is gone.
func common(list []Finding, dir string) string {
	deepest := ""
	for i := range list {
		f := &list[i]
		switch {
		case dir == "" || !f.vanished() || !below(f.File, dir):
		case deepest == "":
			deepest = path.Dir(f.File)
		default:
			for deepest != dir && !below(f.File, deepest) {
				deepest = path.Dir(deepest)
			}
		}
	}
	return deepest
}

// vanished reports whether a finding tells that a file is gone, or something that it said.
func (f *Finding) vanished() bool {
	switch f.Class {
	case SystemChanged, SettingChanged, HoldChanged, PinChanged, ServiceChanged:
		return f.Have == "" && f.Want != ""
	}
	return f.gone() || f.Class == MissingSource
}

// emptied is the highest folder above a file of which nothing stands any more; empty where only the file is gone.
func emptied(file string, files map[string]bool) (dir string) {
	for up := path.Dir(file); len(up) > 1; up = path.Dir(up) {
		known := 0
		for name, stands := range files {
			if !below(name, up) {
				continue
			}
			if known++; stands {
				return dir
			}
		}
		if known > 1 {
			dir = up
		}
	}
	return dir
}

// stand are the files that stood when the policy came or are the policy's, with whether they stand there now.
func (c *comparer) stand(was *source.Survey) map[string]bool {
	files := map[string]bool{}
	note := func(s *source.Survey, stands bool) {
		for i := range s.Files {
			files[s.Files[i].Path] = stands
		}
		for i := range s.Keys {
			files[s.Keys[i].Where] = stands
		}
		for i := range s.Deciding {
			if d := &s.Deciding[i]; len(d.Lines) > 0 && d.File != "" && !source.IsOpen(d.Lines[0]) {
				files[d.File] = stands
			}
		}
	}
	note(was, false)
	for path := range c.sheet.Paths() {
		files[path] = false
	}
	note(c.survey, true)
	return files
}

// below reports whether a file stands below a folder.
func below(file, dir string) bool {
	return len(file) > len(dir) && file[:len(dir)] == dir && file[len(dir)] == '/'
}

// count counts the findings that are of something.
func count(list []Finding, of func(*Finding) bool) (n int) {
	for i := range list {
		if of(&list[i]) {
			n++
		}
	}
	return n
}
