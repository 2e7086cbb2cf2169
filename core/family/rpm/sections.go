package rpm

import (
	"strings"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// section is what stands under one name in one file, whether written once or in
// several places.
type section struct {
	id     string
	line   int
	keys   []string // in order of first use
	values map[string]entry
}

type entry struct {
	text string
	line int
}

func (s *section) set(key string, e entry) {
	if _, ok := s.values[key]; !ok {
		s.keys = append(s.keys, key)
	}
	s.values[key] = e
}

// located reports whether the section says where its repository is.
func (s *section) located() bool {
	for _, key := range []string{"baseurl", "mirrorlist", "metalink"} {
		if s.values[key].text != "" {
			return true
		}
	}
	return false
}

// merge joins the sections of one name.
func merge(f *ini.File) []section {
	out := make([]section, 0, len(f.Sections))
	index := make(map[string]int, len(f.Sections))
	for i := range f.Sections {
		s := &f.Sections[i]
		id := f.Name(s)
		at, ok := index[id]
		if !ok {
			at = len(out)
			index[id] = at
			out = append(out, section{id: id, line: int(s.Line), values: map[string]entry{}})
		}
		list := f.Entries(s)
		for j := range list {
			out[at].set(f.Key(&list[j]), entry{f.Value(&list[j]), int(list[j].Line)})
		}
	}
	return out
}

func (r *reader) sections(f *ini.File, file string) {
	for _, s := range r.joined(f) {
		if s.id == "main" {
			continue
		}
		if r.Full(file, s.line) {
			return
		}
		r.add(file, s)
	}
}

// drop adds a definition that is not in force.
func (r *reader) drop(file string, s section, why string) {
	problems := len(r.Problems)
	src, _ := r.build(file, s)
	r.Problems = r.Problems[:problems]
	src.Enabled, src.DisabledBy = false, why
	r.append(src, 0)
}

func (r *reader) append(s source.Source, cost int) {
	r.Sources = append(r.Sources, s)
	r.costs = append(r.costs, cost)
}

// types are the words that dnf takes for type=.
var types = []string{"", "rpm-md", "rpm", "repomd", "rpmmd", "yum", "YUM"}

func idChar(c rune) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-_.:", c)
}

// plainValue is a value as dnf takes it from a file.
func plainValue(v string) string {
	if v == "None" {
		return ""
	}
	return v
}

// list splits a value as libdnf does: at blanks, commas and line ends. Two commas
// have an empty word between them.
func list(value string) []string {
	var out []string
	skip := func(at int) int {
		for at < len(value) && value[at] == ' ' {
			at++
		}
		return at
	}
	start := skip(0)
	for start < len(value) {
		i := strings.IndexAny(value[start:], " ,\n")
		if i < 0 {
			return append(out, value[start:])
		}
		end := start + i
		out = append(out, value[start:end])
		start = skip(end + 1)
		if start < len(value) && value[start] == ',' && value[end] == ' ' {
			end = start
			start = skip(start + 1)
		}
		if start < len(value) && value[start] == '\n' && (value[end] == ' ' || value[end] == ',') {
			start = skip(start + 1)
		}
	}
	return out
}
