package preview_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/source"
)

func TestWeakens(t *testing.T) {
	unchecked := source.SheetSource{Repository: "shelf", File: "/etc/apt/sources.list.d/shelf.sources", Enabled: true, URLs: []string{"http://shelf.brinewick.test/deb/"}, Suites: []string{"shelf"}, Signatures: source.CheckOff}
	checked := unchecked
	checked.Signatures = source.CheckRequired
	local := unchecked
	local.URLs = []string{"file:/srv/shelf/"}
	already := source.Survey{Sources: []source.Source{{Family: "deb", File: "/etc/apt/sources.list.d/own.list", Enabled: true, EffURLs: unchecked.URLs, EffSuites: unchecked.Suites, Checks: source.Checks{Metadata: source.CheckOff, Packages: source.CheckOff}}}}
	mirrored := source.Sheet{Family: "rpm", InPlace: []source.InPlace{{Repository: "base", Sections: []string{"own"}, Enabled: true,
		Mirrors: []source.Mirror{{Of: "https://archive.foreland.example/", At: "http://mirror.reef.brinewick.test/foreland/"}}}}}
	plain := func(lists string) source.Survey {
		return source.Survey{Sources: []source.Source{{Family: "rpm", ID: "own", File: "/etc/yum.repos.d/own.repo", Line: 3, Enabled: true,
			URLs: []string{"https://archive.foreland.example/9/"}, Checks: source.Checks{Metadata: lists, Packages: source.CheckRequired}}}}
	}
	for _, c := range []struct {
		name   string
		sheet  source.Sheet
		survey source.Survey
		want   []string
	}{
		{"checked", source.Sheet{Family: "deb", Sources: []source.SheetSource{checked}}, source.Survey{}, nil},
		{"over http", source.Sheet{Family: "deb", Sources: []source.SheetSource{unchecked}}, source.Survey{}, []string{"signatures of shelf are not checked, and it comes over http, which anybody on the way can change"}},
		{"from a folder", source.Sheet{Family: "deb", Sources: []source.SheetSource{local}}, source.Survey{}, []string{"signatures of shelf are not checked"}},
		{"as it is already", source.Sheet{Family: "deb", Sources: []source.SheetSource{unchecked}}, already, nil},
		{"the distribution's own off", source.Sheet{Family: "deb", InPlace: []source.InPlace{{Repository: "base"}}}, source.Survey{}, []string{"base is switched off, so its updates do not come any more"}},
		{"a key for all of pacman", source.Sheet{Family: "arch", Keys: []source.SheetKey{{Name: "fulmar-2025", Fingerprint: "AA", Path: "/etc/pacman.d/lantern-keys/fulmar-2025.asc"}}}, source.Survey{}, []string{"the key fulmar-2025 comes to be trusted for every source: pacman knows no other way"}},
		{"over http from a mirror, unchecked", mirrored, plain(source.CheckOff), []string{"/etc/yum.repos.d/own.repo:3 would come over http from the site's mirror, and nobody checks the signature of its lists"}},
		{"over http from a mirror, checked", mirrored, plain(source.CheckRequired), nil},
		{"one that it has", source.Sheet{Family: "arch", Keys: []source.SheetKey{{Name: "fulmar-2025", Fingerprint: "AA", Path: "/etc/pacman.d/lantern-keys/fulmar-2025.asc"}}}, source.Survey{Keys: []source.Key{{Fingerprint: "AA", Scope: source.ScopeAny}}}, nil},
	} {
		assert.Equal(t, c.want, preview.Weakens(&c.sheet, &c.survey), c.name)
	}
}

func TestOverrides(t *testing.T) {
	sheet := &source.Sheet{Family: "arch", InPlace: []source.InPlace{{Repository: "base"}},
		Files:   []source.SheetFile{{Path: "/f", Repository: "fulmar"}, {Path: "/g", Repository: "gannet"}},
		Sources: []source.SheetSource{{Repository: "fulmar", Enabled: true, Level: 1}, {Repository: "gannet", Enabled: true}}}
	edit := func(path, action string) []change.FileEdit { return []change.FileEdit{{Path: path, Action: action}} }
	assert.Equal(t, []string{"fulmar stands above base, gannet: packages of the same name come from it"}, preview.Overrides(sheet, edit("/f", change.Create)))
	assert.Empty(t, preview.Overrides(sheet, edit("/f", change.Remove)))
	assert.Empty(t, preview.Overrides(sheet, edit("/g", change.Create)), "gannet stands above nothing")
	assert.Empty(t, preview.Overrides(sheet, nil), "nothing of it changes")
}
