package deb

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/aptline"
	"patientlantern.example/lantern/core/text/deb822"
)

func (r *reader) lines(name string, text []byte) (list []source.Source, bad []source.Problem) {
	f := aptline.Parse(text)
	for i := range f.Lines {
		l := &f.Lines[i]
		switch l.Kind {
		case aptline.Malformed:
			bad = append(
				bad,
				source.Problem{
					Family:  Family,
					File:    name,
					Line:    i + 1,
					Message: "apt refuses the entry: " + lineTrouble(l.Err),
					Fatal:   true,
				},
			)
			continue
		case aptline.Entry, aptline.Off:
		default:
			continue
		}
		s := source.Source{
			Family: Family, File: name, Line: i + 1, Enabled: l.Kind == aptline.Entry,
			Kinds: kinds([]string{l.Type}), URLs: []string{l.URI.Value}, Suites: []string{l.Suite.Value},
		}
		if !s.Enabled {
			s.DisabledBy = source.OffByComment
		}
		for _, c := range l.Components {
			s.Components = append(s.Components, c.Value)
		}
		options := make(map[string]string, len(l.Options))
		for _, o := range l.Options {
			options[o.Key] = o.Value
		}
		r.finish(&s, options, options["arch"], true)
		list = append(list, s)
	}
	return list, bad
}

// lineTrouble turns apt's name for what is wrong with a line into a sentence.
func lineTrouble(err string) string {
	switch err {
	case "type":
		return "it has a type and nothing else"
	case "URI":
		return "it has no URL, or a quote or bracket in it is not closed"
	case "Suite":
		return "it has no suite"
	case "URI parse":
		return "its URL has no scheme"
	case "Component":
		return "it has no component, and the suite does not end in /"
	case "absolute Suite Component":
		return "a suite that ends in / takes no component"
	}
	return err
}

// optionNames maps the fields of a stanza to the options of a line.
var optionNames = map[string]string{
	"architectures": "arch", "architectures-add": "arch+", "architectures-remove": "arch-",
	"languages": "lang", "languages-add": "lang+", "languages-remove": "lang-",
	"targets": "target", "targets-add": "target+", "targets-remove": "target-",
	"trusted": "trusted", "check-valid-until": "check-valid-until", "valid-until-min": "valid-until-min",
	"valid-until-max": "valid-until-max", "check-date": "check-date", "date-max-future": "date-max-future",
	"signed-by": "signed-by", "pdiffs": "pdiffs", "by-hash": "by-hash",
}

func (r *reader) stanzas(name string, text []byte) (list []source.Source, bad []source.Problem) {
	f := deb822.Parse(text)
	refuse := func(line int, format string, args ...any) {
		bad = append(
			bad,
			source.Problem{
				Family:  Family,
				File:    name,
				Line:    line,
				Message: "apt refuses the stanza: " + fmt.Sprintf(format, args...),
				Fatal:   true,
			},
		)
	}
	for i := range f.Stanzas {
		line := f.Line(f.Stanzas[i].Start)
		if f.Stanzas[i].Field("Types") == nil {
			refuse(line, "it has no Types field")
			continue
		}
		types := f.Words(i, "Types")
		if n := slices.IndexFunc(types, func(t string) bool { return t != "deb" && t != "deb-src" }); n >= 0 {
			refuse(line, "type %q is not known", types[n])
			continue
		}
		if len(types) == 0 {
			continue
		}
		s := source.Source{
			Family: Family, File: name, Line: line, Enabled: true, Kinds: kinds(types),
			URLs: f.Words(i, "URIs"), Suites: f.Words(i, "Suites"), Components: f.Words(i, "Components"),
		}
		if v, _ := f.Get(i, "Enabled"); v != "" && !isTrue(v, true) {
			s.Enabled, s.DisabledBy = false, source.OffByFlag
		}
		if trouble := stanzaTrouble(&s); trouble != "" && s.Enabled {
			refuse(line, "%s", trouble)
			continue
		}
		options := map[string]string{}
		for n := range f.Stanzas[i].Fields {
			fd := &f.Stanzas[i].Fields[n]
			key := fd.Name
			switch lower := strings.ToLower(key); lower {
			case "types", "uris", "suites", "components", "enabled":
				continue
			case "architectures", "signed-by":
				key = optionNames[lower]
			}
			options[key] = f.Value(fd)
		}
		r.finish(&s, options, strings.Join(f.Words(i, "Architectures"), ","), false)
		list = append(list, s)
	}
	if f.Broken >= 0 {
		refuse(f.Line(f.Broken), "no field can be made of the text to the end of the file (is a colon missing?)")
	}
	return list, bad
}

func stanzaTrouble(s *source.Source) string {
	if len(s.URLs) == 0 {
		return "it has no URIs"
	}
	if len(s.Suites) == 0 {
		return "it has no Suites"
	}
	for _, u := range s.URLs {
		if !strings.Contains(u, ":") {
			return fmt.Sprintf("the URL %q has no scheme", family.MaskURL(u))
		}
	}
	for _, suite := range s.Suites {
		flat := strings.HasSuffix(suite, "/")
		if flat && len(s.Components) > 0 {
			return fmt.Sprintf("the suite %q ends in / and takes no Components", suite)
		}
		if !flat && len(s.Components) == 0 {
			return fmt.Sprintf("it has no Components, and the suite %q does not end in /", suite)
		}
	}
	return ""
}

func kinds(types []string) []string {
	var out []string
	for _, t := range types {
		k := "binary"
		if t == "deb-src" {
			k = "source"
		}
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return out
}

// isTrue reads a boolean as apt does: numbers, then words, else the default.
func isTrue(v string, def bool) bool {
	if on, ok := source.Truth(Family, v); ok {
		return on
	}
	return def
}
