package drift_test

import (
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

const file = "/etc/apt/sources.list.d/saltmarsh.sources"

func sheet() *source.Sheet {
	return &source.Sheet{
		Family: "deb", Unlisted: source.UnlistedReport,
		Files: []source.SheetFile{{Path: file, Mode: "0644", Text: "as it should be\n", Repository: "saltmarsh"}},
		Sources: []source.SheetSource{{Repository: "saltmarsh", File: file, Enabled: true, Kinds: []string{"binary"}, URLs: []string{"https://a.example/"},
			Suites: []string{"stable"}, Components: []string{"main"}, SignedBy: []string{"AA"}, Signatures: source.CheckRequired}},
	}
}

// survey is a host that is as the sheet says; change breaks it.
func survey(change func(*source.Survey)) *source.Survey {
	s := &source.Survey{
		Files: []source.File{{Path: file, Mode: "0644", Digest: source.Digest([]byte("as it should be\n"))}},
		Sources: []source.Source{{Family: "deb", File: file, Line: 4, Enabled: true, Kinds: []string{"binary"}, EffURLs: []string{"https://a.example/"},
			EffSuites: []string{"stable"}, Components: []string{"main"}, SignedBy: []string{"/etc/apt/keyrings/a.asc"}, Checks: source.Checks{Metadata: source.CheckRequired}}},
		Keys: []source.Key{{Fingerprint: "AA", Where: "/etc/apt/keyrings/a.asc"}},
	}
	change(s)
	return s
}

func TestCompare(t *testing.T) {
	edited := func(f func(*source.Source)) func(*source.Survey) {
		return func(s *source.Survey) { s.Files[0].Digest = "other"; f(&s.Sources[0]) }
	}
	for _, c := range []struct {
		name   string
		change func(*source.Survey)
		want   string
	}{
		{"as it should be", func(*source.Survey) {}, ""},
		{"file gone", func(s *source.Survey) { s.Files, s.Sources = []source.File{}, nil }, "fault missing-file " + file + ":0 the file is not there"},
		{"source gone", func(s *source.Survey) { s.Files[0].Digest, s.Sources = "other", nil }, "fault missing-source " + file + ":1 the source is gone"},
		{"text only", edited(func(*source.Source) {}), "note changed-text " + file + ":1 the text differs, in comments, spacing or fields that change nothing else"},
		{"mode", func(s *source.Survey) { s.Files[0].Mode = "0600" }, "fault changed-mode " + file + ":1 the file has mode 0600; the policy says 0644"},
		{"off", edited(func(s *source.Source) { s.Enabled, s.DisabledBy = false, "flag" }), "fault switched-off " + file + ":4 switched off: off, by flag; the policy says on"},
		{"URL", edited(func(s *source.Source) { s.EffURLs = []string{"https://b.example/"} }), "danger changed-source " + file + ":4 URL: https://b.example/; the policy says https://a.example/"},
		{"suites", edited(func(s *source.Source) { s.EffSuites = []string{"testing"} }), "fault changed-source " + file + ":4 suites: testing; the policy says stable"},
		{"components", edited(func(s *source.Source) { s.Components = []string{"main", "x"} }), "fault changed-source " + file + ":4 components: main x; the policy says main"},
		{"architectures", edited(func(s *source.Source) { s.Archs = []string{"arm64"} }), "fault changed-source " + file + ":4 architectures: arm64; the policy says none"},
		{"another key", edited(func(s *source.Source) { s.SignedBy = []string{"embedded:BB"} }), "danger changed-source " + file + ":4 signing keys: BB; the policy says AA"},
		{"no key", edited(func(s *source.Source) { s.SignedBy = nil }), "danger changed-source " + file + ":4 signing keys: none; the policy says AA"},
		{"checks off", edited(func(s *source.Source) { s.Checks.Metadata = source.CheckOff }), "danger checks-weakened " + file + ":4 signature check: off; the policy says required"},
		{"refused", func(s *source.Survey) {
			s.Problems = []source.Problem{{File: "/etc/apt/sources.list", Line: 3, Message: "no", Fatal: true}, {File: "x", Message: "odd"}}
		}, "fault refused /etc/apt/sources.list:3 this stops the package manager altogether: no"},
		{"one more in our file", func(s *source.Survey) {
			s.Files[0].Digest = "other"
			s.Sources = append(s.Sources, source.Source{Family: "deb", File: file, Line: 9, Enabled: true, EffURLs: []string{"https://c.example/"}, EffSuites: []string{"x"}})
		}, "danger unlisted-source " + file + ":9 a source was added: https://c.example/ x, and its signature is not checked"},
		{"unlisted", func(s *source.Survey) {
			s.Sources = append(s.Sources, source.Source{Family: "deb", File: "/etc/apt/sources.list", Line: 2, Enabled: true, EffURLs: []string{"https://c.example/"}, EffSuites: []string{"x"}, Checks: source.Checks{Metadata: source.CheckRequired}})
		}, "note unlisted-source /etc/apt/sources.list:2 not in the policy: https://c.example/ x"},
		{"unlisted and unchecked", func(s *source.Survey) {
			s.Sources = append(s.Sources, source.Source{Family: "deb", File: "/etc/apt/sources.list", Line: 2, Enabled: true, EffURLs: []string{"https://c.example/"}, EffSuites: []string{"x"}, Checks: source.Checks{Metadata: source.CheckOff}})
		}, "danger unlisted-source /etc/apt/sources.list:2 not in the policy: https://c.example/ x, and its signature is not checked"},
		{"unlisted but off", func(s *source.Survey) {
			s.Sources = append(s.Sources, source.Source{Family: "deb", File: "/etc/apt/sources.list", Line: 2, EffURLs: []string{"https://c.example/"}, EffSuites: []string{"x"}})
		}, ""},
		{"defined twice", func(s *source.Survey) {
			s.Sources = append(s.Sources, source.Source{Family: "deb", File: "/etc/apt/sources.list", Line: 2, Enabled: true, EffURLs: []string{"http://u@a.example/"}, EffSuites: []string{"stable"}})
		}, "danger doubled-source /etc/apt/sources.list:2 defines saltmarsh a second time: http://u@a.example/ stable, and its signature is not checked"},
		{"of another family", func(s *source.Survey) {
			s.Sources = append(s.Sources, source.Source{Family: "rpm", File: "/etc/yum.repos.d/curlew.repo", Line: 2, ID: "curlew", Enabled: true, EffURLs: []string{"https://c.example/"}})
			s.Problems = []source.Problem{{Family: "flatpak", File: "/var/lib/flatpak/repo/config", Line: 3, Message: "no", Fatal: true}}
		}, ""},
		{"a remote of flatpak", func(s *source.Survey) {
			s.Sources = append(s.Sources, source.Source{Family: "flatpak", File: "/var/lib/flatpak/repo/config", Line: 2, ID: "curlew", Enabled: true, EffURLs: []string{"https://c.example/"}, Checks: source.Checks{Packages: "required"}})
		}, "note unlisted-source /var/lib/flatpak/repo/config:2 not in the policy: https://c.example/"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, f := range drift.Compare(sheet(), survey(c.change)) {
				got = append(got, f.Severity+" "+f.Class+" "+strings.TrimSpace(f.File)+":"+strconv.Itoa(f.Line)+" "+f.Message)
			}
			assert.Equal(t, c.want, strings.Join(got, "\n"))
		})
	}
}

func TestTheKeyOfAFindingDoesNotMoveWithItsLine(t *testing.T) {
	a := drift.Finding{Class: drift.SwitchedOff, File: "f", Line: 3, Message: "m"}
	b := a
	b.Line = 9
	assert.Equal(t, a.Key(), b.Key())
	b.File = "g"
	assert.NotEqual(t, a.Key(), b.Key())
}

func TestOptionsThatDecideWhatIsBelievedAreDangers(t *testing.T) {
	s := &source.Sheet{Format: source.FormName(1), Family: "deb"}
	files, src, keys := deb.Render(deb.Definition{Repository: "saltmarsh", Enabled: true, URL: "http://packages.saltmarsh.example/apt/8.x", Suites: []string{"stable"}, Components: []string{"main"}, Signatures: source.CheckOff})
	s.Files, s.Sources, s.Keys = files, []source.SheetSource{src}, keys
	for _, c := range []struct{ add, class, severity, message string }{
		{"Check-Valid-Until: no\n", drift.ChangedSource, drift.Danger, "Check-Valid-Until: no; the policy says none"},
		{"Check-Date: no\n", drift.ChangedSource, drift.Danger, "Check-Date: no; the policy says none"},
		{"# a remark\n", drift.ChangedText, drift.Note, "the text differs, in comments, spacing or fields that change nothing else"},
		{"X-Repolib-Name: Saltmarsh\n", drift.ChangedText, drift.Note, "the text differs, in comments, spacing or fields that change nothing else"},
	} {
		text := files[0].Text + c.add
		have := &source.Survey{Traits: source.Traits{Family: "deb", Architectures: []string{"amd64"}}, Sources: deb.ParseDoc(files[0].Path, []byte(text), []string{"amd64"}).Sources,
			Files: []source.File{{Path: files[0].Path, Digest: source.Digest([]byte(text)), Mode: "0644"}}}
		found := drift.Compare(s, have)
		require.Len(t, found, 1, c.add)
		assert.Equal(t, []string{c.class, c.severity, c.message}, []string{found[0].Class, found[0].Severity, found[0].Message})
	}
}

func TestKeysThatHaveEndedAreFound(t *testing.T) {
	now := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
	at := func(days int) *time.Time { x := now.AddDate(0, 0, days); return &x }
	sheet := &source.Sheet{Sources: []source.SheetSource{{Repository: "saltmarsh", File: "/f", Enabled: true, SignedBy: []string{"AA", "BB"}}}}
	for _, c := range []struct {
		a, b  *time.Time
		found int
		next  *time.Time
	}{{at(-1), at(-2), 1, nil}, {at(-1), at(9), 0, at(9)}, {nil, at(-1), 0, nil}, {at(3), at(5), 0, at(5)}} {
		found, next := drift.KeysEnded(drift.KeyEnds(sheet, &source.Survey{Keys: []source.Key{{Fingerprint: "AA", Expires: c.a}, {Fingerprint: "BB", Expires: c.b}}}), now)
		assert.Len(t, found, c.found)
		if c.next == nil {
			assert.True(t, next.IsZero())
		} else {
			assert.Equal(t, *c.next, next)
		}
	}
	found, _ := drift.KeysEnded(drift.KeyEnds(sheet, &source.Survey{}), now)
	assert.Empty(t, found, "keys that are not there are found elsewhere")
}

// A sentence that is worded anew does not make another finding of it.
func TestAFindingIsKnownWithoutItsSentence(t *testing.T) {
	a := drift.Finding{Class: drift.ChangedMode, File: "/etc/apt/sources.list", Want: "0644", Have: "0600", Message: "the mode is 0600, and 0644 is wanted", Line: 3}
	b := a
	b.Message, b.Line = "its mode differs", 9
	assert.Equal(t, a.Key(), b.Key())
	b.Have = "0666"
	assert.NotEqual(t, a.Key(), b.Key())
}
