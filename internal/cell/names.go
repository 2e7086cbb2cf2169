package cell

import (
	"os"
	"path/filepath"
	"regexp"

	"github.com/stretchr/testify/require"
)

// Names are what the first group of a pattern matches in the files of this machine under some patterns of names, of which
// each has to find one: settings that programs know stand in them.
func Names(t require.TestingT, pattern *regexp.Regexp, files ...string) map[string]bool {
	out := map[string]bool{}
	for _, f := range files {
		found, err := filepath.Glob(f)
		require.NoError(t, err)
		require.NotEmpty(t, found, f)
		for _, name := range found {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			for _, m := range pattern.FindAllSubmatch(text, -1) {
				out[string(m[1])] = true
			}
		}
	}
	return out
}
