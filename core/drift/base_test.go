package drift_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
)

// drawn is a survey of a host with anything on it.
func drawn(t *rapid.T, name string) *source.Survey {
	pick := func(list ...string) string { return rapid.SampledFrom(list).Draw(t, name) }
	s := &source.Survey{
		Traits:   source.Traits{Family: "deb", Architectures: []string{"amd64"}, OS: source.OS{ID: "skerry", Version: pick("11", "12", "12")}},
		Settings: []source.Setting{}, Pins: []source.Pin{}, Holds: []source.Hold{}, Services: []source.Service{}, Files: []source.File{},
	}
	for i := range rapid.IntRange(0, 5).Draw(t, name+" sources") {
		file := pick("/etc/apt/sources.list", "/etc/apt/sources.list.d/a.list")
		s.Sources = append(s.Sources, source.Source{Family: "deb", File: file, Line: i + 1, Enabled: pick("on", "on", "off") == "on", Kinds: []string{"binary"},
			EffURLs: []string{pick("http://a.example/", "http://b.example/")}, EffSuites: []string{pick("mussel", "mussel-updates")},
			Components: []string{pick("main", "extra")}, Checks: source.Checks{Packages: "off", Metadata: pick("required", "required", "off")},
			Options: map[string]string{pick("lang", "check-date"): pick("no", "yes")}})
	}
	for i := range rapid.IntRange(0, 3).Draw(t, name+" settings") {
		s.Settings = append(s.Settings, source.Setting{Family: "deb", Name: pick("Acquire::http::Proxy", "APT::Default-Release", "DPkg::Pre-Invoke::", "Acquire::AllowInsecureRepositories"),
			Value: pick("a", "true"), File: "/etc/apt/apt.conf", Line: i + 1, Touches: []string{pick("trust", "origin", "program", "transport")}})
	}
	for i := range rapid.IntRange(0, 3).Draw(t, name+" pins") {
		s.Pins = append(s.Pins, source.Pin{File: "/etc/apt/preferences", Line: i, Packages: []string{pick("*", "tern")}, Pin: "release n=" + pick("mussel", "limpet"), Priority: 500 + i, Valid: true})
	}
	for range rapid.IntRange(0, 3).Draw(t, name+" keys") {
		s.Keys = append(s.Keys, source.Key{Fingerprint: pick("AA", "BB", "CC"), Where: "/etc/apt/trusted.gpg.d/" + pick("a", "b") + ".asc", Scope: source.ScopeAny, Used: pick("y", "y", "n") == "y", UnusedBecause: ""})
	}
	for _, p := range []string{"/etc/apt/sources.list", "/etc/apt/sources.list.d/a.list"} {
		s.Files = append(s.Files, source.File{Path: p, Digest: pick("x", "y", "z"), Mode: pick("0644", "0644", "0666")})
	}
	return s
}

// A host that is its base has no finding that follows from it, whatever stands there; what
// differs is found, and judged alike whenever it is judged.
func TestWhatIsAsItWasIsNoDrift(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sheet := &source.Sheet{Family: "deb", Unlisted: rapid.SampledFrom([]string{source.UnlistedReport, source.UnlistedRemove}).Draw(t, "unlisted")}
		a, b := drawn(t, "a"), drawn(t, "b")
		same := drift.Judge(drift.Input{Sheet: sheet, Survey: a, Base: &drift.Base{Sheet: sheet, Survey: a}})
		for _, f := range same {
			require.False(t, f.Beside, "%+v", f)
		}
		in := drift.Input{Sheet: sheet, Survey: b, Base: &drift.Base{Sheet: sheet, Survey: a}}
		once, again := drift.Judge(in), drift.Judge(in)
		require.Equal(t, once, again)
		keys := map[string]bool{}
		for _, f := range once {
			require.GreaterOrEqual(t, drift.Rank(f.Severity), 0, "%+v", f)
			require.Contains(t, drift.Classes, f.Class)
			require.NotEmpty(t, f.Message)
			keys[f.Key()] = true
		}
		// What is found without a base is found with one, or told in a finding of the same file.
		for _, f := range drift.Compare(sheet, b) {
			told := keys[f.Key()] || slices.ContainsFunc(once, func(x drift.Finding) bool {
				return x.File == f.File && drift.Rank(x.Severity) <= drift.Rank(f.Severity)
			})
			require.True(t, told, "%+v is told no more: %+v", f, once)
		}
	})
}

// However much a host says, as many findings are told as somebody reads, the worst ones.
func TestManyFindingsAreCounted(t *testing.T) {
	sheet := &source.Sheet{Family: "deb", Unlisted: source.UnlistedReport}
	s := &source.Survey{Traits: source.Traits{Family: "deb"}}
	for i := range 5_000 {
		checked := source.CheckRequired
		if i > 4_900 {
			checked = source.CheckOff
		}
		s.Sources = append(s.Sources, source.Source{Family: "deb", File: "/etc/apt/sources.list", Line: i + 1, Enabled: true, EffURLs: []string{fmt.Sprintf("http://h/%d/", i)},
			EffSuites: []string{"x"}, Checks: source.Checks{Metadata: checked}})
		s.Pins = append(s.Pins, source.Pin{File: "/etc/apt/preferences", Line: i, Packages: []string{"*"}, Pin: fmt.Sprint("release n=", i), Valid: true})
	}
	base := &source.Survey{Traits: s.Traits, Pins: []source.Pin{}}
	for i := range 5_000 {
		base.Pins = append(base.Pins, source.Pin{File: "/etc/apt/preferences", Line: i, Packages: []string{"*"}, Pin: fmt.Sprint("release a=", i), Valid: true})
	}
	found := drift.Judge(drift.Input{Sheet: sheet, Survey: s, Base: &drift.Base{Survey: base}})
	byClass := map[string]int{}
	dangers := 0
	for _, f := range found {
		byClass[f.Class]++
		if f.Severity == drift.Danger {
			dangers++
		}
	}
	assert.Equal(t, map[string]int{drift.UnlistedSource: 201, drift.PinChanged: 201}, byClass)
	assert.Equal(t, 99, dangers, "the worst are told")
	assert.Contains(t, found[len(found)-2].Message+found[len(found)-1].Message, "4800 more findings of this class are not told one by one")
}

// A file that was the policy's once and is so no more is somebody's when it stands there.
func TestAFileThatThePolicyHasGivenUpIsLookedAt(t *testing.T) {
	pref, key := "/etc/apt/preferences.d/lantern-saltmarsh.pref", "/etc/apt/trusted.gpg.d/saltmarsh.asc"
	then := &source.Sheet{Family: "deb", Unlisted: source.UnlistedReport, Files: []source.SheetFile{{Path: pref, Mode: "0644"}, {Path: key, Mode: "0644"}}}
	now := &source.Sheet{Family: "deb", Unlisted: source.UnlistedReport}
	base := &source.Survey{Traits: source.Traits{Family: "deb"}, Pins: []source.Pin{{File: pref, Packages: []string{"*"}, Pin: "release n=mussel", Priority: 900, Valid: true}}}
	is := &source.Survey{Traits: source.Traits{Family: "deb"}, Pins: []source.Pin{{File: pref, Packages: []string{"*"}, Pin: "origin elsewhere.example", Priority: 1001, Valid: true}},
		Keys: []source.Key{{Fingerprint: "AA", Where: key, Scope: source.ScopeAny, Used: true}}}
	var classes []string
	for _, f := range drift.Judge(drift.Input{Sheet: now, Before: now, Survey: is, Base: &drift.Base{Sheet: then, Survey: base}}) {
		classes = append(classes, f.Class)
	}
	assert.ElementsMatch(t, []string{drift.PinChanged, drift.KeyAdded}, classes)
	is.Pins, is.Keys = []source.Pin{}, nil
	assert.Empty(t, drift.Judge(drift.Input{Sheet: now, Before: now, Survey: is, Base: &drift.Base{Sheet: then, Survey: base}}), "it went with the policy")
}

// The list of dnf's older locks is not read where dnf 5 is. That a base of before has locks of it is no drift, and is told.
func TestALockListThatIsNotReadAnyMoreIsTold(t *testing.T) {
	sheet := &source.Sheet{Family: "rpm", Unlisted: source.UnlistedReport}
	hold := source.Hold{Family: "rpm", Kind: source.HoldLock, What: "tide-model-0:1.0-1.*", File: "/etc/dnf/plugins/versionlock.list", Line: 1}
	for _, c := range []struct {
		reach    int
		severity string
	}{{3, drift.Note}, {4, drift.Fault}} {
		was := &source.Survey{Traits: source.Traits{Family: "rpm"}, Settings: []source.Setting{}, Holds: []source.Hold{hold}, Reach: c.reach}
		is := &source.Survey{Traits: source.Traits{Family: "rpm"}, Settings: []source.Setting{}, Holds: []source.Hold{}, Reach: source.Reach}
		found := drift.Judge(drift.Input{Sheet: sheet, Survey: is, Base: &drift.Base{Sheet: sheet, Survey: was}})
		var told []drift.Finding
		for _, f := range found {
			if f.Class == drift.HoldChanged {
				told = append(told, f)
			}
		}
		if assert.Len(t, told, 1, "of reach %d", c.reach) {
			assert.Equal(t, hold.File, told[0].File)
			assert.Equal(t, c.severity, told[0].Severity)
		}
	}
}

// A reader that did not tell groups of packages from packages says the same of a host as one that does; of two that do, the one is
// another thing than the other.
func TestAGroupThatIsIgnoredIsNoPackage(t *testing.T) {
	sheet := &source.Sheet{Family: "arch", Unlisted: source.UnlistedReport}
	sees := func(criteria string, reach int) *source.Survey {
		hold := source.Hold{Family: "arch", Kind: source.HoldIgnore, What: "sea", Criteria: criteria, File: "/etc/pacman.conf", Line: 2}
		return &source.Survey{Traits: source.Traits{Family: "arch"}, Settings: []source.Setting{}, Holds: []source.Hold{hold}, Reach: reach}
	}
	for _, c := range []struct {
		was, is *source.Survey
		found   int
	}{
		{sees("", 11), sees(source.Group, source.Reach), 0}, {sees(source.Group, source.Reach), sees("", 11), 0},
		{sees("", source.Reach), sees(source.Group, source.Reach), 1}, {sees(source.Group, source.Reach), sees(source.Group, source.Reach), 0},
	} {
		found := drift.Judge(drift.Input{Sheet: sheet, Survey: c.is, Base: &drift.Base{Sheet: sheet, Survey: c.was}})
		count := 0
		for _, f := range found {
			if f.Class == drift.HoldChanged {
				count++
			}
		}
		assert.Equal(t, c.found, count, "%+v", found)
	}
}
