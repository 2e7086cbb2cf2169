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
		{"http://u@h/d", "http://u@h/d"},
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
