package zypp_test

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/cell"
)

// A repository of a service that is not there takes along whatever has its alias, wherever
// that stands: asked of the real zypper.
func TestARepositoryOfNoServiceTakesItsAliasAlong(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	base := t.TempDir()
	const own, none, known = "[x]\nbaseurl=http://a.example/\n", "[x]\nservice=none\n", "[x]\nservice=known\nbaseurl=http://a.example/\n"
	for n, files := range [][]string{
		{own, none}, {none, own}, {own, "[x]\r\nservice=\r\n"}, {"[x]\r\nservice=\r\n"}, {known, none}, {own, known},
		{"[w]\nbaseurl=http://w.example/\n" + own, none + "[y]\nbaseurl=http://y.example/\n"}, {own + "[y]\nservice=none\n", none}, {own, none, own},
	} {
		root := filepath.Join(base, fmt.Sprint(n))
		tree := map[string]string{"etc/zypp/services.d/known.service": "[known]\nurl=http://s.example/\n"}
		for i, text := range files {
			tree[fmt.Sprintf("etc/zypp/repos.d/%c.repo", 'a'+i)] = text
		}
		require.NoError(t, cell.Write(root, tree))
		got, err := ours(root) // first: zypper changes files while it lists
		require.NoError(t, err)
		want, err := theirs(c, root)
		require.NoError(t, err)
		assert.ElementsMatch(t, want.Facts, got.Facts, "%q", files)
	}
}
