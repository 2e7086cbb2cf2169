package index_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/index"
)

func drawn(t *rapid.T, name string) []index.Package {
	word := rapid.SampledFrom([]string{"a", "b", "tide-model", "tide-model-doc", "Sonar", "x\ty", "é"})
	return rapid.SliceOfN(rapid.Custom(func(t *rapid.T) index.Package {
		return index.Package{
			Name:    word.Draw(t, "name"),
			Version: rapid.SampledFrom([]string{"1", "2:1", "10-1"}).Draw(t, "version"),
			Arch:    "amd64",
		}
	}), 0, 12).Draw(t, name)
}

// A list finds what was put in, stored or not, and tells how it differs from another.
func TestALists(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		packages := drawn(t, "packages")
		l := index.NewList(packages)
		packed, err := l.Pack()
		require.NoError(t, err)
		back, err := index.Unpack(packed)
		require.NoError(t, err)
		require.Equal(t, l.Len(), back.Len())
		for _, p := range packages {
			if p.Name == "x\ty" {
				p.Name = "x y"
			}
			assert.Contains(t, slices.Collect(back.Named(p.Name)), p)
		}
		assert.Empty(t, slices.Collect(back.Named("nothing")))
		assert.Equal(t, index.Changes{}, l.Since(back))
		old := index.NewList(drawn(t, "old"))
		c, r := l.Since(old), old.Since(l)
		assert.Equal(t, []int{c.Added, c.Removed, c.Updated}, []int{r.Removed, r.Added, r.Updated})
		assert.Equal(t, c.Added+c.Removed+c.Updated, len(c.Names))
		names := func(l *index.List) map[string]bool {
			out := map[string]bool{}
			for i := range l.Len() {
				out[l.At(i).Name] = true
			}
			return out
		}
		a, b := names(l), names(old)
		added := 0
		for n := range a {
			if !b[n] {
				added++
			}
		}
		assert.Equal(t, added, c.Added)
	})
}
