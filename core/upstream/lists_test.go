package upstream_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/standin"
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

// Of two mirrors the second is asked where a package manager of the family would ask it, and which was passed over is noted;
// in the other order the faulty one is not asked at all.
func TestTheSecondMirrorIsAskedWhereHostsAskIt(t *testing.T) {
	w, faulty := newWorld(t), newWorld(t)
	ends := map[string][]string{"deb": {standin.FaultWrongKey, standin.FaultExpired, standin.FaultPage}, "rpm": {standin.FaultWrongKey, standin.FaultPage},
		"arch": {standin.FaultWrongKey, standin.FaultPage}}
	for vendor, good := range w.sources() {
		if good.Family == "flatpak" { // knows one place
			continue
		}
		for _, fault := range []string{standin.FaultWrongKey, standin.FaultExpired, standin.FaultPage, standin.Fault401, standin.FaultCut, standin.FaultMissing} {
			require.NoError(t, faulty.SetFault(vendor, fault))
			s, bad := good, strings.Replace(good.URLs[0], w.url, faulty.url, 1)
			s.URLs = []string{bad, good.URLs[0]}
			found, err := upstream.Look(&s, w.fetch, time.Now())
			alone := good
			alone.URLs = []string{bad}
			_, refused := upstream.Look(&alone, w.fetch, time.Now())
			switch {
			case slices.Contains(ends[good.Family], fault):
				require.Error(t, err, "%s %s", good.Family, fault)
				assert.Contains(t, err.Error(), bad+", which is asked before others", fault)
			case refused == nil: // it is none to this family
				require.NoError(t, err)
				assert.Equal(t, bad, found.URL)
			default:
				require.NoError(t, err, "%s %s", good.Family, fault)
				assert.Equal(t, good.URLs[0], found.URL)
				assert.Contains(t, strings.Join(found.Notes, "\n"), bad+" was passed over: ", fault)
			}
			s.URLs = []string{good.URLs[0], bad}
			found, err = upstream.Look(&s, w.fetch, time.Now())
			require.NoError(t, err, "%s %s", good.Family, fault)
			assert.Equal(t, good.URLs[0], found.URL)
			require.NoError(t, faulty.SetFault(vendor, ""))
		}
	}
}

// Where nobody wants it signed, no signature is good enough of each mirror, whatever was wrong with the ones before.
func TestNoSignatureIsEnoughWhereNobodyWantsOne(t *testing.T) {
	w := newWorld(t)
	s := upstream.Source{Family: "arch", ID: "driftwood", Keys: w.keys("fulmar-2025"), Unsigned: true,
		URLs: []string{w.url + "/nowhere", w.url + "/archive.driftwood.example/driftwood/os/x86_64"}}
	found, err := upstream.Look(&s, w.fetch, time.Now())
	require.NoError(t, err)
	assert.Empty(t, found.Signer)
	s.Unsigned = false
	_, err = upstream.Look(&s, w.fetch, time.Now())
	assert.Error(t, err)
}
