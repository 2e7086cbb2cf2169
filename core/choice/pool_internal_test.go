package choice

import (
	"maps"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/trust"
	"patientlantern.example/lantern/core/upstream"
)

// drawnSurvey is one of few surveys, so that many of them have much in common.
func drawnSurvey(t *rapid.T) *source.Survey {
	word := rapid.SampledFrom([]string{"", "a", "b", "a\x00b", "a b"})
	words := rapid.SliceOfN(word, 0, 2)
	s := &source.Survey{Traits: source.Traits{
		Family: rapid.SampledFrom([]string{"deb", "rpm"}).Draw(t, "family"), Arch: "amd64", Architectures: []string{"amd64"},
	}}
	for range rapid.IntRange(0, 3).Draw(t, "sources") {
		x := source.Source{
			Family: s.Traits.Family, Enabled: rapid.Bool().Draw(t, "on"), Kinds: []string{"binary"}, ID: word.Draw(t, "id"),
			File: word.Draw(t, "file"), EffURLs: words.Draw(t, "urls"), EffSuites: words.Draw(t, "suites"), Components: words.Draw(t, "components"),
			Position: rapid.IntRange(0, 2).Draw(t, "position"), Options: map[string]string{},
		}
		if rapid.Bool().Draw(t, "priority") {
			x.Priority = new(rapid.IntRange(98, 99).Draw(t, "number"))
		}
		if rapid.Bool().Draw(t, "included") {
			x.Options[include] = word.Draw(t, "include")
		}
		s.Sources = append(s.Sources, x)
	}
	for range rapid.IntRange(0, 2).Draw(t, "keys") {
		s.Keys = append(s.Keys, source.Key{Fingerprint: word.Draw(t, "key"), Used: true, Scope: source.ScopeAny})
	}
	for range rapid.IntRange(0, 1).Draw(t, "pins") {
		s.Pins = append(s.Pins, source.Pin{Priority: 1, File: word.Draw(t, "pin")})
	}
	return s
}

// What comes out of a pool is what its survey says, whatever others said before, and is shared with those alone
// that say the same; what nobody needs goes, and nothing else.
func TestAPoolHandsOutWhatASurveySays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := &Pool{}
		var had []*Host
		byWords := map[*Host]*Host{}
		for range rapid.IntRange(1, 12).Draw(t, "surveys") {
			s := drawnSurvey(t)
			want := Of(s)
			got := p.Of(s, trust.Of(s))
			require.Equal(t, want, got)
			for _, other := range had {
				if other != got && reflect.DeepEqual(other, got) {
					t.Fatal("the same stands twice")
				}
			}
			had = append(had, got)
			byWords[got] = want
			if rapid.IntRange(0, 4).Draw(t, "forget") == 0 {
				had = had[len(had)/2:]
				kept := map[*Host]*Host{}
				for _, h := range had {
					kept[h] = byWords[h]
				}
				byWords = kept
				p.Keep(maps.Keys(kept))
				require.Len(t, p.hosts, len(kept))
			}
			for h, want := range byWords {
				require.Equal(t, want, h, "nobody changes what others share")
			}
		}
	})
}

// changed sets each field of a struct to something else, one after another.
func changed(t *testing.T, v reflect.Value, each func(field string)) {
	for i := range v.NumField() {
		f, name := v.Field(i), v.Type().Field(i).Name
		was := reflect.New(f.Type()).Elem()
		was.Set(f)
		switch f.Interface().(type) {
		case string:
			f.SetString("another")
		case []string:
			f.Set(reflect.ValueOf([]string{"another"}))
		case int:
			f.SetInt(77)
		case bool:
			f.SetBool(!f.Bool())
		case *int:
			f.Set(reflect.ValueOf(new(77)))
		case map[string]string:
			f.Set(reflect.ValueOf(map[string]string{"another": "one"}))
		case upstream.Place:
			changed(t, f, each)
			continue
		default:
			require.Failf(t, "a field of another kind", "%s %s", name, f.Type())
		}
		each(name)
		f.Set(was)
	}
}

// No field of a place, or of what decides on a source, is left out where copies are told apart.
func TestEveryFieldTellsCopiesApart(t *testing.T) {
	u := &upstream.Use{}
	plain := string(useText(u))
	changed(t, reflect.ValueOf(u).Elem(), func(field string) {
		assert.NotEqual(t, plain, string(useText(u)), field)
	})
	s := &source.Survey{Sources: []source.Source{{
		Family: "deb", Enabled: true, Position: 3, Priority: new(5), Options: map[string]string{include: "x", exclude: "y"},
	}}}
	none := string(sourcesText(make([]source.Source, 1)))
	kept := reflect.ValueOf(decides(s).Survey.Sources[0])
	for i := range kept.NumField() {
		if kept.Field(i).IsZero() {
			continue
		}
		one := make([]source.Source, 1)
		reflect.ValueOf(&one[0]).Elem().Field(i).Set(kept.Field(i))
		assert.NotEqual(t, none, string(sourcesText(one)), kept.Type().Field(i).Name)
	}
}
