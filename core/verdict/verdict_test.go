package verdict_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

const list = "/etc/apt/sources.list"

func entry(file, url, suite string) source.Source {
	return source.Source{
		Family: source.FamilyDeb, File: file, Line: 1, Enabled: true, Kinds: []string{"binary"}, EffURLs: []string{url}, EffSuites: []string{suite},
		Components: []string{"main"}, Checks: source.Checks{Metadata: source.CheckRequired},
	}
}

func sheetSource(repository, file, url string) source.SheetSource {
	return source.SheetSource{
		Repository: repository, File: file, URLs: []string{url}, Suites: []string{"stable"}, Components: []string{"main"},
		Kinds: []string{"binary"}, Enabled: true, Signatures: source.CheckRequired,
	}
}

// a sheet with a source of its own, one that is kept off, a licensed one, and a rule.
func aSheet() *source.Sheet {
	off := sheetSource("gannet-licensed", "/etc/apt/sources.list.d/gannet.sources", "https://licensed.gannet.example/")
	off.IfThere, off.Enabled = true, false
	licensed := sheetSource("plover", "", "https://metrics.plover.example/")
	licensed.Contract = "PL-1"
	return &source.Sheet{
		Family: source.FamilyDeb,
		Files:  []source.SheetFile{{Path: "/etc/apt/sources.list.d/saltmarsh.sources", Repository: "saltmarsh"}},
		Sources: []source.SheetSource{
			sheetSource("saltmarsh", "/etc/apt/sources.list.d/saltmarsh.sources", "https://packages.saltmarsh.example/"), off,
		},
		Licensed: []source.SheetSource{licensed},
		InPlace: []source.InPlace{{
			Repository: "base", Files: []string{list}, URLs: []string{"https://archive.skerry.example/"}, Suites: []string{"mussel"}, Enabled: true,
			Components: []string{"main", "firmware"},
		}},
		Unlisted: source.UnlistedReport,
	}
}

// TestWhatBecomesOfASource holds what is decided of one source, whatever the policy says of
// those that it does not list.
func TestWhatBecomesOfASource(t *testing.T) {
	before := aSheet()
	before.Files = append(before.Files, source.SheetFile{Path: "/etc/apt/sources.list.d/terns.sources", Repository: "terns"})
	off := func(s source.Source) source.Source { s.Enabled = false; return s }
	of := func(family string, s source.Source) source.Source { s.Family = family; return s }
	for name, c := range map[string]struct {
		source  source.Source
		kind    verdict.Kind
		act     verdict.Act // "" where the policy's unlisted says it
		why     string
		demands int
	}{
		"in a file of the policy": {entry("/etc/apt/sources.list.d/saltmarsh.sources", "https://x.example/", "stable"), verdict.Ours, verdict.Stay,
			"is the policy's own", 0},
		"the distribution's own": {entry(list, "https://archive.skerry.example/", "mussel"), verdict.Ruled, verdict.Stay,
			"base says what must hold of it", 1},
		"of a file that was the policy's": {entry("/etc/apt/sources.list.d/terns.sources", "https://terns.example/", "stable"), verdict.Withdrawn,
			verdict.Remove, "the policy does not list terns for this host any more", 0},
		"defined twice": {entry(list, "https://packages.saltmarsh.example/", "stable"), verdict.Doubled, verdict.SwitchOff,
			"defines saltmarsh a second time", 0},
		"another choice": {entry(list, "https://licensed.gannet.example/", "stable"), verdict.Elsewhere, verdict.SwitchOff,
			"is gannet-licensed, and the host follows another choice of its channel", 0},
		"licensed": {entry(list, "https://metrics.plover.example/", "stable"), verdict.Licensed, "",
			"is plover, which needs a seat in the contract PL-1 that the policy does not give this host", 0},
		"of nobody":                  {entry(list, "https://elsewhere.example/", "stable"), verdict.Unlisted, "", "is not in the policy", 0},
		"of nobody, and off":         {off(entry(list, "https://elsewhere.example/", "stable")), verdict.Idle, verdict.Stay, "is off, and the policy says nothing of it", 0},
		"defined twice, and off":     {off(entry(list, "https://packages.saltmarsh.example/", "stable")), verdict.Idle, verdict.Stay, "is off, and the policy says nothing of it", 0},
		"another package manager's":  {of(source.FamilyRpm, entry("/etc/yum.repos.d/x.repo", "https://x.example/", "")), verdict.Foreign, verdict.Stay, "is another package manager's, of which the policy says nothing here", 0},
		"a remote that nobody lists": {of(source.FamilyFlatpak, entry("/var/lib/flatpak/repo/config", "https://x.example/", "")), verdict.Unlisted, "", "is not in the policy", 0},
	} {
		for _, unlisted := range []string{source.UnlistedReport, source.UnlistedSwitchOff, source.UnlistedRemove} {
			t.Run(name+", "+unlisted, func(t *testing.T) {
				sheet := aSheet()
				sheet.Unlisted = unlisted
				survey := &source.Survey{Sources: []source.Source{c.source}, Files: []source.File{{Path: sheet.Files[0].Path}}}
				got, _ := verdict.New(sheet, before, survey).Survey()
				want := c.act
				if want == "" {
					want = map[string]verdict.Act{
						source.UnlistedReport: verdict.Stay, source.UnlistedSwitchOff: verdict.SwitchOff, source.UnlistedRemove: verdict.Remove,
					}[unlisted]
				}
				require.Len(t, got, 1)
				assert.Equal(t, c.kind, got[0].Kind)
				assert.Equal(t, want, got[0].Act)
				assert.Equal(t, c.why, got[0].Why())
				assert.Len(t, got[0].Demands, c.demands)
			})
		}
	}
}

// TestAGapIsWhatNoSourceGives holds that a rule is held against every file, and a source that
// stood for a repository against what the policy says of it now.
func TestAGapIsWhatNoSourceGives(t *testing.T) {
	survey := &source.Survey{
		Sources: []source.Source{entry("/etc/apt/sources.list.d/a.list", "https://packages.saltmarsh.example/", "stable")},
	}
	before := aSheet()
	before.Sources = before.Sources[:1]
	court := verdict.New(before, before, survey)
	got, gaps := court.Survey()
	assert.Equal(t, verdict.Adopted, got[0].Kind, "it is as the policy would write it")
	assert.Equal(t, "saltmarsh", got[0].Repository)
	require.Len(t, gaps, 1)
	assert.Equal(t, "mussel", gaps[0].Suite)
	base := entry(list, "https://archive.skerry.example/", "mussel")
	assert.Empty(t, court.Gaps([]source.Source{base}))
	assert.Equal(t, verdict.Ruled, court.Over([]source.Source{survey.Sources[0], base}, 1, 2)[0].Kind)

	moved := aSheet()
	moved.Sources[0].URLs = []string{"https://mirror.saltmarsh.example/"}
	got, _ = verdict.New(moved, before, survey).Survey()
	assert.Equal(t, verdict.Replaced, got[0].Kind)
	assert.Equal(t, verdict.SwitchOff, got[0].Act)
	assert.Equal(t, "stood for saltmarsh, of which the policy says something else now", got[0].Why())
}
