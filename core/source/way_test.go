package source_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/source"
)

// Another proxy, certificate or check is another way to a source; another name or spelling is not.
func TestWhatIsAnotherWayToASource(t *testing.T) {
	for _, c := range []struct {
		family, name, was, is string
		same                  bool
	}{
		{"rpm", "proxy", "", "http://proxy.reef.brinewick.test:3128", false},
		{"rpm", "sslverify", "1", "0", false},
		{"rpm", "sslverify", "1", "true", true},
		{"rpm", "sslcacert", "/etc/pki/a.pem", "/etc/pki/b.pem", false},
		{"rpm", "name", "Saltmarsh", "Saltmarsh database", true},
		{"rpm", "gpgcheck", "0", "1", false},
		{"zypp", "proxy", "http://a:1", "http://b:1", false},
		{"zypp", "autorefresh", "0", "1", true},
		{"deb", "check-valid-until", "no", "yes", false},
		{"deb", "languages", "en", "none", true},
		{"arch", "usage", "All", "Sync", false},
		{"flatpak", "tls-permissive", "", "true", false},
		{"flatpak", "xa.title", "Curlew", "Curlew charts", true},
		{"deb", "something-new", "", "1", false},
	} {
		a := source.Source{Family: c.family, Options: map[string]string{c.name: c.was}}
		if c.was == "" {
			a.Options = nil
		}
		b := source.Source{Family: c.family, Options: map[string]string{c.name: c.is}}
		assert.Equal(t, c.same, source.SameWay(&a, &b, nil), "%s %s", c.family, c.name)
		assert.Equal(t, c.same, source.SameWay(&b, &a, nil), "%s %s, the other way round", c.family, c.name)
	}
	rapid.Check(t, func(rt *rapid.T) {
		options := rapid.MapOf(rapid.SampledFrom([]string{"proxy", "name", "sslverify", "gpgcheck", "cost"}), rapid.SampledFrom([]string{"", "1", "yes", "x"})).Draw(rt, "options")
		s := source.Source{Family: "rpm", Options: options}
		if !source.SameWay(&s, &s, nil) {
			rt.Fatalf("a source is fetched in another way than itself: %v", options)
		}
	})
}
