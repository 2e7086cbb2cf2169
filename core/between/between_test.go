package between_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/between"
	"patientlantern.example/lantern/core/source"
)

func survey() *source.Survey {
	number := 99
	return &source.Survey{
		Traits: source.Traits{Family: "deb", Arch: "x86_64"},
		Sources: []source.Source{
			{
				Family: "deb", File: "/etc/apt/sources.list", Line: 2, Enabled: true, EffURLs: []string{"http://archive.skerry.example/skerry/"},
				EffSuites: []string{"mussel"}, Components: []string{"main"}, Options: map[string]string{"Languages": "en"},
			},
			{
				Family: "rpm", File: "/etc/yum.repos.d/saltmarsh.repo", Line: 1, ID: "saltmarsh", Enabled: true, Priority: &number, Position: 1,
				EffURLs: []string{"http://packages.saltmarsh.example/"}, Checks: source.Checks{Packages: "required"},
			},
		},
		Keys:     []source.Key{{Fingerprint: "AB12", Where: "/etc/apt/trusted.gpg.d/skerry.gpg", Scope: "any", UserIDs: []string{"Skerry"}}},
		Settings: []source.Setting{{Family: "deb", Name: "Acquire::http::Proxy", Value: "http://proxy.example/", File: "/etc/apt/apt.conf.d/10p", Line: 1}},
		Pins:     []source.Pin{{File: "/etc/apt/preferences.d/a", Packages: []string{"*"}, Pin: "release n=mussel", Priority: 500}},
		Holds:    []source.Hold{{Family: "deb", Kind: "hold", What: "tide-model"}},
		Files:    []source.File{{Path: "/etc/apt/sources.list", Digest: "d1", Mode: "644"}},
	}
}

func TestEachPieceThatDiffersIsTold(t *testing.T) {
	for _, x := range []struct {
		name string
		edit func(s *source.Survey)
		want []between.Piece
	}{
		{"nothing", func(*source.Survey) {}, nil},
		{"other lines", func(s *source.Survey) { s.Sources[0].Line, s.Pins[0].Line = 9, 4 }, nil},
		{"the order of dnf's sections", func(s *source.Survey) { s.Sources[1].Position = 4 }, nil},
		{"a component", func(s *source.Survey) { s.Sources[0].Components = []string{"main", "testing"} }, []between.Piece{
			{Kind: "source", Name: "http://archive.skerry.example/skerry/ mussel", File: "/etc/apt/sources.list", Field: "components", Was: "main", Is: "main, testing"},
		}},
		{"an option", func(s *source.Survey) { s.Sources[0].Options = map[string]string{"Languages": "en", "Trusted": "yes"} }, []between.Piece{
			{Kind: "source", Name: "http://archive.skerry.example/skerry/ mussel", File: "/etc/apt/sources.list", Field: "options.Trusted", Is: "yes"},
		}},
		{"a check", func(s *source.Survey) { s.Sources[1].Checks.Packages = "off" }, []between.Piece{
			{Kind: "source", Name: "saltmarsh", File: "/etc/yum.repos.d/saltmarsh.repo", Field: "checks.packages", Was: "required", Is: "off"},
		}},
		{"a source goes", func(s *source.Survey) { s.Sources = s.Sources[:1] }, []between.Piece{
			{Kind: "source", Name: "saltmarsh", File: "/etc/yum.repos.d/saltmarsh.repo", Was: "http://packages.saltmarsh.example/"},
		}},
		{"a key comes", func(s *source.Survey) {
			s.Keys = append(s.Keys, source.Key{Fingerprint: "CD34", Where: "/etc/apt/trusted.gpg", UserIDs: []string{"Own"}})
		},
			[]between.Piece{{Kind: "key", Name: "CD34", File: "/etc/apt/trusted.gpg", Is: "Own"}}},
		{"a setting", func(s *source.Survey) { s.Settings[0].Value = "DIRECT" }, []between.Piece{
			{Kind: "setting", Name: "Acquire::http::Proxy", Field: "value", Was: "http://proxy.example/", Is: "DIRECT"},
		}},
		{"a pin's weight", func(s *source.Survey) { s.Pins[0].Priority = 1001 }, []between.Piece{
			{Kind: "pin", Name: "*", File: "/etc/apt/preferences.d/a", Field: "priority", Was: "500", Is: "1001"},
		}},
		{"a hold goes", func(s *source.Survey) { s.Holds = nil }, []between.Piece{{Kind: "hold", Name: "tide-model", Was: "hold"}}},
		{"a mode", func(s *source.Survey) { s.Files[0].Mode = "600" }, []between.Piece{
			{Kind: "file", Name: "/etc/apt/sources.list", File: "/etc/apt/sources.list", Field: "mode", Was: "644", Is: "600"},
		}},
		{"the kernel", func(s *source.Survey) { s.Traits.Arch = "aarch64" }, []between.Piece{
			{Kind: "fact", Name: "host", Field: "arch", Was: "x86_64", Is: "aarch64"},
		}},
		{"a second one that is called alike", func(s *source.Survey) { s.Pins = append(s.Pins, s.Pins[0]); s.Pins[1].Priority = -1 }, []between.Piece{
			{Kind: "pin", Name: "*", File: "/etc/apt/preferences.d/a", Is: "release n=mussel: -1"},
		}},
	} {
		t.Run(x.name, func(t *testing.T) {
			is := survey()
			x.edit(is)
			assert.Equal(t, x.want, between.Compare(survey(), is))
		})
	}
}

// Whatever field of whatever piece is another, something is told; the way back tells the same,
// turned round; and nothing is told of what is the same in another order.
func TestWhateverDiffersIsTold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := drawn(t, "a"), drawn(t, "b")
		there, back := between.Compare(a, b), between.Compare(b, a)
		require.Len(t, back, len(there))
		texts := func(s *source.Survey) []string {
			var out []string
			for _, p := range s.Pins {
				text, err := json.Marshal(p)
				require.NoError(t, err)
				out = append(out, string(text))
			}
			return out
		}
		x, y := texts(a), texts(b)
		same := len(x) == len(y)
		if same {
			same = assert.ElementsMatch(new(quiet), x, y)
		}
		assert.Equal(t, same, len(there) == 0)
		turned := map[between.Piece]int{}
		for _, d := range back {
			d.Was, d.Is = d.Is, d.Was
			turned[d]++
		}
		for _, d := range there {
			turned[d]--
		}
		for d, n := range turned {
			assert.Zero(t, n, d)
		}
	})
}

type quiet struct{}

func (quiet) Errorf(string, ...any) {}

func drawn(t *rapid.T, label string) *source.Survey {
	some := rapid.SampledFrom([]string{"a", "b", "c"})
	s := &source.Survey{}
	for range rapid.IntRange(0, 4).Draw(t, label) {
		s.Pins = append(s.Pins, source.Pin{
			File: some.Draw(t, "file"), Packages: []string{some.Draw(t, "package")}, Pin: some.Draw(t, "pin"),
			Priority: rapid.IntRange(0, 2).Draw(t, "priority"), Valid: rapid.Bool().Draw(t, "valid"),
		})
	}
	return s
}
