package source_test

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
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
