package verdict_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// A source that somebody has written defines a repository again wherever the repository has its packages from: at its URL, at
// one of a list of mirrors, and at upstream where the host's site has a mirror.
func TestARepositoryIsKnownByAllOfItsPlaces(t *testing.T) {
	const far, near, third = "https://packages.saltmarsh.example/9/", "http://mirror.reef.brinewick.test/9/", "https://mirror.saltmarsh.example/9/"
	for name, c := range map[string]struct {
		family string
		with   func(s *source.SheetSource)
		lines  string
		want   []string // places at which it is known
	}{
		"apt":            {"deb", func(s *source.SheetSource) { s.URLs = []string{far} }, "", []string{far}},
		"apt at a site":  {"deb", func(s *source.SheetSource) { s.URLs, s.Upstream = []string{near}, []string{far} }, "", []string{near, far}},
		"apt by a list":  {"deb", func(s *source.SheetSource) { s.URLs = []string{"mirror+file:/l/"} }, far + "\n" + third + "\n", []string{far, third}},
		"dnf":            {"rpm", func(s *source.SheetSource) { s.URLs = []string{far} }, "", []string{far}},
		"dnf at a site":  {"rpm", func(s *source.SheetSource) { s.URLs, s.Upstream = []string{near}, []string{far} }, "", []string{near, far}},
		"dnf by a list":  {"rpm", func(s *source.SheetSource) { s.Mirrorlist = "file:///l" }, far + "\n" + third + "\n", []string{far, third}},
		"zypper by one":  {"zypp", func(s *source.SheetSource) { s.Mirrorlist = "file:///l" }, near + "\n" + third + "\n", []string{near, third}},
		"pacman at some": {"arch", func(s *source.SheetSource) { s.URLs = []string{near, far} }, "", []string{near, far}},
	} {
		x := source.SheetSource{Repository: "saltmarsh", File: "/saltmarsh", ID: "saltmarsh", Enabled: true, Kinds: []string{"binary"},
			Suites: []string{"stable"}, Components: []string{"main"}, Signatures: source.CheckRequired}
		c.with(&x)
		sheet := &source.Sheet{Family: c.family, Files: []source.SheetFile{{Path: "/l", Text: c.lines}, {Path: "/saltmarsh"}},
			Sources: []source.SheetSource{x}, Unlisted: source.UnlistedReport}
		for _, at := range []string{far, near, third} {
			s := source.Source{Family: c.family, File: "/theirs", ID: "theirs", Enabled: true, Kinds: []string{"binary"}, EffURLs: []string{at},
				EffSuites: []string{"stable"}, Components: []string{"other"}}
			verdicts, _ := verdict.New(sheet, sheet, &source.Survey{Traits: source.Traits{Family: c.family}, Sources: []source.Source{s}}).Survey()
			want := verdict.Unlisted
			for _, known := range c.want {
				if known == at {
					want = verdict.Doubled
				}
			}
			assert.Equal(t, want, verdicts[0].Kind, "%s: %s", name, at)
		}
	}
}
