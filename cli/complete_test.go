package cli

import (
	"regexp"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
)

// What the service or the program knows the words of is completed, in every command alike.
func TestWhateverHasKnownWordsIsCompleted(t *testing.T) {
	known := regexp.MustCompile(`^(HOST|KEY|REPOSITORY|REVISION|GROUP|NUMBER|CODE)$`)
	flags := map[string]bool{}
	for _, name := range []string{
		"account", "believe", "by", "class", "contract", "fail-on", "family", "format", "group", "has", "kind", "like", "repository", "revision",
		"role", "rollout", "severity", "sort", "state", "to", "where",
	} {
		flags[name] = true
	}
	word := regexp.MustCompile(`[A-Z]{2,}`)
	seen := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Runnable() && !c.Hidden && c.Deprecated == "" {
			for _, w := range word.FindAllString(c.Use, -1) {
				takes := known.MatchString(w) || w == "NAME" && c.Name() == "remove"
				if takes && c.ValidArgsFunction == nil && len(c.ValidArgs) == 0 {
					assert.Fail(t, "an argument without completion", "%s: %s", c.CommandPath(), w)
				}
				seen++
			}
			c.Flags().VisitAll(func(f *pflag.Flag) {
				if _, ok := c.GetFlagCompletionFunc(f.Name); !ok && flags[f.Name] && c.CommandPath() != "lantern host compare" && f.Value.Type() != "bool" {
					assert.Fail(t, "a flag without completion", "%s --%s", c.CommandPath(), f.Name)
				}
			})
		}
		for _, x := range c.Commands() {
			walk(x)
		}
	}
	walk((&app{}).root())
	assert.Greater(t, seen, 40)
}
