package source

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Of two values one at most is the stricter, and none is stricter than itself.
func TestNothingIsStricterBothWays(t *testing.T) {
	values := []string{"", "0", "1", "yes", "no", "true", "off", "10", "86400", "-1", "never", "?", "root", "_apt", "alpm",
		"PackageNever DatabaseNever", "PackageRequired PackageTrustedOnly", "PackageOptional PackageTrustAll DatabaseRequired DatabaseTrustedOnly",
		"PackageRequired PackageTrustedOnly DatabaseRequired DatabaseTrustedOnly", "PackageRequired PackageTrustAll DatabaseOptional DatabaseTrustedOnly"}
	var names []string
	for _, s := range tightening {
		names = append(names, s.names...)
	}
	for _, w := range weakening {
		names = append(names, w.option)
	}
	for _, w := range weakSettings {
		names = append(names, w.name)
	}
	strict := 0
	rapid.Check(t, func(t *rapid.T) {
		family := rapid.SampledFrom([]string{FamilyDeb, FamilyRpm, FamilyZypp, FamilyArch, FamilyFlatpak}).Draw(t, "family")
		name, was, is := rapid.SampledFrom(names).Draw(t, "name"), rapid.SampledFrom(values).Draw(t, "was"), rapid.SampledFrom(values).Draw(t, "is")
		there, back := Stricter(family, name, was, is), Stricter(family, name, is, was)
		assert.False(t, there && back, "%s %s: %q and %q", family, name, was, is)
		if was == is {
			assert.False(t, there)
		}
		if there {
			strict++
		}
		after := Setting{Family: family, Name: name, Value: is}
		assert.False(t, there && is != "" && after.Weakens() != "", "%s %s: %q takes a check away", family, name, is)
		assert.False(t, there && is != "" && takesAway(family, name, is) != "", "%s %s: %q takes a check away", family, name, is)
	})
	assert.Positive(t, strict)
}

func TestWhatHoldsOfAnOption(t *testing.T) {
	all := []Setting{{Family: FamilyDeb, Name: "Acquire::Max-ValidTime", Value: "3600"}, {Family: FamilyDeb, Name: "Acquire::Min-ValidTime::Skerry", Value: "60"}}
	for _, x := range []struct {
		name, says string
		options    map[string]string
	}{
		{"valid-until-max", "3600", nil}, {"valid-until-max", "5", map[string]string{"Valid-Until-Max": "5"}},
		{"valid-until-min", "?", nil}, {"date-max-future", "10", nil}, {"lang", "", nil},
	} {
		assert.Equal(t, x.says, Holding(FamilyDeb, x.name, x.options, all), x.name)
	}
}
