package series_test

import (
	"fmt"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/series"
	"patientlantern.example/lantern/core/text/pattern"
)

func TestWhatBelongsToASeries(t *testing.T) {
	s, err := series.Of("1.44")
	require.NoError(t, err)
	for version, holds := range map[string]bool{
		"1.44": true, "1.44.2": true, "1.44-3": true, "2:1.44.2-1": true, "1.44~rc1": true, "1.44+b1": true, "1.44a": true,
		"1.440": false, "1.4": false, "1": false, "": false, "2.1.44": false, "1.45": false, "11.44": false, "1:2.0-1.44": false,
	} {
		assert.Equal(t, holds, s.Holds(version), version)
	}
	for _, bad := range []string{"", "v1", "1.4 4", "1.44-1", "12:1.44", "1.*", "1[4]", "1.44\n"} {
		_, err := series.Of(bad)
		assert.Error(t, err, bad)
	}
}

// A version is held, or it is one of the others: for apt's expressions and for dnf's
// patterns alike.
func TestAVersionIsHeldOrPassedOver(t *testing.T) {
	letters := rapid.StringMatching(`[0-9][0-9A-Za-z.+~_]{0,4}`)
	rapid.Check(t, func(rt *rapid.T) {
		s, err := series.Of(rapid.SampledFrom([]string{"", "0:", "2:"}).Draw(rt, "own epoch") + letters.Draw(rt, "series"))
		require.NoError(rt, err)
		version := letters.Draw(rt, "version")
		if rapid.Bool().Draw(rt, "near") {
			version = s.Version[:rapid.IntRange(0, len(s.Version)).Draw(rt, "cut")] + rapid.StringMatching(`[0-9A-Za-z.+~_]{0,3}`).Draw(rt, "tail")
		}
		if version == "" {
			version = "0"
		}
		written := rapid.SampledFrom([]string{"", "0:", "12:"}).Draw(rt, "epoch") + version + rapid.SampledFrom([]string{"", "-1", "-2.1"}).Draw(rt, "revision")
		require.NotEqual(rt, s.Holds(written), regexp.MustCompile(s.Others()).MatchString(written), written)
		passed := false
		epoch := rapid.IntRange(0, 9).Draw(rt, "rpm's epoch")
		for _, p := range s.OtherBuilds("tide-model") {
			passed = passed || pattern.Fnmatch(p, fmt.Sprintf("tide-model-%d:%s-1.noarch", epoch, version))
		}
		require.NotEqual(rt, s.Holds(version) && epoch == s.Epoch, passed, version)
	})
}
