package family_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
)

func TestMaskText(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"deb http://u:pw@h/d x y\n", "deb http://u:***@h/d x y\n"},
		{"baseurl=http://a/,http://u:p,w@h/x\n", "baseurl=http://a/,http://u:***@h/x\n"},
		{"baseurl=http://u:p@h http://v:q@i/\n", "baseurl=http://u:***@h http://v:***@i/\n"},
		{"http://u:p@w@h/", "http://u:***@h/"},
		{"Server = https://h/x?auth_token=abc&arch=x86_64", "Server = https://h/x?auth_token=***&arch=x86_64"},
		{"password = hunter\n  two\nname=x\n", "password =***\n ***\nname=x\n"},
		{"#password=x\r\n", "#password=***\r\n"},
		{"proxy_password=x", "proxy_password=***"},
		{"http://tok3n@h/d", "http://***@h/d"},
		{"http://u:p/w@h/d", "http://u:***@h/d"},
		{"http://u:p/w@h/d http://v:q/r@i/", "http://u:***@h/d http://v:***@i/"},
		{"http://h.example:80/a@b/c", "http://h.example:80/a@b/c"},
		{"http://h.example/a@b/c", "http://h.example/a@b/c"},
		{"https://h/l?repo=fore-9&arch=x86_64&k=9fA3c4d5E6f7a8b9", "https://h/l?repo=fore-9&arch=x86_64&k=***"},
		{"mailto:a:b@c", "mailto:a:b@c"},
		{"no secret at all\n", "no secret at all\n"},
		{"https://h/?a=b#token=x", "https://h/?a=b#token=***"},
	} {
		assert.Equal(t, c.want, string(family.MaskText([]byte(c.in))), c.in)
	}
}

func TestNoPasswordIsEverLeft(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		secret := "Zs" + rapid.StringMatching(`[a-z,:@.=&;\-]{0,6}`).Draw(t, "middle") + "eZ"
		text := rapid.SampledFrom([]string{"", "x ", "baseurl=", "baseurl=http://a/,", "[o=1] ", "\t", "URIs: "}).Draw(t, "before") +
			"https://login:" + secret + "@host.example" + rapid.SampledFrom([]string{"", "/", "/d?x=1", " more", "\n", ",http://b/"}).Draw(t, "after")
		for _, masked := range []string{string(family.MaskText([]byte(text))), family.Option("baseurl", text)} {
			assert.NotContains(t, masked, secret)
			assert.True(t, strings.Contains(masked, "login:***@host.example"), masked)
		}
	})
}

func TestWordsOfProgramsHoldNoSecret(t *testing.T) {
	secrets := family.AddSecrets(nil, family.SecretsIn([]byte("baseurl=https://h/?auth=Zs1/eZ\nmachine h login u password Zs2eZ\npassword = Zs3 eZ\nServer = https://Zs4eZ@h/\n"))...)
	for _, in := range []string{
		"cannot open https://h/?auth=Zs1/eZ here", "escaped: Zs1%2FeZ", "said Zs2eZ", "said Zs3 eZ", "Zs4eZ", // known
		"GET https://Zs5eZ@h/x failed", "GET https://u:Zs5/eZ@h/x failed", "https://h/x?x=Zs5eZ&y=Zs5eZ: 404", "curl -u login:Zs5eZ -O", "curl --user=login:Zs5eZ",
		"tool --password Zs5eZ", "proxy_password=Zs5eZ", "Authorization: Bearer Zs5eZ", "login u password Zs5eZ",
	} {
		out := family.HideWords(in, secrets)
		assert.NotContains(t, out, "Zs", in)
		assert.NotContains(t, out, "eZ", in)
		assert.Contains(t, out, family.Hidden)
	}
	assert.Equal(t, "E: The repository http://packages.saltmarsh.example/apt stable Release is not signed.", family.HideWords("E: The repository http://packages.saltmarsh.example/apt stable Release is not signed.", secrets))
}
