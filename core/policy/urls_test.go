package policy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/policy"
)

func TestCheckURL(t *testing.T) {
	for _, good := range []string{
		"http://a.example", "https://a.example:8443/x", "http://[::1]:80/", "https://u@a.example/x", "file:/srv/x", "file:///srv/x", "mirror+file:/etc/apt/m.list", "cdrom:[Skerry 12]/",
		"http://127.0.0.1:7801/x", "dir:/srv/x", "nfs://h.example/x", "HTTP://a.example/",
	} {
		assert.NoError(t, policy.CheckURL(good), good)
	}
	for bad, want := range map[string]string{
		"http:/x":                    `the url "http:/x" lacks the two slashes behind its scheme`,
		"htp://a.example/":           `the url "htp://a.example/" has the scheme "htp", which no package manager knows; did you mean http?`,
		"https:///x":                 `the url "https:///x" names no host`,
		"http://:80/x":               `the url "http://:80/x" names no host`,
		"http://a.example:65536/":    `the url "http://a.example:65536/" has the port "65536"; a port is a number from 1 to 65535`,
		"http://a.example:0/":        `the url "http://a.example:0/" has the port "0"; a port is a number from 1 to 65535`,
		"http://a.example:8o/":       `the url "http://a.example:***/" has something else where a port stands; a port is a number from 1 to 65535`,
		"http://a.example/x y":       `the url "http://a.example/x y" holds a blank, which stands in a URL as % and two digits`,
		"http://a.\u2028example/":    `the url "http://a.\u2028example/" holds the character U+2028, which stands in a URL as % and two digits`,
		"file:///srv/\r":             `the url "file:///srv/\r" holds the character U+000D, which stands in a URL as % and two digits`,
		"packages.saltmarsh.example": `the url "packages.saltmarsh.example" has no scheme`,
	} {
		assert.EqualError(t, policy.CheckURL(bad), want)
	}
}
