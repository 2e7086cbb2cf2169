package source_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/source"
)

// What a list of mirrors on the host holds stands where the package manager asks it: dnf before base URLs, and not at all beside a
// metalink; zypper not at all beside base URLs.
func TestAListOnTheHostStandsWhereItIsAsked(t *testing.T) {
	const base, listed, metalink = "http://base.example/", "http://listed.example/", "http://mirrors.example/metalink"
	const file = "file:///etc/mirrors/saltmarsh.list"
	lines := func(string) []string { return []string{listed} }
	for _, c := range []struct {
		name string
		s    source.Source
		urls []string
		list string
	}{
		{"dnf, the list alone", source.Source{Family: "rpm", Mirrorlist: file}, []string{listed}, ""},
		{"dnf, beside a base URL", source.Source{Family: "rpm", EffURLs: []string{base}, Mirrorlist: file}, []string{listed, base}, ""},
		{"dnf, beside a metalink", source.Source{Family: "rpm", EffURLs: []string{base}, Mirrorlist: file, Metalink: metalink}, []string{base}, ""},
		{"zypper, the list alone", source.Source{Family: "zypp", Mirrorlist: file}, []string{listed}, ""},
		{"zypper, beside a base URL", source.Source{Family: "zypp", EffURLs: []string{base}, Mirrorlist: file}, []string{base}, file},
	} {
		urls, list := c.s.Reached(lines)
		assert.Equal(t, c.urls, urls, c.name)
		assert.Equal(t, c.list, list, c.name)
	}
}
