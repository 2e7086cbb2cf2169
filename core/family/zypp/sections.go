package zypp

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/text/ini"
)

// section is what one file says under one name.
type section struct {
	alias  string
	line   int
	keys   []string
	values map[string][]string // all values of a key, in order
	lines  map[string]int
}

func (s *section) set(key, value string, line int) {
	if s.values[key] == nil {
		s.keys = append(s.keys, key)
	}
	s.values[key] = append(s.values[key], value)
	s.lines[key] = line
}

func newSection(alias string, line int) *section {
	return &section{alias: alias, line: line, values: map[string][]string{}, lines: map[string]int{}}
}

func (s *section) located() bool {
	for _, key := range []string{"baseurl", "mirrorlist", "metalink"} {
		if len(s.urls(key)) > 0 {
			return true
		}
	}
	return false
}

// merge joins the sections of one name. What stands before the first header has
// no name, which zypper refuses unless it is nothing but URLs.
func (r *reader) merge(f *ini.File, name string) []*section {
	var out []*section
	byName := map[string]*section{}
	for i := range f.Sections {
		s := &f.Sections[i]
		alias := f.Name(s)
		if s.Headless {
			nameless := newSection("", int(s.Line))
			for _, e := range f.Entries(s) {
				if !slices.Contains(multi, f.Key(&e)) {
					r.refuse(name, int(e.Line), "%q stands before the first section", f.Key(&e))
					break
				}
				nameless.set(f.Key(&e), f.Value(&e), int(e.Line))
			}
			r.readable(name, nameless)
			continue
		}
		if alias == "" || alias[0] == '.' {
			r.refuse(name, int(s.Line), "a repository cannot be named %q", alias)
			continue
		}
		at := byName[alias]
		if at == nil {
			at = newSection(alias, int(s.Line))
			byName[alias] = at
			out = append(out, at)
		}
		for _, e := range f.Entries(s) {
			at.set(f.Key(&e), f.Value(&e), int(e.Line))
		}
	}
	return out
}

func (r *reader) drop(file string, s *section, why string) {
	problems := len(r.Problems)
	src := r.build(file, s)
	r.Problems = r.Problems[:problems]
	src.Enabled, src.DisabledBy = false, why
	r.later = append(r.later, src)
}

// words splits a line of URLs: at blanks, which commas may stand beside.
func words(line string) []string {
	out := strings.FieldsFunc(line, func(c rune) bool { return c == ' ' || c == '\t' })
	for i := range out {
		if i > 0 {
			out[i] = strings.TrimLeft(out[i], ",")
		}
		if i < len(out)-1 {
			out[i] = strings.TrimRight(out[i], ",")
		}
	}
	return slices.DeleteFunc(out, func(w string) bool { return w == "" })
}
