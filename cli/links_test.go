package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// anchors are the names by which the headings of a paper are linked.
func anchors(text string) map[string]bool {
	out := map[string]bool{}
	for _, m := range regexp.MustCompile(`(?m)^#+ (.*)$`).FindAllStringSubmatch(text, -1) {
		name := regexp.MustCompile(`[^a-z0-9 -]`).ReplaceAllString(strings.ToLower(m[1]), "")
		out[strings.ReplaceAll(name, " ", "-")] = true
	}
	return out
}

// Every link of a paper leads somewhere, and every picture is there.
func TestLinksOfPapersLeadSomewhere(t *testing.T) {
	papers, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	papers = append(papers, "../README.md", "../CONTRIBUTING.md", "../SECURITY.md", "../CHANGELOG.md")
	link := regexp.MustCompile(`\]\(([^)\s]+)\)`)
	tried := 0
	for _, paper := range papers {
		text, err := os.ReadFile(paper)
		require.NoError(t, err)
		for _, m := range link.FindAllStringSubmatch(string(text), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			tried++
			file, anchor, _ := strings.Cut(m[1], "#")
			to := paper
			if file != "" {
				to = filepath.Join(filepath.Dir(paper), file)
			}
			_, err := os.Stat(to)
			if !assert.NoError(t, err, "%s: %s", paper, m[1]) || anchor == "" {
				continue
			}
			there, err := os.ReadFile(to)
			require.NoError(t, err)
			assert.True(t, anchors(string(there))[anchor], "%s: %s has no heading %q", paper, to, anchor)
		}
	}
	assert.Greater(t, tried, 50)
}
