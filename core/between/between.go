// Package between tells what stands differently in two surveys of a host, piece by piece: what
// came, what went, and which field of what stayed is another. It knows no policy: everything
// that a survey says is compared, but for the numbers of lines.
package between

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// Kinds of what differs, in the order in which they are told.
var Kinds = []string{"fact", "source", "key", "access", "setting", "pin", "hold", "service", "deciding", "media", "problem", "file"}

// Piece is a piece of configuration that came or went, or one field of it that changed.
type Piece struct {
	Kind  string `json:"kind" doc:"fact, source, key, access, setting, pin, hold, service, deciding, media, problem or file"`
	Name  string `json:"name" doc:"What it is: a section or URL, a fingerprint, a setting, a pattern"`
	File  string `json:"file,omitempty"`
	Field string `json:"field,omitempty" doc:"Absent: all of it came or went"`
	Was   string `json:"was,omitempty" doc:"Absent: it was not there"`
	Is    string `json:"is,omitempty" doc:"Absent: it is not there any more"`
}

// item is a piece of a survey: by what it is told from others, what it says of itself in a line,
// and all of its fields.
type item struct {
	kind, name, file, says string
	fields                 map[string]string
}

func (x *item) key() string { return x.kind + "\x00" + x.name + "\x00" + x.file }

// Compare lists what differs from one survey to a later one, by kind, file and name.
func Compare(was, is *source.Survey) []Piece {
	before, after := map[string][]item{}, map[string][]item{}
	for _, x := range items(was) {
		before[x.key()] = append(before[x.key()], x)
	}
	for _, x := range items(is) {
		after[x.key()] = append(after[x.key()], x)
	}
	keys := maps.Clone(before)
	maps.Copy(keys, after)
	var out []Piece
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		out = append(out, pairs(before[k], after[k])...)
	}
	slices.SortStableFunc(out, func(a, b Piece) int {
		return cmp.Or(
			cmp.Compare(slices.Index(Kinds, a.Kind), slices.Index(Kinds, b.Kind)),
			strings.Compare(a.File, b.File), strings.Compare(a.Name, b.Name), strings.Compare(a.Field, b.Field),
			strings.Compare(a.Was, b.Was), strings.Compare(a.Is, b.Is),
		)
	})
	return out
}

// pairs compares pieces that are called alike: those that are the same are set aside, the
// others are taken in their order.
func pairs(was, is []item) (out []Piece) {
	for i := 0; i < len(was); i++ {
		at := slices.IndexFunc(is, func(x item) bool { return maps.Equal(x.fields, was[i].fields) })
		if at >= 0 {
			was, is = slices.Delete(slices.Clone(was), i, i+1), slices.Delete(slices.Clone(is), at, at+1)
			i--
		}
	}
	for i := range max(len(was), len(is)) {
		switch {
		case i >= len(is):
			x := &was[i]
			out = append(out, Piece{Kind: x.kind, Name: x.name, File: x.file, Was: x.says})
		case i >= len(was):
			x := &is[i]
			out = append(out, Piece{Kind: x.kind, Name: x.name, File: x.file, Is: x.says})
		default:
			out = append(out, fields(&was[i], &is[i])...)
		}
	}
	return out
}

// fields compares two states of one piece.
func fields(was, is *item) (out []Piece) {
	names := maps.Clone(was.fields)
	maps.Copy(names, is.fields)
	for name := range names {
		if a, b := was.fields[name], is.fields[name]; a != b {
			out = append(out, Piece{Kind: is.kind, Name: is.name, File: is.file, Field: name, Was: a, Is: b})
		}
	}
	return out
}

// items are the pieces of a survey.
func items(s *source.Survey) (out []item) {
	add := func(kind, name, file, says string, v any, but ...string) {
		out = append(out, item{kind, name, file, cmp.Or(says, name), flat(v, but)})
	}
	add("fact", "host", "", "", s.Traits)
	for i := range s.Sources {
		x := &s.Sources[i]
		but := []string{"line"}
		if x.Family != source.FamilyArch { // elsewhere the order of sources decides nothing
			but = append(but, "position")
		}
		name := cmp.Or(x.ID, strings.Join(slices.Concat(x.EffURLs, x.EffSuites), " "), x.Mirrorlist, x.Metalink)
		add("source", name, x.File, describe(x), x, but...)
	}
	for i := range s.Keys {
		x := &s.Keys[i]
		add("key", x.Fingerprint, x.Where, strings.Join(x.UserIDs, ", "), x)
	}
	for i := range s.Access {
		add("access", "login", "", said(s.Access[i]), s.Access[i], "line")
	}
	for i := range s.Settings {
		x := &s.Settings[i]
		add("setting", x.Name, "", x.Name+" = "+x.Value, x, "line")
	}
	for i := range s.Pins {
		x := &s.Pins[i]
		add("pin", strings.Join(x.Packages, " "), x.File, fmt.Sprintf("%s: %d", x.Pin, x.Priority), x, "line")
	}
	for i := range s.Holds {
		x := &s.Holds[i]
		add("hold", x.What, x.File, strings.TrimSpace(x.Kind+" "+x.Source), x, "line")
	}
	for i := range s.Services {
		x := &s.Services[i]
		add("service", x.ID, x.File, x.URL, x, "line")
	}
	for i := range s.Deciding {
		x := &s.Deciding[i]
		add("deciding", x.File, x.File, strings.Join(x.Lines, "; "), x)
	}
	for _, m := range s.Media {
		add("media", m, "", "", m)
	}
	for i := range s.Problems {
		x := &s.Problems[i]
		add("problem", x.Message, x.File, "", x, "line")
	}
	for i := range s.Files {
		x := &s.Files[i]
		add("file", x.Path, x.Path, x.Path, x)
	}
	return out
}

// describe is a source in a line.
func describe(x *source.Source) string {
	parts := slices.Concat(x.EffURLs, x.EffSuites, x.Components)
	if len(parts) == 0 {
		parts = []string{cmp.Or(x.Mirrorlist, x.Metalink, x.ID)}
	}
	if !x.Enabled {
		parts = append(parts, "(off)")
	}
	return strings.Join(parts, " ")
}

func said(v any) string {
	b, err := json.Marshal(v)
	if err != nil { // of texts and numbers
		return ""
	}
	return string(b)
}

// flat are the fields of a value as JSON has them, each as a text; lists are one field.
func flat(v any, but []string) map[string]string {
	out := map[string]string{}
	var tree any
	if json.Unmarshal([]byte(said(v)), &tree) != nil {
		return out
	}
	spread(out, "", tree)
	for _, name := range but {
		delete(out, name)
	}
	return out
}

func spread(out map[string]string, name string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			spread(out, strings.TrimPrefix(name+"."+k, "."), x)
		}
	case []any:
		var parts []string
		for _, x := range v {
			if text, ok := x.(string); ok {
				parts = append(parts, text)
			} else {
				parts = append(parts, said(x))
			}
		}
		out[name] = strings.Join(parts, ", ")
	case nil:
		out[name] = ""
	case float64:
		out[name] = strconv.FormatFloat(v, 'f', -1, 64)
	default:
		out[name] = fmt.Sprint(v)
	}
}
