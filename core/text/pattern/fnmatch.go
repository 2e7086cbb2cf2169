package pattern

import (
	"strings"
	"unicode"
)

// Fnmatch reports whether a text is of a shell pattern, as fnmatch(3) of the C library has it
// without flags: no character is special in the text, a backslash takes the special meaning
// of what follows, and a bracket that does not end is one. The work is bounded by the product
// of both lengths.
func Fnmatch(pattern, text string) bool { return fnmatch([]rune(pattern), []rune(text)) }

// FnmatchFold is Fnmatch with FNM_CASEFOLD: small and capital letters are alike.
func FnmatchFold(pattern, text string) bool {
	return Fnmatch(strings.ToLower(pattern), strings.ToLower(text))
}

func fnmatch(p, s []rune) bool {
	i, j := 0, 0
	star, from := -1, 0 // the last star, and where in the text what stands behind it was tried
	for j < len(s) {
		if i < len(p) && p[i] == '*' {
			star, from = i, j
			i++
			continue
		}
		if i < len(p) {
			if width, ok := one(p[i:], s[j]); ok {
				i += width
				j++
				continue
			}
		}
		if star < 0 {
			return false
		}
		from++
		i, j = star+1, from
	}
	for i < len(p) && p[i] == '*' {
		i++
	}
	return i == len(p)
}

// one matches one character with the beginning of a pattern, and says how much of that it
// takes.
func one(p []rune, c rune) (width int, ok bool) {
	switch p[0] {
	case '?':
		return 1, true
	case '\\':
		if len(p) == 1 {
			return 1, false
		}
		return 2, p[1] == c
	case '[':
		if width, ok, ends := bracket(p, c); ends {
			return width, ok
		}
	}
	return 1, p[0] == c
}

// bracket matches a character with a bracket expression; ends is false where it has no end.
func bracket(p []rune, c rune) (width int, ok, ends bool) {
	i := 1
	not := i < len(p) && (p[i] == '!' || p[i] == '^')
	if not {
		i++
	}
	for first := true; i < len(p); first = false {
		switch {
		case p[i] == ']' && !first:
			return i + 1, ok != not, true
		case p[i] == '[' && i+1 < len(p) && p[i+1] == ':':
			end := strings.Index(string(p[i+2:]), ":]")
			if end >= 0 {
				name := string(p[i+2:])[:end]
				ok = ok || inClass(name, c)
				i += 2 + len([]rune(name)) + 2
				continue
			}
		}
		low, next, there := single(p, i)
		if !there {
			return 0, false, false
		}
		high := low
		if next+1 < len(p) && p[next] == '-' && p[next+1] != ']' {
			if high, next, there = single(p, next+1); !there {
				return 0, false, false
			}
		}
		ok = ok || low <= c && c <= high
		i = next
	}
	return 0, false, false
}

// single is a character of a bracket expression, and where the next one stands.
func single(p []rune, i int) (c rune, next int, there bool) {
	if p[i] == '\\' {
		i++
	}
	if i >= len(p) {
		return 0, i, false
	}
	return p[i], i + 1, true
}

// inClass reports whether a character is of a class of POSIX, as far as ASCII goes.
func inClass(name string, c rune) bool {
	if c >= unicode.MaxASCII {
		return false
	}
	digit, lower, upper := c >= '0' && c <= '9', c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z'
	switch name {
	case "alnum":
		return digit || lower || upper
	case "alpha":
		return lower || upper
	case "digit":
		return digit
	case "lower":
		return lower
	case "upper":
		return upper
	case "space":
		return c == ' ' || c >= '\t' && c <= '\r'
	case "blank":
		return c == ' ' || c == '\t'
	case "punct":
		return c > ' ' && c < 0x7f && !digit && !lower && !upper
	case "xdigit":
		return digit || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
	case "print":
		return c >= ' ' && c < 0x7f
	case "graph":
		return c > ' ' && c < 0x7f
	case "cntrl":
		return c < ' ' || c == 0x7f
	}
	return false
}
