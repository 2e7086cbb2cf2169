package change_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
)

// many are n files, or n entries of one file, that somebody puts beside what a host has.
var many = map[string]func(n int) tree{
	"apt files": func(n int) tree {
		return files(n, "etc/apt/sources.list.d/z%05d.list", "deb http://elsewhere.example/%d x y\n")
	},
	"apt lines": func(n int) tree {
		return tree{"etc/apt/sources.list.d/z.list": entries(n, "deb http://elsewhere.example/%d x y\n")}
	},
	"apt stanzas": func(n int) tree {
		return tree{"etc/apt/sources.list.d/z.sources": entries(n, "Types: deb\nURIs: http://elsewhere.example/%d\nSuites: x\nComponents: y\n\n")}
	},
	"dnf files": func(n int) tree {
		return files(n, "etc/yum.repos.d/z%05d.repo", "[z%[1]d]\nname=z\nbaseurl=http://elsewhere.example/%[1]d\nenabled=1\n")
	},
	"zypper files": func(n int) tree {
		return files(n, "etc/zypp/repos.d/z%05d.repo", "[z%[1]d]\nname=z\nbaseurl=http://elsewhere.example/%[1]d\nenabled=1\n")
	},
}

func files(n int, name, text string) tree {
	out := tree{}
	for i := range n {
		out[fmt.Sprintf(name, i)] = fmt.Sprintf(text, i)
	}
	return out
}

func entries(n int, text string) string {
	var out strings.Builder
	for i := range n {
		fmt.Fprintf(&out, text, i)
	}
	return out.String()
}

// What a crowd of sources costs to be judged and changed grows with it, and no faster: a host sends what it likes. The work
// is counted by what it takes of memory, one use after another.
func TestACrowdCostsNoMoreThanItIsLarge(t *testing.T) {
	places := ownPlaces(t)
	for name, crowd := range many {
		for _, unlisted := range []string{source.UnlistedReport, source.UnlistedSwitchOff, source.UnlistedRemove} {
			t.Run(name+", "+unlisted, func(t *testing.T) {
				family, _, _ := strings.Cut(name, " ")
				taken := func(n int) float64 {
					p := places[family].carried(t)
					sheet := *p.sheet
					sheet.Unlisted = unlisted
					was, is := look(p.files, p.modes, &sheet), p.with(crowd(n))
					now := look(is.files, is.modes, &sheet)
					var before, after runtime.MemStats
					runtime.ReadMemStats(&before)
					for _, x := range []struct{ base, host *drift.Base }{
						{&drift.Base{Sheet: &sheet, Survey: &was.Survey}, &drift.Base{Survey: &now.Survey}},
						{&drift.Base{Sheet: &sheet, Survey: &now.Survey}, &drift.Base{Survey: &was.Survey}},
					} {
						texts, stood := now.Texts, was.Texts
						if x.host.Survey == &was.Survey {
							texts, stood = stood, texts
						}
						drift.Judge(drift.Input{Sheet: &sheet, Before: &sheet, Survey: x.host.Survey, Base: x.base})
						change.Compute(change.Input{Sheet: &sheet, Survey: x.host.Survey, Texts: texts, Before: &sheet, Base: x.base, Stood: stood, Kept: stood})
					}
					runtime.ReadMemStats(&after)
					return float64(after.TotalAlloc - before.TotalAlloc)
				}
				few, twice := taken(400), taken(800)
				assert.Less(t, twice, 2.7*few, "%.1f MB for 400, %.1f MB for 800", few/1e6, twice/1e6)
			})
		}
	}
}

// A file with more sections than anybody edits one by one is left to a person, and that is said.
func TestMoreSectionsThanAreEditedAreLeftToAPerson(t *testing.T) {
	for family, c := range map[string]struct{ file, text string }{
		"dnf":    {"etc/yum.repos.d/z.repo", "[z%[1]d]\nname=z\nbaseurl=http://elsewhere.example/%[1]d\nenabled=1\n"},
		"zypper": {"etc/zypp/repos.d/z.repo", "[z%[1]d]\nname=z\nbaseurl=http://elsewhere.example/%[1]d\nenabled=1\n"},
		"pacman": {"etc/pacman.conf", "[z%[1]d]\nServer = http://elsewhere.example/%[1]d\n"},
	} {
		t.Run(family, func(t *testing.T) {
			p := ownPlaces(t)[family].carried(t)
			sheet := *p.sheet
			sheet.Unlisted = source.UnlistedSwitchOff
			now := p.with(tree{c.file: p.files[c.file] + entries(3000, c.text)})
			r := look(now.files, now.modes, &sheet)
			plan := change.Compute(change.Input{Sheet: &sheet, Survey: &r.Survey, Texts: r.Texts, Before: &sheet})
			assert.Contains(t, strings.Join(plan.Impossible, "\n"), "/"+c.file+": more of its sections would be edited than a change edits")
			few := p.with(tree{c.file: p.files[c.file] + entries(200, c.text)})
			r = look(few.files, few.modes, &sheet)
			assert.Empty(t, change.Compute(change.Input{Sheet: &sheet, Survey: &r.Survey, Texts: r.Texts, Before: &sheet}).Impossible)
		})
	}
}
