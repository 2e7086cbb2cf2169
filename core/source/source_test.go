package source_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/source"
)

func TestCanonicalDoesNotDependOnTheOrderOfMaps(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := rapid.MapOf(rapid.StringN(1, 4, 8), rapid.String()).Draw(t, "options")
		other := map[string]string{}
		for k, v := range m {
			other[k] = v
		}
		a, err := source.Canonical(source.Source{Options: m})
		require.NoError(t, err)
		b, err := source.Canonical(source.Source{Options: other})
		require.NoError(t, err)
		if source.Digest(a) != source.Digest(b) {
			t.Fatalf("%s\n%s", a, b)
		}
	})
}

func TestIsDigest(t *testing.T) {
	assert.True(t, source.IsDigest(source.Digest([]byte("x"))))
	for _, bad := range []string{"", "abc", source.Digest(nil)[1:], source.Digest(nil)[:63] + "G", source.Digest(nil)[:63] + "A", "../" + source.Digest(nil)[3:]} {
		assert.False(t, source.IsDigest(bad), bad)
	}
}

func TestSameSet(t *testing.T) {
	assert.True(t, source.SameSet([]string{"a", "b", "a"}, []string{"b", "a"}))
	assert.True(t, source.SameSet(nil, []string{}))
	assert.False(t, source.SameSet([]string{"a"}, []string{"a", "b"}))
	assert.False(t, source.SameSet([]string{"a", "b"}, []string{"a"}))
}
