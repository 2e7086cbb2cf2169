package deb

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/deb822"
)

// pins reads apt's preferences, apt_preferences(5): the main file, then the parts. A mistake
// in one makes apt refuse whatever needs them: everything but fetching the lists.
func (r *reader) pins() {
	var files []string
	if main := r.conf.File("Dir::Etc::preferences"); r.isFile(main) {
		files = append(files, main)
	}
	for _, name := range append(files, r.partFiles(r.conf.File("Dir::Etc::preferencesparts"), "pref")...) {
		text, info, err := r.root.ReadTextInfo(name)
		if err != nil {
			r.Problem(name, 0, "cannot be read: "+family.Plain(err), false)
			continue
		}
		r.Keep(info, name, text)
		if line, trouble := r.pinFile(name, text); trouble != "" {
			r.Problem(name, line, "apt refuses to work with its preferences: "+trouble, true)
			return // apt reads no further
		}
	}
}

// pinFile reads one file; trouble is what apt refuses it for.
func (r *reader) pinFile(name string, text []byte) (line int, trouble string) {
	f := deb822.Parse(text)
	for i := range f.Stanzas {
		line = f.Line(f.Stanzas[i].Start)
		packages, _ := f.Get(i, "Package")
		if strings.TrimSpace(packages) == "" {
			return line, "a record has no Package"
		}
		if r.Crowded(len(r.Pins), "pins", name, line) {
			return 0, ""
		}
		pin, ok := f.Get(i, "Pin")
		if !ok {
			continue
		}
		kind, rest, _ := cutBlank(strings.TrimSpace(pin))
		p := source.Pin{File: name, Line: line, Packages: strings.Fields(packages), Pin: strings.TrimSpace(strings.ToLower(kind) + " " + rest)}
		written, _ := f.Get(i, "Pin-Priority")
		p.Priority = leading(written)
		switch strings.ToLower(kind) {
		case "release", "origin":
			p.Valid = true
		case "version":
			p.Valid = packages != "*"
		}
		if !p.Valid {
			r.Problem(name, line, fmt.Sprintf("apt does not understand the pin %q, and goes on without it", pin), false)
			r.Pins = append(r.Pins, p)
			continue
		}
		switch {
		case p.Priority < math.MinInt16 || p.Priority > math.MaxInt16:
			return line, fmt.Sprintf("the priority %q is none of -32768 to 32767", written)
		case p.Priority == 0:
			return line, "a pin has no priority, or 0"
		}
		p.Priority = max(p.Priority, math.MinInt16+1) // apt keeps the last one for itself
		r.Pins = append(r.Pins, p)
	}
	if f.Broken >= 0 {
		return f.Line(f.Broken), "no field can be made of the text to the end of the file (is a colon missing?)"
	}
	return 0, ""
}

// cutBlank cuts a text at its first blank.
func cutBlank(s string) (word, rest string, found bool) {
	i := strings.IndexAny(s, " \t\r\n\v\f")
	if i < 0 {
		return s, "", false
	}
	return s[:i], strings.TrimLeft(s[i:], " \t\r\n\v\f"), true
}

// leading reads the number that a text begins with, as strtol does; 0 where it is none, and
// beyond 16 bits where it is too large to be told.
func leading(s string) int {
	s = strings.TrimLeft(s, " \t\r\n\v\f")
	end := 0
	if end < len(s) && (s[end] == '-' || s[end] == '+') {
		end++
	}
	for end < len(s) && s[end] >= '0' && s[end] <= '9' {
		end++
	}
	n, err := strconv.ParseInt(s[:end], 10, 32)
	if err != nil && end > 0 && s[end-1] >= '0' && s[end-1] <= '9' {
		return math.MaxInt32
	}
	return int(n)
}
