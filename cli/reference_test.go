package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// programs are commands that print no answer of their own.
var programs = []string{"serve", "shelf serve", "demo", "openapi", "schema", "man"}

func leaves(c *cobra.Command) (out []*cobra.Command) {
	if !c.HasSubCommands() && !c.Hidden && c.Name() != "help" {
		return []*cobra.Command{c}
	}
	for _, sub := range c.Commands() {
		if sub.Name() != "completion" {
			out = append(out, leaves(sub)...)
		}
	}
	return out
}

func words(c *cobra.Command) string {
	return strings.TrimPrefix(strings.TrimPrefix(c.CommandPath(), "lantern"), " ")
}

func TestEveryCommandHasASchemaAndHelpWithAnExample(t *testing.T) {
	all := []string{""}
	for _, c := range leaves((&app{}).root()) {
		if !slices.Contains(programs, words(c)) {
			all = append(all, words(c))
			assert.Contains(t, answers, words(c), "it prints JSON, and no schema says which")
		}
		assert.Contains(t, c.Example, c.CommandPath(), "the help of %s has an example of it", c.CommandPath())
		assert.NotEmpty(t, c.Short)
	}
	for name := range answers {
		assert.Contains(t, all, name, "there is no such command")
		_, err := answerSchema(name)
		assert.NoError(t, err, name)
	}
}

func TestThePaperOfCommandsIsCurrent(t *testing.T) {
	var out bytes.Buffer
	Reference(&out)
	have, err := os.ReadFile("../docs/commands.md")
	require.NoError(t, err)
	assert.Equal(t, out.String(), string(have), "docs/commands.md is out of date: make types")
}

// shellWords parts a line as a shell does, up to what ends a command; what stands in quotes is
// one word.
func shellWords(line string) (out []string) {
	for _, w := range regexp.MustCompile(`"[^"]*"|'[^']*'|[^\s]+`).FindAllString(line, -1) {
		if w == "|" || w == "&&" || w == ";" || w == ">" || w == "&" || strings.HasPrefix(w, "#") {
			return out
		}
		out = append(out, strings.Trim(w, `"'`))
	}
	return out
}

// understood says what of a command is not: a command, an option or a number of arguments that
// there is not. A line may name a command without its arguments.
func understood(line string) error {
	given := shellWords(line)
	if len(given) < 2 || given[0] != "lantern" && !strings.HasSuffix(given[0], "/lantern") {
		return nil
	}
	root := (&app{}).root()
	root.InitDefaultCompletionCmd("completion")
	c, rest, err := root.Find(given[1:])
	if err != nil || c == root && !strings.HasPrefix(given[1], "-") {
		return fmt.Errorf("there is no such command: %s", line)
	}
	if c.Hidden && c.Annotations["old"] != "" {
		return fmt.Errorf("an old form: %s", line)
	}
	if c.HasSubCommands() && len(rest) > 0 && !strings.HasPrefix(rest[0], "-") && !strings.Contains(rest[0], "|") {
		return fmt.Errorf("%s has no such command: %s", c.CommandPath(), line)
	}
	for i, w := range rest {
		if strings.ContainsAny(w, "…|") { // such as --since … or reader|operator
			rest = rest[:max(0, i-1)]
			break
		}
	}
	if err := c.ParseFlags(rest); err != nil && !strings.Contains(err.Error(), "needs an argument") {
		return fmt.Errorf("%s: %w", line, err)
	}
	return nil
}

func TestExamplesUseCommandsAndOptionsThatThereAre(t *testing.T) {
	tried := 0
	for _, c := range leaves((&app{}).root()) {
		for line := range strings.Lines(c.Example) {
			for part := range strings.SplitSeq(line, "&&") {
				tried++
				assert.NoError(t, understood(strings.TrimSpace(part)))
			}
		}
	}
	assert.Greater(t, tried, 100)
}

// Commands that papers, pages and messages name are there.
func TestPapersAndMessagesNameCommandsThatThereAre(t *testing.T) {
	span := regexp.MustCompile("`((?:bin/)?lantern [^`\n]*)`")
	block := regexp.MustCompile(`(?m)^(?:\s*|\$ )((?:bin/)?lantern [a-z].*)$`)
	message := regexp.MustCompile(`lantern ((?:host|group|cohort|key|repository|waiver|survey|policy|revision|rollout|freeze|channel|contract|seat|account|audit|operator|webhook|shelf|proposal|secrets|setting|drift|heal|explain|whence|read|preview|hosts|learn|adopt|revisions|cohorts|export|thaw)\b(?: [a-z-]+)?)`)
	tried := 0
	check := func(file, line string) {
		tried++
		if err := understood(line); err != nil {
			assert.Failf(t, "not understood", "%s: %v", file, err)
		}
	}
	papers, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	for _, file := range append(papers, "../README.md", "../CONTRIBUTING.md") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		if filepath.Base(file) == "commands.md" || filepath.Base(file) == "decisions.md" {
			continue
		}
		for _, m := range slices.Concat(span.FindAllSubmatch(text, -1), block.FindAllSubmatch(text, -1)) {
			check(file, string(m[1]))
		}
	}
	for _, pattern := range []string{"*.go", "../service/*.go", "../core/*/*.go", "../console/src/*/*.vue", "../agent/*.go"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") || filepath.Base(file) == "grammar.go" || filepath.Base(file) == "reference.go" {
				continue
			}
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, m := range message.FindAllSubmatch(text, -1) {
				first, second, _ := strings.Cut(string(m[1]), " ")
				c, _, err := (&app{}).root().Find([]string{first})
				if err != nil || c.Annotations["old"] != "" {
					assert.Failf(t, "not understood", "%s: lantern %s", file, m[1])
					continue
				}
				if second != "" && c.HasSubCommands() && !strings.HasPrefix(second, "-") {
					check(file, "lantern "+string(m[1]))
				}
				tried++
			}
		}
	}
	assert.Greater(t, tried, 200)
}
