package change_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/survey"
)

// lineEdits are what a hand does to one line of a file.
var lineEdits = map[string]func(line string) string{
	"comments it":       func(l string) string { return "#" + l },
	"takes it out":      func(string) string { return "" },
	"empties it":        func(string) string { return "\n" },
	"writes it twice":   func(l string) string { return l + l },
	"cuts it":           func(l string) string { return l[:len(l)-min(2, len(l))] + "\n" },
	"spoils its name":   func(l string) string { return ";" + l },
	"quotes it":         func(l string) string { return `"` + l },
	"writes behind it":  func(l string) string { return strings.TrimSuffix(l, "\n") + " x\n" },
	"gives it a CRLF":   func(l string) string { return strings.TrimSuffix(l, "\n") + "\r\n" },
	"takes its value":   func(l string) string { return strings.SplitAfter(l, "=")[0] + "\n" },
	"takes its sign":    func(l string) string { return strings.TrimLeft(l, "# ") },
	"continues another": func(l string) string { return " " + l },
}

// twice are edits of a line that make two of one: of which each is told.
func twice(file, edit string) bool {
	return file == "etc/dnf/dnf.conf" && edit == "continues another" || file == zyppLock && (edit == "empties it" || edit == "takes its value")
}

// worst is the rank of the worst of some findings that are not usual: the less, the worse.
func worst(list []drift.Finding, usual map[string]bool) int {
	out := drift.Rank(drift.Note) + 1
	for i := range list {
		if f := &list[i]; !usual[f.Key()] {
			out = min(out, drift.Rank(f.Severity))
		}
	}
	return out
}

// edited is a place to which the policy was carried, as hands find it.
type edited struct {
	place
	base  *drift.Base
	texts map[string][]byte
	usual map[string]bool // findings that there are anyway
}

// editedPlaces are places of every family, and such where what one file says decides on what others come to.
func editedPlaces(t *testing.T) map[string]edited {
	places := map[string]place{"apt": debPlace(), "dnf": rpmPlace(), "zypper": zyppPlace(t), "pacman": archPlace(), "flatpak": flatpakPlace(),
		"pacman, above": archAbove(), "dnf, by main": rpmByMain(), "zypper, by main": zyppByMain(t),
		"stanzas": debPlace().with(tree{listFile: "", "etc/apt/sources.list.d/skerry.sources": ownStanzas})}
	out := map[string]edited{}
	for name, p := range places {
		p = p.carried(t)
		r := look(p.files, p.modes, p.sheet)
		w := edited{p, &drift.Base{Sheet: p.sheet, Survey: &r.Survey}, r.Texts, map[string]bool{}}
		for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: w.base}) {
			w.usual[f.Key()] = true
		}
		out[name] = w
	}
	return out
}

// found is what a place looks like after somebody was there, and what is told of that.
func (w edited) found(now place) (r survey.Result, list []drift.Finding) {
	r = look(now.files, now.modes, now.sheet)
	for _, f := range drift.Judge(drift.Input{Sheet: w.sheet, Before: w.sheet, Survey: &r.Survey, Base: w.base}) {
		if !w.usual[f.Key()] {
			list = append(list, f)
		}
	}
	return r, list
}

// lighter says what is told where that weighs less than what there is; empty where it does not.
func (w edited) lighter(r survey.Result, list []drift.Finding) string {
	every := drift.Judge(drift.Input{Sheet: w.sheet, Before: w.sheet, Survey: &r.Survey, Base: w.base, All: true})
	nothing := []string{drift.Refused, drift.SwitchedOff, drift.MissingSource, drift.MissingFile, drift.MissingKey} // comes from there any more
	stopped := slices.ContainsFunc(list, func(f drift.Finding) bool { return slices.Contains(nothing, f.Class) })
	if !stopped && worst(every, w.usual) < worst(list, nil) {
		return fmt.Sprintf("what is told weighs less than what there is: %+v of %+v", list, every)
	}
	return ""
}

// healed says what is not as it was after healing; empty where all is.
func (w edited) healed(now place, r survey.Result) string {
	for name := range w.texts { // as the agent adds what is not read any more
		if text, there := now.files[name[1:]]; there && r.Texts[name] == nil {
			r.Texts[name] = []byte(text)
		}
	}
	plan := change.Compute(change.Input{Sheet: w.sheet, Survey: &r.Survey, Texts: r.Texts, Before: w.sheet, Kept: w.texts, Base: w.base, Stood: w.texts})
	if len(plan.Impossible) > 0 {
		return "is impossible: " + strings.Join(plan.Impossible, "; ")
	}
	now.take(plan)
	for name, text := range now.files {
		if was, stood := w.files[name]; stood && text != was {
			return fmt.Sprintf("%s says\n%s", name, text)
		} else if !stood && !strings.HasSuffix(name, change.Aside) {
			return "there is " + name
		}
	}
	for name := range w.files {
		if _, there := now.files[name]; !there {
			return "there is no " + name
		}
	}
	return ""
}

// One edit of one line is one finding, and where healing takes it back, every byte is back.
func TestAnEditOfALineIsOneFinding(t *testing.T) {
	stood := editedPlaces(t)
	found, tried := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		tried++
		w := stood[rapid.SampledFrom(slices.Sorted(maps.Keys(stood))).Draw(t, "family")]
		var files []string
		for _, file := range slices.Sorted(maps.Keys(w.files)) {
			if text := w.files[file]; strings.HasSuffix(text, "\n") && !strings.Contains(text, "PGP") && !strings.HasPrefix(file, "var/lib/dpkg/") && file != "etc/os-release" {
				files = append(files, file)
			}
		}
		file := rapid.SampledFrom(files).Draw(t, "file")
		lines := strings.SplitAfter(strings.TrimSuffix(w.files[file], "\n"), "\n")
		at := rapid.IntRange(0, len(lines)-1).Draw(t, "line")
		edit := rapid.SampledFrom(slices.Sorted(maps.Keys(lineEdits))).Draw(t, "edit")
		line := strings.TrimSuffix(lines[at], "\n") + "\n"
		text := strings.Join(lines[:at], "") + lineEdits[edit](line) + strings.Join(lines[at+1:], "")
		if at < len(lines)-1 {
			text += "\n"
		}
		now := w.with(tree{file: text})
		r, list := w.found(now)
		if len(list) > 1 && !twice(file, edit) {
			t.Fatalf("%s:%d %q: somebody %s, and that is %d findings: %+v", file, at+1, line, edit, len(list), list)
		}
		if less := w.lighter(r, list); less != "" {
			t.Fatalf("%s:%d %q: somebody %s, and %s", file, at+1, line, edit, less)
		}
		if len(list) != 1 || list[0].Stays || list[0].Class == drift.UnlistedSource {
			return
		}
		found++
		if left := w.healed(now, r); left != "" {
			t.Fatalf("%s:%d %q: somebody %s; healed %s", file, at+1, line, edit, left)
		}
	})
	if tried > 50 && found == 0 {
		t.Fatal("nothing was found of any edit")
	}
}
