package source_test

import (
	"strings"
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
		{"dnf, and the source says what dnf does not take", source.Source{Metalink: "https://h.example/", Options: map[string]string{"sslverify": "x"}},
			"main.sslverify", "0", "rpm", "the server's certificate NOT checked"},
		{"age, by a number", source.Source{}, "Acquire::Check-Valid-Until", "0x0", "deb", "age NOT checked"},
		{"age, by a word that apt does not take", source.Source{}, "Acquire::Check-Valid-Until", "never", "deb", ""},
		{"age, and the source says any word", source.Source{Options: map[string]string{"check-valid-until": "x"}}, "A", "", "deb", "age NOT checked"},
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

// A yes or no is what it is to the program that reads it.
func TestASwitchIsReadAsItsProgramReadsIt(t *testing.T) {
	for _, c := range []struct{ family, on, off, neither string }{
		{source.FamilyDeb, "yes with ON enable 1 01 0x1 +1", "no without Off disable 0 00 -0", "2 never always x 0b1"},
		{source.FamilyRpm, "yes True on 1", "no False off 0", "2 never with without enable disable 00 01"},
		{source.FamilyZypp, "yes true always on + 1 2 0x1 -1 1x", "no false Never off - 0", "00 x without disable"},
		{source.FamilyFlatpak, "true 1", "false 0", "yes no TRUE on 2"},
	} {
		for want, list := range []string{c.neither, c.off, c.on} {
			for word := range strings.FieldsSeq(list) {
				on, ok := source.Truth(c.family, word)
				assert.Equal(t, [2]bool{want == 2, want > 0}, [2]bool{on, ok}, "%s %s", c.family, word)
				assert.True(t, source.SameSwitch(c.family, word, word))
			}
		}
		on, off := strings.Fields(c.on), strings.Fields(c.off)
		assert.True(t, source.SameSwitch(c.family, on[0], on[1]))
		assert.False(t, source.SameSwitch(c.family, on[0], off[0]))
	}
}

// What is not said takes nothing away; what is said with no word, or a wrong one, does where apt takes it for a no.
func TestAnOptionTakesACheckAwayOnlyWhereItStands(t *testing.T) {
	const option = "Check-Valid-Until"
	none, yes := map[string]string{}, map[string]string{option: "yes"}
	assert.False(t, source.OptionWeakens(source.FamilyDeb, option, none))
	assert.False(t, source.OptionWeakens(source.FamilyDeb, option, yes))
	for _, word := range []string{"", "no", "never", "2"} {
		off := map[string]string{option: word}
		assert.True(t, source.OptionWeakens(source.FamilyDeb, option, off), word)
		assert.False(t, source.SameOption(source.FamilyDeb, option, none, off, nil), word)
		assert.True(t, source.SameOption(source.FamilyDeb, option, off, map[string]string{option: "x"}, nil), word)
	}
}
