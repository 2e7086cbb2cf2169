package deb_test

import (
	"fmt"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Suites beyond the bound are counted, each once, and not left out without a word.
func TestReleasesBeyondTheBoundAreCounted(t *testing.T) {
	s := source.Source{Enabled: true, EffURLs: []string{"http://a.example/d"}}
	s.Family = deb.Family
	for i := range 2_010 {
		s.EffSuites = append(s.EffSuites, fmt.Sprint("s", i))
	}
	_, beyond := deb.ReadReleases(rootfs.New(fstest.MapFS{}), []source.Source{s, s})
	assert.Equal(t, 10, beyond)
	s.EffSuites = s.EffSuites[:2_000]
	_, beyond = deb.ReadReleases(rootfs.New(fstest.MapFS{}), []source.Source{s})
	assert.Zero(t, beyond)
}
