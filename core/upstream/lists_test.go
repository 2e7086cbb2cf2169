package upstream_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
)

// A list of mirrors on the host is looked at as what stands in it, on hosts and in sheets alike: what the one says is
// found to be of the other.
func TestAListOfMirrorsOnTheHostIsWhatItHolds(t *testing.T) {
	const far, near = "https://packages.saltmarsh.example/9", "http://mirror.reef.brinewick.test/9"
	for _, c := range []struct {
		name   string
		family string
		file   string
		text   string
		with   func(s *source.SheetSource)
		want   []string
	}{
		{"apt", "deb", "/etc/apt/mirrors/saltmarsh.list", "# ours\n" + far + "\tpriority:2\n" + near + "\tpriority:1\n",
			func(s *source.SheetSource) { s.URLs = []string{"mirror+file:/etc/apt/mirrors/saltmarsh.list/"} }, []string{near, far}},
		{"apt, one without a priority", "deb", "/etc/apt/mirrors/saltmarsh.list", far + "\n" + near + " priority:7\n",
			func(s *source.SheetSource) { s.URLs = []string{"mirror+file:/etc/apt/mirrors/saltmarsh.list/"} }, []string{near, far}},
		{"dnf", "rpm", "/etc/dnf/mirrors/saltmarsh.list", near + "\n" + far + "\n",
			func(s *source.SheetSource) { s.Mirrorlist = "file:///etc/dnf/mirrors/saltmarsh.list" }, []string{near, far}},
		{"zypper", "zypp", "/etc/zypp/mirrors/saltmarsh.list", near + "\n" + far + "\n",
			func(s *source.SheetSource) { s.Mirrorlist = "file:///etc/zypp/mirrors/saltmarsh.list" }, []string{near, far}},
	} {
		x := source.SheetSource{Repository: "saltmarsh", File: "/f", ID: "saltmarsh", Enabled: true, Kinds: []string{"binary"},
			Suites: []string{"stable"}, Components: []string{"main"}, Archs: []string{"amd64"}, Signatures: source.CheckRequired}
		c.with(&x)
		sheet := &source.Sheet{Family: c.family, Files: []source.SheetFile{{Path: c.file, Text: c.text}}, Sources: []source.SheetSource{x}}
		brought := upstream.Brought(sheet, []string{"amd64"})
		require.Len(t, brought, 1, c.name)
		assert.Equal(t, c.want, brought[0].URLs, c.name)
		assert.Empty(t, brought[0].Away(), c.name)
		assert.False(t, brought[0].Local(), c.name)

		survey := &source.Survey{Traits: source.Traits{Family: c.family}, Files: []source.File{{Path: c.file, Mirrors: source.Listed([]byte(c.text))}},
			Sources: []source.Source{{Family: c.family, File: x.File, ID: x.ID, Enabled: true, Kinds: x.Kinds, EffURLs: x.URLs, EffSuites: x.Suites,
				Components: x.Components, EffArchs: x.Archs, Mirrorlist: x.Mirrorlist}}}
		uses := upstream.Uses(survey)
		require.Len(t, uses, 1, c.name)
		assert.Equal(t, brought[0].Place, uses[0].Place, c.name)
		name, _ := uses[0].Of(sheet)
		assert.Equal(t, "saltmarsh", name, c.name)
		assert.True(t, uses[0].Own(sheet), c.name)
		survey.Files[0].Mirrors = append(survey.Files[0].Mirrors, "https://elsewhere.example/9")
		assert.False(t, upstream.Uses(survey)[0].Own(sheet), "%s: one of somebody else's is enough", c.name)

		survey.Files, sheet.Files = nil, nil
		for _, u := range []upstream.Use{upstream.Uses(survey)[0], upstream.Brought(sheet, []string{"amd64"})[0]} {
			assert.Contains(t, u.Away(), "at hand on the host alone", c.name)
			assert.False(t, u.Local(), "%s: of a list that is not known nobody says that all of it is at hand", c.name)
		}
	}
}
