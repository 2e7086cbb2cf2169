package resolve_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/resolve"
)

// Two repositories in one suite of which apt would be told otherwise who signs it, or whether anybody does, are refused before apt refuses all
// sources of a host.
func TestTwoRepositoriesInOneSuiteAgreeOnWhoSignsIt(t *testing.T) {
	gateway := host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil)
	for name, x := range map[string]struct {
		second string
		wrong  bool
	}{
		"the same key":       {`keys: [gannet-2025], deb: { url: "https://a.example/", suites: [stable], components: [extra] }`, false},
		"another key":        {`keys: [plover-2024], deb: { url: "https://a.example", suites: [stable], components: [extra] }`, true},
		"one key more":       {`keys: [gannet-2025, plover-2024], deb: { url: "https://a.example", suites: [stable], components: [extra] }`, true},
		"no key":             {`signatures: "off", because: it is ours, deb: { url: "https://a.example", suites: [mussel, stable], components: [extra] }`, true},
		"another suite":      {`keys: [plover-2024], deb: { url: "https://a.example", suites: [mussel], components: [main] }`, false},
		"another place":      {`keys: [plover-2024], deb: { url: "https://b.example", suites: [stable], components: [main] }`, false},
		"one that is off":    {`enabled: false, keys: [plover-2024], deb: { url: "https://a.example", suites: [stable], components: [extra] }`, false},
		"of another package": {`keys: [plover-2024], rpm: { url: "https://a.example" }`, false},
	} {
		said := strings.Join(fleetSays(t, languageKeys+`repositories:
  a: { keys: [gannet-2025], deb: { url: "https://a.example", suites: [stable], components: [main] } }
  b: { `+x.second+" }\nassign: [{ to: everyone, repositories: [a, b] }]\n", []resolve.Host{gateway}...), "\n")
		want := "error[contradicting]: a and b stand in one suite and say otherwise who signs it, so that apt refuses all sources of the host gw-01.brinewick.test"
		assert.Equal(t, x.wrong, strings.Contains(said, want), "%s: %s", name, said)
	}
}
