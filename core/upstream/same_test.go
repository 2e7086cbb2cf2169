package upstream

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What is told at a glance of two addresses is what is told of them bare.
func TestTwoAddressesAreOneAsTheyAreBare(t *testing.T) {
	piece := rapid.SampledFrom([]string{"http://", "https://", "a.example", "b.example", "u@", "u:***@", "/", "//", "x", "$secret", "***", "?credentials=c", "?q=1", "#"})
	address := rapid.Custom(func(t *rapid.T) string {
		out := ""
		for _, p := range rapid.SliceOfN(piece, 0, 8).Draw(t, "pieces") {
			out += p
		}
		return out
	})
	equal := 0
	rapid.Check(t, func(t *rapid.T) {
		u := address.Draw(t, "one")
		v := rapid.OneOf(address, rapid.Just(u+"/"), rapid.Just(bare(u))).Draw(t, "other")
		assert.Equal(t, bare(u) == bare(v), same(u, v), "%q %q", u, v)
		if same(u, v) && u != v {
			equal++
		}
	})
	assert.NotZero(t, equal)
}
