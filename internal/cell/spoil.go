package cell

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"pgregory.net/rapid"
)

// odd are texts that formats of lines stumble over.
var odd = []string{
	"\r", "\t", " ", "\v", "\f", "\u00a0", "\ufeff", "\u2028", "#", ";", "\"", "'", "\\", "\\\n", "[", "]", "=", ":", ",",
	"%", "%20", "$", "${", "}", "$(ARCH)", "\n", "\n\n", " \n", "\n ", "\n\t", "\r\n", "\n#", "\n;", "\n[", "\n[]\n", "é",
	"/", "//", "@", "~", "*", "!", "0", "-", "+", "<", ">", "|", "&", "(", ")",
}

// Spoilt draws trees of which some have been spoilt: a few bytes came, went or changed places
// anywhere in their files, as by a slip of a hand, a bad script or a broken copy. It does so where -rapid.checks is
// given: what a release of a program makes of any byte is looked into by hand, and decides no other test run.
func Spoilt(trees *rapid.Generator[map[string]string], sparing ...string) *rapid.Generator[map[string]string] {
	if Rounds(0) == 0 {
		return trees
	}
	return rapid.Custom(func(t *rapid.T) map[string]string {
		tree := trees.Draw(t, "whole")
		names := slices.DeleteFunc(slices.Sorted(maps.Keys(tree)), func(name string) bool {
			return slices.ContainsFunc(sparing, func(s string) bool { return strings.HasPrefix(name, s) })
		})
		if len(names) == 0 {
			return tree
		}
		tree = maps.Clone(tree)
		for range rapid.IntRange(0, 3).Draw(t, "slips") {
			name := rapid.SampledFrom(names).Draw(t, "in")
			tree[name] = slip(t, tree[name])
		}
		return tree
	})
}

// Without leaves out trees in which a pattern stands: what a program cannot print so that it is read again, or what
// one release of it reads otherwise than the next.
func Without(trees *rapid.Generator[map[string]string], pattern string) *rapid.Generator[map[string]string] {
	re := regexp.MustCompile(pattern)
	return trees.Filter(func(tree map[string]string) bool {
		for _, text := range tree {
			if re.MatchString(text) {
				return false
			}
		}
		return true
	})
}

// Slips is a text after none, one or two slips, where -rapid.checks is given.
func Slips(t *rapid.T, text string) string {
	if Rounds(0) == 0 {
		return text
	}
	for range rapid.IntRange(0, 2).Draw(t, "slips") {
		text = slip(t, text)
	}
	return text
}

// slip is a text after one slip.
func slip(t *rapid.T, text string) string {
	from := rapid.IntRange(0, len(text)).Draw(t, "from")
	to := min(len(text), from+rapid.IntRange(0, 6).Draw(t, "long"))
	switch rapid.SampledFrom([]string{"come", "come", "go", "twice", "case", "cut", "lines", "lines"}).Draw(t, "slip") {
	case "come":
		return text[:from] + rapid.SampledFrom(odd).Draw(t, "odd") + text[from:]
	case "go":
		return text[:from] + text[to:]
	case "twice":
		return text[:to] + text[from:]
	case "case":
		return text[:from] + strings.Map(turned, text[from:to]) + text[to:]
	case "cut":
		return text[:from]
	}
	lines := strings.SplitAfter(text, "\n")
	i, j := rapid.IntRange(0, len(lines)-1).Draw(t, "line"), rapid.IntRange(0, len(lines)-1).Draw(t, "other")
	switch {
	case from%3 == 0:
		lines = slices.Insert(lines, j, lines[i])
	case from%3 == 1:
		lines = slices.Delete(lines, i, i+1)
	default:
		lines[i], lines[j] = lines[j], lines[i]
	}
	return strings.Join(lines, "")
}

func turned(r rune) rune {
	if unicode.IsUpper(r) {
		return unicode.ToLower(r)
	}
	return unicode.ToUpper(r)
}
