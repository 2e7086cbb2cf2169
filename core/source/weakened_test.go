package source_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/source"
)

// What a setting takes away from every source is told on the line of those that it is about,
// unless the source says otherwise itself.
func TestWeakenedSources(t *testing.T) {
	for _, c := range []struct {
		name             string
		of               source.Source
		setting, value   string
		family, onSource string
	}{
		{"age", source.Source{}, "Acquire::Check-Valid-Until", "false", "deb", "age NOT checked"},
		{"age, for one program", source.Source{}, "Binary::apt-get::Acquire::Check-Valid-Until", "no", "deb", "age NOT checked"},
		{"age, and the source checks it", source.Source{Options: map[string]string{"Check-Valid-Until": "yes"}}, "Acquire::Check-Valid-Until", "no", "deb", ""},
		{"age as it is", source.Source{}, "Acquire::Check-Valid-Until", "true", "deb", ""},
		{"certificate", source.Source{EffURLs: []string{"https://h.example/"}}, "Acquire::https::Verify-Peer", "0", "deb", "the server's certificate NOT checked"},
		{"certificate of nobody", source.Source{EffURLs: []string{"http://h.example/"}}, "Acquire::https::Verify-Peer", "0", "deb", ""},
		{"dnf", source.Source{Metalink: "https://h.example/"}, "main.sslverify", "0", "rpm", "the server's certificate NOT checked"},
		{"dnf, and the source checks it", source.Source{Metalink: "https://h.example/", Options: map[string]string{"sslverify": "1"}}, "main.sslverify", "0", "rpm", ""},
		{"what Checks say", source.Source{}, "Acquire::AllowInsecureRepositories", "1", "deb", ""},
	} {
		c.of.Family = c.family
		var want []string
		if c.onSource != "" {
			want = []string{c.onSource}
		}
		assert.Equal(t, want, c.of.Weakened([]source.Setting{{Family: c.family, Name: c.setting, Value: c.value}}), c.name)
	}
}
