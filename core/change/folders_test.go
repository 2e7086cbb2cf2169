package change_test

import (
	"io/fs"
	"maps"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
)

// folderEdits are what becomes of a folder of which nothing is there any more: what stands in its place, and its mode.
var folderEdits = map[string]struct {
	stands string
	mode   fs.FileMode
}{
	"gone":               {},
	"a file":             {"notes\n", 0o644},
	"a link to nowhere":  {"/srv/none", fs.ModeSymlink | 0o777},
	"a link to itself":   {".", fs.ModeSymlink | 0o777}, // its own name
	"moved, and a link":  {"/srv/aside", fs.ModeSymlink | 0o777},
	"a link out of here": {"../../../../../../tmp", fs.ModeSymlink | 0o777},
}

// What becomes of one folder is at most one finding, however many files stood in it, and where healing takes it back every byte is back.
func TestWhatBecomesOfAFolderIsOneFinding(t *testing.T) {
	for family, w := range editedPlaces(t) {
		t.Run(family, func(t *testing.T) {
			t.Parallel()
			found := 0
			for folder := range foldersOf(w.files) {
				for edit := range folderEdits {
					if w.folderBecomes(t, folder, edit) {
						found++
					}
				}
			}
			assert.Greater(t, found, 3)
		})
	}
}

// foldersOf are the folders of files that decide, and those above them.
func foldersOf(files tree) map[string]bool {
	out := map[string]bool{}
	for name := range files {
		if !strings.HasPrefix(name, "etc/") && name != "var/lib/flatpak/repo/config" {
			continue
		}
		for dir := path.Dir(name); dir != "." && dir != "etc" && dir != "var" && dir != "var/lib"; dir = path.Dir(dir) {
			out[dir] = true
		}
	}
	return out
}

// folderBecomes checks what is told of a folder, and what healing makes of that; it reports whether anything is told.
func (w edited) folderBecomes(t *testing.T, folder, edit string) bool {
	t.Helper()
	now := w.with(nil)
	now.modes = maps.Clone(now.modes)
	if now.modes == nil {
		now.modes = map[string]fs.FileMode{}
	}
	instead := folderEdits[edit]
	quiet := map[string]bool{}                            // files that nobody misses
	kept := !strings.HasPrefix(folder, "var/lib/flatpak") // which is flatpak's whole installation
	for name, text := range w.files {
		if strings.HasPrefix(name, folder+"/") {
			delete(now.files, name)
			kept = kept && w.texts["/"+name] != nil
			alone := w.with(nil)
			delete(alone.files, name)
			_, list := w.found(alone)
			quiet[name] = len(list) == 0
			if edit == "moved, and a link" {
				now.files["srv/aside/"+name[len(folder)+1:]] = text
			}
		}
	}
	if instead.mode != 0 {
		now.files[folder], now.modes[folder] = instead.stands, instead.mode
	}
	if instead.stands == "." {
		now.files[folder] = path.Base(folder)
	}
	r, list := w.found(now)
	if len(list) > 1 {
		t.Errorf("%s is %s, and that is %d findings: %+v", folder, edit, len(list), list)
	}
	if less := w.lighter(r, list); less != "" && (len(list) != 1 || !strings.HasPrefix(list[0].Message, source.NothingBelow)) {
		t.Errorf("%s is %s, and %s", folder, edit, less)
	}
	if edit == "moved, and a link" && len(list) == 1 && (list[0].Class != drift.ChangedMode || list[0].Field != "link") {
		t.Errorf("%s leads elsewhere, and told is %+v", folder, list)
	}
	if edit == "gone" && len(list) == 1 && !list[0].Stays && kept {
		if left := w.without(quiet).healed(now, r); left != "" {
			t.Errorf("%s is gone, told is %+v; healed %s", folder, list[0], left)
		}
	}
	return len(list) == 1
}

// without is such a place without files of which nothing is told.
func (w edited) without(quiet map[string]bool) edited {
	w.files = maps.Clone(w.files)
	maps.DeleteFunc(w.files, func(name, _ string) bool { return quiet[name] })
	return w
}
