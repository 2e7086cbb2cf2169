package source_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/source"
)

// A URL with variables fits what an expression with something in their places does.
func TestVariablesOfAURLAreFilledIn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(rapid.SampledFrom([]string{"$a", "${b}", "$c", "$", "x", "xx", "y", "/", "?", "&", "${", "}"}), 0, 8).Draw(t, "pattern")
		pattern := strings.Join(parts, "")
		// A variable takes at least one character, and none that parts a URL.
		written := regexp.MustCompile(`\\\$\\\{[a-z]+\\\}|\\\$[a-z]+`).ReplaceAllString(regexp.QuoteMeta(pattern), `[^/?&#]+`)
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"x", "y", "xx", "z", "/", "?", "&", "$", "${", "}", "$a"}), 0, 10).Draw(t, "text"), "")
		values, fits := source.FitsVariables(pattern, text)
		assert.Equal(t, regexp.MustCompile("^"+written+"$").MatchString(text), fits, "%q as %q: %q", text, pattern, written)
		for name, value := range values {
			if fits {
				assert.Regexp(t, `^[^/?&#]+$`, value, name)
			}
		}
		_, itself := source.FitsVariables(pattern, pattern)
		assert.True(t, itself, "as it is written")
	})
}

func TestWhatVariablesStandFor(t *testing.T) {
	values, fits := source.FitsVariables("https://m.example/metalink?repo=base-$releasever&arch=${basearch}", "https://m.example/metalink?repo=base-9&arch=x86_64")
	assert.True(t, fits)
	assert.Equal(t, map[string]string{"releasever": "9", "basearch": "x86_64"}, values)
	_, fits = source.FitsVariables("http://m.example/$releasever/os/", "http://m.example/9/8/os/")
	assert.False(t, fits)
}

// The mirror of a list is none of the URLs below it.
func TestAListHasNoURLsBelowIt(t *testing.T) {
	list := []source.Mirror{{Of: "https://m.example/list/", At: "http://site.example/$releasever/", List: "mirrorlist"}}
	at, had := source.Near(list, "https://m.example/list/deeper")
	assert.Equal(t, "https://m.example/list/deeper", at)
	assert.False(t, had)
	assert.True(t, source.AtMirror(list, "http://site.example/9/"))
	assert.Equal(t, "http://site.example/$releasever/", source.Far(list, "http://site.example/$releasever/"))
}

// Entries come to a site's mirrors, to another site's and back without a trace, whatever stands behind the mirrors, and once
// they are there they stay.
func TestEntriesComeToMirrorsAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		site := func(name string) (list []source.Mirror) {
			for i, of := range []string{"https://a.example/deep/", "https://a.example/", "https://b.example/"} {
				m := source.Mirror{Of: of, At: "http://" + name + ".example/" + string(rune('k'+i)) + "/"}
				m.Before = rapid.Bool().Draw(t, "upstream stays behind it")
				if rapid.Bool().Draw(t, "of that alone") {
					m.Whole, m.Before, m.At = true, false, source.MirrorListAt("/etc/apt/mirrors/"+name+string(rune('k'+i))+".list")
				}
				if rapid.Bool().Draw(t, "mirrored") {
					list = append(list, m)
				}
			}
			return list
		}
		one := rapid.SampledFrom([]string{
			"https://a.example/", "https://a.example", "https://a.example/x", "https://a.example/deep/y/", "https://a.example/deep", "https://b.example/z", "https://c.example/",
		})
		urls := rapid.SliceOfNDistinct(one, 0, 5, rapid.ID[string]).Draw(t, "urls")
		at := func(near, away []source.Mirror, urls []string) []string {
			out := slices.Concat(source.Placed(near, away, urls)...)
			require.Equal(t, out, slices.Concat(source.Placed(near, away, out)...), "they stay")
			return out
		}
		reef, cove := site("reef"), site("cove")
		there := at(reef, nil, urls)
		require.Subset(t, there, behind(reef, urls), "upstream stays where it is tried behind the mirror")
		other := at(cove, reef, there)
		require.Equal(t, at(cove, nil, urls), other, "as if they had never been at the first site")
		require.Equal(t, strings.Join(urls, " "), strings.Join(at(nil, cove, other), " "))
	})
}

// behind are the URLs that stay: those that nothing takes the place of, or that stand behind what does.
func behind(list []source.Mirror, urls []string) (out []string) {
	for _, u := range urls {
		by := slices.IndexFunc(list, func(m source.Mirror) bool {
			_, fits := m.Map(u)
			return fits
		})
		if by < 0 || list[by].Before {
			out = append(out, u)
		}
	}
	return out
}
