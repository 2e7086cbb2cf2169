package cli

import (
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestALineOfUsageSaysWhatIsMissing(t *testing.T) {
	for _, x := range []struct{ use, given, says string }{
		{"export HOST -o FILE", "", "HOST is missing"},
		{"export HOST -o FILE", "a b", `"b" is one word too many`},
		{"adopt [HOST...] FILE[:LINE] FOLDER", "gw-01", "FOLDER is missing"},
		{"adopt HOST FILE[:LINE] FOLDER", "gw-01 /f ./p x y", `"x" is one word too many`},
		{"label HOST... [KEY=VALUE | KEY-]...", "", "HOST is missing"},
		{"explain HOST [FILE[:LINE] | REPOSITORY]", "a b c", `"c" is one word too many`},
		{"accept HOST --because WHY", "", "HOST is missing"},
		{"schema survey | policy | COMMAND...", "", "survey | policy | COMMAND... is missing"},
		{"list", "a b", `"a" is one word too many`},
	} {
		assert.Equal(t, x.says, strings.Replace(lacks(x.use, strings.Fields(x.given)), "COMMAND is", "COMMAND... is", 1), x.use)
	}
}

// What a line of usage demands is what its command demands: fewer words or more are refused, and as
// many are not, whatever they are. Commands for many hosts take flags in their place.
func TestUsageIsTrue(t *testing.T) {
	commands := slices.DeleteFunc(leaves((&app{}).root()), func(c *cobra.Command) bool {
		return c.Args == nil || strings.Contains(c.Use, "HOST...")
	})
	require.Greater(t, len(commands), 60)
	rapid.Check(t, func(rt *rapid.T) {
		c := commands[rapid.IntRange(0, len(commands)-1).Draw(rt, "command")]
		needed, optional := demands(c.Use)
		if slices.Contains(needed, "|") {
			needed = needed[:1]
		}
		given := rapid.SliceOfN(rapid.StringMatching(`[a-z0-9./-]{1,9}`), 0, 6).Draw(rt, "words")
		open := strings.Contains(c.Use, "...")
		fits := len(given) >= len(needed) && (open || len(given) <= len(needed)+optional)
		assert.Equal(rt, fits, c.Args(c, given) == nil, "%s with %q", c.CommandPath(), given)
	})
}
