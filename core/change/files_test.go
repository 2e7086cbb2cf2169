package change_test

import (
	"maps"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/drift"
)

// fileEdits are what becomes of a whole file: what stands in its folder instead, by name.
var fileEdits = map[string]func(name, text string) tree{
	"deleted":           func(string, string) tree { return nil },
	"emptied":           func(name, _ string) tree { return tree{name: ""} },
	"put aside":         func(name, text string) tree { return tree{name + ".bak": text} },
	"hidden":            func(name, text string) tree { return tree{"." + name: text} },
	"spelt otherwise":   func(name, text string) tree { return tree{strings.ToUpper(name): text} },
	"copied":            func(name, text string) tree { return tree{name: text, "00-copy" + path.Ext(name): text} },
	"renamed":           func(name, text string) tree { return tree{"zz-" + name: text} },
	"ended with a zero": func(name, text string) tree { return tree{name: text + "\x00"} },
	"begun with a mark": func(name, text string) tree { return tree{name: "\ufeff" + text} },
	"cut off":           func(name, text string) tree { return tree{name: text[:len(text)/2]} },
	"cut off at a line": func(name, text string) tree {
		lines := strings.SplitAfter(text, "\n")
		return tree{name: strings.Join(lines[:len(lines)/2], "")}
	},
}

// What becomes of one file is one finding, however many sources, settings and keys stood in it or follow from it, and where healing
// takes it back, every byte is back. Of a file that was added each source is told.
func TestWhatBecomesOfAFileIsOneFinding(t *testing.T) {
	for family, w := range editedPlaces(t) {
		t.Run(family, func(t *testing.T) {
			t.Parallel()
			found := 0
			for _, file := range slices.Sorted(maps.Keys(w.files)) {
				if !strings.HasPrefix(file, "etc/") && file != "var/lib/flatpak/repo/config" || file == "etc/os-release" {
					continue
				}
				for edit, instead := range fileEdits {
					if w.becomes(t, file, edit, instead(path.Base(file), w.files[file])) {
						found++
					}
				}
			}
			assert.Greater(t, found, 3)
		})
	}
}

// becomes checks what is told where other files stand in the place of one, and what healing makes of that; it reports whether anything
// is healed.
func (w edited) becomes(t *testing.T, file, edit string, instead tree) bool {
	t.Helper()
	now := w.with(nil)
	now.modes = maps.Clone(now.modes)
	delete(now.files, file)
	for name, text := range instead {
		now.files[path.Join(path.Dir(file), name)] = text
	}
	r, list := w.found(now)
	added := func(f drift.Finding) bool { return f.Class == drift.UnlistedSource || f.Class == drift.DoubledSource }
	if each := slices.DeleteFunc(slices.Clone(list), added); len(each) > 1 || edit != "copied" && len(list) > 1 {
		t.Errorf("%s is %s, and that is %d findings: %+v", file, edit, len(list), list)
	}
	if less := w.lighter(r, list); less != "" {
		t.Errorf("%s is %s, and %s", file, edit, less)
	}
	if len(list) != 1 || list[0].Stays || added(list[0]) {
		return false
	}
	for name := range now.files { // what nothing reads stays where somebody put it
		if _, before := w.files[name]; !before && edit != "copied" {
			delete(now.files, name)
		}
	}
	if left := w.healed(now, r); left != "" {
		t.Errorf("%s is %s, told is %+v; healed %s", file, edit, list[0], left)
	}
	return true
}
