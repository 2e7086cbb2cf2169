package family

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// A word that must be there is looked for before a pattern is: that it is not there must mean that
// the pattern hides nothing.
func TestNothingIsHiddenLessForLookingForAWordFirst(t *testing.T) {
	pieces := []string{
		"-u", "-U", "--user", "--PROXY-user", "=", ":", " ", "\n", `"`, "'", "name:word", "Authorization", "auTHORIzation", "basic", "Bearer",
		"password", "PASSWD", "paſſword", "PaSſphrase", "proxypass", "ſecret", "secret", "toKen", "to\u212aen", "api_key", "API-\u212aEY", "apikey",
		" is ", " was ", "login", "user", "username", "--token", "--secret ", "--api-key=", "\xff", "ß", "İ", "https://h/p", "word", "?a=b",
	}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 1, 12).Draw(t, "pieces"), rapid.SampledFrom([]string{"", " "}).Draw(t, "between"))
		want := text
		if strings.Contains(text, "://") {
			want = query().ReplaceAllString(string(maskURLs([]byte(text))), "${1}"+Hidden)
		}
		for _, way := range spoken() {
			want = way.re.ReplaceAllString(want, "${1}"+Hidden)
		}
		assert.Equal(t, want, HideWords(text, nil))
	})
}
