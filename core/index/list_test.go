package index_test

import (
	"slices"
	"testing"

	"github.com/klauspost/compress/zstd"
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
			Build:   index.Build{Says: rapid.Uint32Range(0, 2).Draw(t, "says"), Sum: [12]byte{rapid.ByteRange(0, 1).Draw(t, "sum")}},
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

// What is replaced under its version is told; what is kept from times when nothing was known of builds tells of none.
func TestAnotherBuild(t *testing.T) {
	one := func(version string, b index.Build) *index.List {
		return index.NewList([]index.Package{{Name: "tern", Version: version, Arch: "amd64", Build: b}})
	}
	a, b := index.Build{Says: 1}, index.Build{Says: 1, Sum: [12]byte{1}}
	for _, x := range []struct {
		was, is *index.List
		names   []string
	}{
		{one("1", a), one("1", a), nil},
		{one("1", a), one("1", b), []string{"tern 1 is another build"}},
		{one("1", index.Build{}), one("1", b), nil},
		{one("1", b), one("1", index.Build{}), nil},
		{one("1", a), one("2", b), []string{"tern 1 became 2"}},
	} {
		c := x.is.Since(x.was)
		assert.Equal(t, x.names, c.Names)
		assert.Equal(t, len(x.names), c.Updated)
	}
}

// Lists that older versions have stored hold lines alone.
func TestAListOfAnOlderVersion(t *testing.T) {
	w, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	old, err := index.Unpack(w.EncodeAll([]byte("tern\t1\tamd64\t\tbirds\n"), nil))
	require.NoError(t, err)
	assert.Equal(t, index.Package{Name: "tern", Version: "1", Arch: "amd64", Source: "birds"}, old.At(0))
}
